"""The whole walk from the window: off its thread, with progress; stopped, it goes on where it was."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from jiyuu.desktop.bench.measuring import EMPTY_SHELF, NO_UNIT, compiled
from jiyuu.desktop.bench.setup.plan_page import PlanPage
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.session import Session


class Walking(QObject):
    """One walk at a time, on the filter that was in hand when it began."""

    message = pyqtSignal(str, bool)

    def __init__(self, session: Session, plan: PlanPage) -> None:
        super().__init__()
        self._session, self._plan = session, plan
        self.jobs = Jobs(self)
        self.jobs.stepped.connect(self._on_step)
        self.jobs.finished.connect(lambda: self._ended("The walk is done.", False))
        self.jobs.cancelled.connect(lambda: self._ended("Stopped. What was measured is kept; start again to go on.",
                                                        False))
        self.jobs.failed.connect(lambda text: self._ended(text, True))
        plan.walk.connect(self.start)
        plan.cancel.connect(self.cancel)

    def start(self) -> None:
        """Measure what is open or out of date for the filter in hand."""
        shelved = self._session.in_hand
        if shelved is None or shelved.seed is None:
            self.message.emit(EMPTY_SHELF if shelved is None else NO_UNIT, True)
            return
        if self.jobs.busy:
            return
        book, seed = self._session.book, shelved.seed
        document, settings, setup = self._session.document(), self._session.settings(), self._session.setup()

        def steps() -> Iterator[Any]:
            from jiyuu.book.whole_walk import walk_on
            from jiyuu.rig.simulated import SimulatedRig

            yield from compiled(document)
            yield from walk_on(book, shelved.id, document, settings, setup, SimulatedRig(document, seed=seed),
                               source="simulated rig")

        self._plan.show_busy(True)
        self.jobs.start(steps)

    def cancel(self) -> None:
        if self.jobs.busy:
            self.jobs.cancel()

    def _on_step(self, step: Any) -> None:
        self._plan.show_progress(step.text, step.share)

    def _ended(self, text: str, error: bool) -> None:
        self._plan.show_busy(False)
        self._session.book_changed.emit()
        self.message.emit(text, error)
