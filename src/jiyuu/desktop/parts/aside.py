"""A window beside the bench: not modal, put away by Esc wherever in it one is."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QWidget


class Aside(QWidget):
    """Esc is its own while it is looked at, and not the bench's, which would call a measurement off."""

    def __init__(self, parent: QWidget, title: str) -> None:
        super().__init__(parent, Qt.WindowType.Tool)
        self.setWindowTitle(title)

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
