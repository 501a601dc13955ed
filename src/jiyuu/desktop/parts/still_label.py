"""A line or two of text that changes while a control is dragged, without laying out the window anew each time."""

from __future__ import annotations

from PyQt6.QtGui import QFontMetrics, QResizeEvent
from PyQt6.QtWidgets import QLabel, QSizePolicy, QWidget

from jiyuu.desktop.theme.style import SMALL_PX, THEME


class StillLabel(QWidget):
    """Holds its label without a layout: a label that changes its text asks its layout for room, and this one always
    has the same."""

    def __init__(self, lines: int) -> None:
        super().__init__()
        self._lines = lines
        self._label = QLabel(self)
        self._label.setProperty("role", "quiet")
        self._label.setWordWrap(True)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.restyle()

    def setText(self, text: str) -> None:
        self._label.setText(text)

    def text(self) -> str:
        return self._label.text()

    def restyle(self) -> None:
        """Room for the lines at the size of type in force."""
        self.setFixedHeight(self._lines * QFontMetrics(THEME.font(px=SMALL_PX)).lineSpacing() + 4)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._label.setGeometry(self.rect())
