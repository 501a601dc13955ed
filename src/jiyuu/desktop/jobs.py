"""Work off the interface thread: one job at a time per owner, with progress, cancel, and late results dropped."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from typing import Any

from PyQt6.QtCore import QObject, QThread, pyqtSignal

from jiyuu.errors import JiyuuError

Steps = Callable[[], Iterator[Any]]


class _Worker(QThread):
    stepped = pyqtSignal(object, object)  # id, what the job yielded
    ended = pyqtSignal(object, object)  # id, None or the error's text

    def __init__(self, number: int, steps: Steps) -> None:
        super().__init__()
        self.number, self._steps = number, steps
        self.cancel = threading.Event()

    def run(self) -> None:
        error: str | None = None
        try:
            for step in self._steps():
                if self.cancel.is_set():
                    break
                self.stepped.emit(self.number, step)
        except JiyuuError as problem:
            error = str(problem)
        except Exception as problem:  # the window must say it and live on; the log keeps the details
            import traceback

            traceback.print_exc()
            error = f"Something went wrong inside the application ({type(problem).__name__}: {problem})."
        self.ended.emit(self.number, error)


class Jobs(QObject):
    """Runs the steps a function yields. Every job ends with exactly one of finished, cancelled, failed."""

    stepped = pyqtSignal(object)
    finished = pyqtSignal()
    cancelled = pyqtSignal()
    failed = pyqtSignal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._current: _Worker | None = None
        self._living: set[_Worker] = set()
        self._count = 0

    @property
    def busy(self) -> bool:
        return self._current is not None

    def start(self, steps: Steps) -> None:
        """Start; a job still running is cancelled and its later results are dropped."""
        if self._current is not None:
            self._current.cancel.set()
        self._count += 1
        worker = _Worker(self._count, steps)
        self._current = worker
        self._living.add(worker)
        worker.stepped.connect(self._on_step)
        worker.ended.connect(self._on_end)
        worker.finished.connect(lambda: self._living.discard(worker))
        worker.start()

    def cancel(self) -> None:
        if self._current is not None:
            self._current.cancel.set()
            self._current = None
            self.cancelled.emit()

    def wait(self) -> None:
        """Cancel and wait until no thread is left; for closing."""
        for worker in list(self._living):
            worker.cancel.set()
            worker.wait()
        self._current = None

    def _on_step(self, number: int, step: object) -> None:
        if self._current is not None and self._current.number == number:
            self.stepped.emit(step)

    def _on_end(self, number: int, error: str | None) -> None:
        if self._current is None or self._current.number != number:
            return
        self._current = None
        if error is None:
            self.finished.emit()
        else:
            self.failed.emit(error)
