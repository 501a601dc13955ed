"""Measuring from the window: one measurement at a time, off the interface thread, every run kept as it ends."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from PyQt6.QtCore import QObject, pyqtSignal

from jiyuu.bench.run import Run, keep
from jiyuu.bench.setting import Setting
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.bench.walk import measured, walk_on
from jiyuu.book.stored import Shelved
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.session import Session
from jiyuu.progress import Progress

EMPTY_SHELF = ("There is no filter on the shelf yet: add one (Book, Add a filter), or drop a *.filter.json or "
               "*.patch.json file here.")
NO_UNIT = "This filter has no simulated unit: drop a stimulus and its recording instead."


class Measuring(QObject):
    """`going` says of which filter and how far; `kept` of which filter a run was put into the book."""

    busy = pyqtSignal(bool)
    going = pyqtSignal(str, float)
    message = pyqtSignal(str, bool)
    kept = pyqtSignal(int)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self._of = ""
        self._filter = 0
        self._runs = 0
        self._done = ""
        self.jobs = Jobs(session.crew, "measuring", self)
        self.jobs.stepped.connect(self._on_step)
        self.jobs.finished.connect(self._on_finished)
        self.jobs.cancelled.connect(self._on_cancelled)
        self.jobs.failed.connect(self._on_failed)

    def measure(self, step: Step, *, setting: Setting | None = None) -> bool:
        """One step on the simulated unit of the filter in hand; False, and said why, where it cannot begin."""
        chosen = self._ready(needs_unit=True)
        if chosen is None:
            return False
        standing, asked = self._session.standing(), setting or self._session.setting(step)
        refused = step.refuse(standing, asked)
        if refused is not None:
            self.message.emit(refused, True)
            return False

        def steps() -> Iterator[Progress | Run]:
            from jiyuu.rig.simulated import SimulatedRig

            yield from measured(step, standing, asked, SimulatedRig(standing.filter, seed=chosen.seed or 0))

        self._begin(chosen, step.name, steps)
        return True

    def read(self, what: str, make: Callable[[Standing], Iterator[Progress | Run]]) -> bool:
        """A run made of files instead of a unit."""
        chosen = self._ready(needs_unit=False)
        if chosen is None:
            return False
        standing = self._session.standing()
        self._begin(chosen, what, lambda: make(standing))
        return True

    def walk(self) -> bool:
        """Every step that is open or out of date, one after the other."""
        chosen = self._ready(needs_unit=True)
        if chosen is None:
            return False
        book, standing, kept = self._session.book, self._session.standing(), dict(self._session.kept())

        def steps() -> Iterator[Progress | Run]:
            from jiyuu.rig.simulated import SimulatedRig

            yield from walk_on(book, chosen.id, standing, kept,
                               lambda: SimulatedRig(standing.filter, seed=chosen.seed or 0))

        self._begin(chosen, "Whole walk", steps, done="The walk is done.")
        return True

    def cancel(self) -> None:
        self.jobs.cancel()

    def _ready(self, *, needs_unit: bool) -> Shelved | None:
        """The filter in hand, or None, and said why, when there is nothing to measure or something else is."""
        chosen = self._session.in_hand
        if chosen is None:
            self.message.emit(EMPTY_SHELF, True)
        elif needs_unit and chosen.seed is None:
            self.message.emit(NO_UNIT, True)
        elif self.jobs.busy:
            self.message.emit(f"{self._of} is being measured; wait, or cancel it with Esc.", True)
        else:
            return chosen
        return None

    def _begin(self, chosen: Shelved, what: str, steps: Callable[[], Iterator[object]], *, done: str = "") -> None:
        book, filter_id = self._session.book, chosen.id

        def kept() -> Iterator[object]:
            for step in steps():
                if isinstance(step, Run):
                    keep(book, filter_id, step)  # on this thread: it writes megabytes
                yield step

        self._of, self._filter, self._runs, self._done = f"{chosen.letter}, {what}", filter_id, 0, done
        self.busy.emit(True)
        self.going.emit(f"{self._of}: starting", 0.0)
        self.jobs.start(kept)

    def _on_step(self, step: object) -> None:
        if isinstance(step, Progress):
            self.going.emit(f"{self._of}: {step.text}", step.share)
            return
        self._runs += 1
        self._session.runs_changed()
        self.kept.emit(self._filter)

    def _on_finished(self) -> None:
        self.busy.emit(False)
        if self._done:
            self._session.runs_changed()
            self.kept.emit(self._filter)
        self.message.emit(self._done or f"{self._of}: measured and kept in the book.", False)

    def _on_cancelled(self) -> None:
        self.busy.emit(False)
        self._session.runs_changed()
        left = "what was measured until then is kept" if self._runs or self._done else "nothing was kept of it"
        self.message.emit(f"{self._of}: cancelled; {left}.", False)

    def _on_failed(self, text: str) -> None:
        self.busy.emit(False)
        self._session.runs_changed()
        self.message.emit(f"{self._of}: {text}", True)
