"""The code of views that were not looked at yet, read while nobody waits."""

from __future__ import annotations

import sys
from importlib import import_module

from PyQt6.QtCore import QObject, QTimer

import jiyuu.desktop.steps
from jiyuu.bench.walk import walk

FROM_MS = 300  # the first figure comes first
APART_MS = 30  # one step takes about as long: what a person does comes in between


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


def unread() -> list[str]:
    """Modules of the steps' views that are not there yet."""
    names = [f"{jiyuu.desktop.steps.__name__}.{step.key}" for step in walk()]
    return [name for name in names if name not in sys.modules]
