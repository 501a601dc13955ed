"""A measurement from a step: off the interface thread, with progress and cancel, and every run kept as it ends."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from jiyuu.circuits.filter_file import Filter
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.session import Session

EMPTY_SHELF = "There is no filter on the shelf yet: add one (Ctrl+F), or drop a *.filter.json file on the window."
NO_UNIT = "This filter has no simulated unit: drop a stimulus and its recording instead."


class Measuring(QObject):
    """One measurement at a time. `kept` says for which filter a run was put into the book."""

    busy = pyqtSignal(bool)
    progress = pyqtSignal(str, float)
    message = pyqtSignal(str, bool)
    kept = pyqtSignal(int)

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self._filter: int | None = None
        self.jobs = Jobs(self)
        self.jobs.stepped.connect(self._on_step)
        self.jobs.finished.connect(lambda: self.busy.emit(False))
        self.jobs.cancelled.connect(self._on_cancelled)
        self.jobs.failed.connect(self._on_failed)

    def may_begin(self, *, needs_unit: bool) -> bool:
        """False, and said why, when there is nothing to measure or a measurement is under way."""
        shelved = self._session.in_hand
        if shelved is None:
            self.message.emit(EMPTY_SHELF, True)
        elif needs_unit and shelved.seed is None:
            self.message.emit(NO_UNIT, True)
        else:
            return not self.jobs.busy
        return False

    def begin(self, filter_id: int, steps: Callable[[], Iterator[Any]], keep: Callable[[Any], object]) -> None:
        """steps yields Progress and runs; each run goes through keep, on the worker's thread: it writes megabytes."""

        def kept() -> Iterator[Any]:
            from jiyuu.rig.response_run import Progress

            for step in steps():
                if not isinstance(step, Progress):
                    keep(step)
                yield step

        self._filter = filter_id
        self.busy.emit(True)
        self.progress.emit("Starting", 0.0)
        self.jobs.start(kept)

    def cancel(self) -> None:
        self.jobs.cancel()

    def _on_step(self, step: object) -> None:
        from jiyuu.rig.response_run import Progress

        if isinstance(step, Progress):
            self.progress.emit(step.text, step.share)
            return
        self._session.book_changed.emit()
        if self._filter is not None:
            self.kept.emit(self._filter)

    def _on_cancelled(self) -> None:
        self.busy.emit(False)
        self.message.emit("Measurement cancelled; nothing was kept of it.", False)

    def _on_failed(self, text: str) -> None:
        self.busy.emit(False)
        self.message.emit(text, True)


def compiled(document: Filter) -> Iterator[Any]:
    """Compiles the filter's kernel where that has not been done: in a process of its own, since in this one it would
    hold the window. Yields progress while it does."""
    from jiyuu.rig.response_run import Progress
    from jiyuu.simulation.kernels import compile_apart, is_compiled

    if not is_compiled(document.network()):
        yield Progress("Compiling this circuit (once, some seconds)", 0.01)
        compile_apart(document.circuit, document.parameters)
