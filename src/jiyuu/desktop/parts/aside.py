"""A window beside the bench: not modal, put away by Esc wherever in it one is."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QEvent, QSize, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QLabel, QPushButton, QVBoxLayout, QWidget

from jiyuu.desktop.theme.style import STEP, THEME


def quiet(text: str = "") -> QLabel:
    """Words that explain, as wide as there is room."""
    said = QLabel(text)
    said.setWordWrap(True)
    said.setProperty("role", "quiet")
    return said


def main_button(text: str, then: Callable[[], object]) -> QPushButton:
    """What the window beside is there for."""
    button = QPushButton(text)
    button.setProperty("main", True)
    button.clicked.connect(lambda _: then())
    return button


class Aside(QWidget):
    """Esc is its own while it is looked at, and not the bench's, which would call a measurement off."""

    def __init__(self, parent: QWidget, title: str, size_px: tuple[int, int] | None = None) -> None:
        """size_px: in type of usual size; as it needs to be when not given."""
        super().__init__(parent, Qt.WindowType.Tool)
        self.setWindowTitle(title)
        self._size = None if size_px is None else QSize(*size_px)
        self._grow()
        THEME.changed.connect(self._grow)

    def _grow(self) -> None:
        """With the type, as far as the screen has room."""
        screen, layout = self.screen(), self.layout()
        if layout is not None:
            layout.activate()  # else what the old type needed is the least that it may be
        if self._size is not None and screen is not None:
            self.resize((self._size * THEME.scale).boundedTo(screen.availableSize()))

    def sheet(self, about: str = "") -> QVBoxLayout:
        """The column that a kind fills; about: what it is for, over it."""
        column = QVBoxLayout(self)
        column.setContentsMargins(3 * STEP, 3 * STEP, 3 * STEP, 3 * STEP)
        column.setSpacing(2 * STEP)
        if about:
            column.addWidget(quiet(about))
        return column

    def bring(self) -> None:
        """Into sight, in front."""
        self.show()
        self.raise_()
        self.activateWindow()

    def event(self, event: QEvent | None) -> bool:
        if (isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride
                and event.key() == Qt.Key.Key_Escape):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() == Qt.Key.Key_Escape:
            self.close()
        else:
            super().keyPressEvent(event)
