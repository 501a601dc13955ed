"""The line above the figures that says what happened."""

from __future__ import annotations

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QLabel

from jiyuu.desktop.theme.style import STEP

SHOWN_MS = 6000


class Notice(QLabel):
    """A message goes after some seconds; an error stays until the next thing is said."""

    def __init__(self) -> None:
        super().__init__()
        self.setWordWrap(True)
        self.setContentsMargins(3 * STEP, STEP, 2 * STEP, STEP)
        self.setAccessibleName("Message")
        self.hide()
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self.hide)

    def say(self, text: str, *, error: bool) -> None:
        self.setText(text)
        self.setProperty("role", "error" if error else "message")
        style = self.style()
        assert style is not None
        style.unpolish(self)
        style.polish(self)
        self.show()
        if error:
            self._timer.stop()
        else:
            self._timer.start(SHOWN_MS)
