"""Views that were not looked at yet: their code is read, and they are made, while nobody waits."""

from __future__ import annotations

import sys
from importlib import import_module
from typing import TYPE_CHECKING

from PyQt6.QtCore import QEvent, QObject, Qt, QTimer
from PyQt6.QtGui import QCursor, QGuiApplication

import jiyuu.desktop.steps
from jiyuu.bench.walk import walk

if TYPE_CHECKING:
    from jiyuu.desktop.window import MainWindow

FROM_MS = 300  # the first figure comes first
APART_MS = 30  # one step takes about as long: what a person does comes in between
CALM_MS = 600  # a hand that has rested for so long hardly notices that a view takes a tenth of a second


class ReadAhead(QTimer):
    """Reads one step at a time, in the order of the walk, so that what is opened next need not wait for it; not in a
    thread of its own, which would share the interpreter with whatever is opened meanwhile."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.timeout.connect(self._read_one)
        self.start(FROM_MS)

    def _read_one(self) -> None:
        left = unread()
        if left:
            import_module(left[0])
            self.start(APART_MS)
        else:
            self.stop()


class MakeAhead(QTimer):
    """Makes one view at a time, those that come next in the walk first, while the hand rests and nothing is computed:
    a step opens with its picture. For a window that is shown."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window)
        self._window = window
        self._left = [step.key for step in walk()]
        self._hand, self._typed = QCursor.pos(), False
        handle = window.windowHandle()
        if handle is not None:  # where every key arrives before it is known whose it is
            handle.installEventFilter(self)
        self.timeout.connect(self._make_one)
        self.start(CALM_MS)

    def _make_one(self) -> None:
        moved, self._hand = self._hand != QCursor.pos(), QCursor.pos()
        typed, self._typed = self._typed, False
        held = QGuiApplication.mouseButtons() != Qt.MouseButton.NoButton
        if moved or typed or held or self._window.session.crew.busy or unread():
            return  # and looks again
        keys = [step.key for step in walk()]
        here = keys.index(self._window.step)
        self._left.remove(key := next(key for key in (*keys[here:], *keys[:here]) if key in self._left))
        self._window.view(key)
        if not self._left:
            self.stop()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        self._typed = self._typed or (event is not None and event.type() == QEvent.Type.KeyPress)
        return False


def unread() -> list[str]:
    """Modules of the steps' views that are not there yet."""
    names = [f"{jiyuu.desktop.steps.__name__}.{step.key}" for step in walk()]
    return [name for name in names if name not in sys.modules]
