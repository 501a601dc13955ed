"""Work off the interface thread: one job at a time per owner, with progress, calling off, and late results dropped.

Nobody ever waits for a thread on the interface thread: what is called off ends by itself at its next checkpoint, and
whoever must know when nothing runs any more (a window that closes) listens to its crew.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator

from PyQt6.QtCore import QObject, QThread, pyqtSignal

from jiyuu.desktop.memory import tidy
from jiyuu.errors import JiyuuError
from jiyuu.stopping import Stopped, checkpoint, stoppable

Steps = Callable[[], Iterator[object]]
LONG_S = 0.5  # what took so long has left something behind


class _Worker(QThread):
    stepped = pyqtSignal(object, object)  # id, what the job yielded
    ended = pyqtSignal(object, object)  # id, None or the error's text

    def __init__(self, number: int, what: str, steps: Steps) -> None:
        super().__init__()
        self.number, self.what, self._steps = number, what, steps
        self.stop = threading.Event()

    def run(self) -> None:
        error: str | None = None
        begun = time.monotonic()
        try:
            with stoppable(self.stop):
                for step in self._steps():
                    checkpoint()
                    self.stepped.emit(self.number, step)
        except Stopped:
            pass
        except JiyuuError as problem:
            error = str(problem)
        except Exception as problem:  # the window must say it and live on; the log keeps the details
            import traceback

            traceback.print_exc()
            error = f"Something went wrong inside the application ({type(problem).__name__}: {problem})."
        self.ended.emit(self.number, error)
        if time.monotonic() - begun > LONG_S:
            tidy()


class Crew(QObject):
    """Everyone who works for one window. `idle` is emitted when the last one has ended."""

    idle = pyqtSignal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._living: set[_Worker] = set()

    def join(self, worker: _Worker) -> None:
        """Until it ends."""
        self._living.add(worker)
        worker.finished.connect(self._left)

    def _left(self) -> None:
        self._living = {worker for worker in self._living if not worker.isFinished()}
        if not self._living:
            self.idle.emit()

    @property
    def busy(self) -> bool:
        return bool(self._living)

    def at_work(self) -> list[str]:
        """What is being done, each once."""
        return sorted({worker.what for worker in self._living})

    def call_off(self) -> None:
        """Ask everyone to stop; nobody is waited for."""
        for worker in self._living:
            worker.stop.set()


class Jobs(QObject):
    """Runs the steps a function yields. Every job ends with exactly one of finished, cancelled, failed. what: the work
    in a word or two, for whoever has to wait for its end."""

    stepped = pyqtSignal(object)
    finished = pyqtSignal()
    cancelled = pyqtSignal()
    failed = pyqtSignal(str)

    def __init__(self, crew: Crew, what: str, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._crew, self._what = crew, what
        self._current: _Worker | None = None
        self._count = 0

    @property
    def busy(self) -> bool:
        return self._current is not None

    def start(self, steps: Steps) -> None:
        """Start; a job still running is called off and its later results are dropped."""
        self.drop()
        self._count += 1
        worker = _Worker(self._count, self._what, steps)
        self._current = worker
        worker.stepped.connect(self._on_step)
        worker.ended.connect(self._on_end)
        self._crew.join(worker)
        worker.start()

    def drop(self) -> None:
        """Call off without a word: something newer has taken its place."""
        if self._current is not None:
            self._current.stop.set()
            self._current = None

    def cancel(self) -> None:
        """Call off, and say so."""
        if self._current is not None:
            self.drop()
            self.cancelled.emit()

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
