"""What the presenters of all steps are: they hold trial values, wait for the hand, compute beside the window, drop what
was overtaken, and know what is measured and whether it still holds. A step adds only what is its own."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.bench.walk import why_out_of_date
from jiyuu.book.stored import LoggedFinding, Shelved, StoredRun
from jiyuu.book.table import Table
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.path.words import stage_name
from jiyuu.desktop.session import Session
from jiyuu.errors import JiyuuError
from jiyuu.measurement.finding import Finding
from jiyuu.remembered import Remembered

PAUSE_MS = 80  # what takes longer than a frame waits until the hand slows down
MEASURED_HEADING = "Measured; ± is 95 %, K keeps one. Quiet: predicted."
PREDICTED_HEADING = "Predicted from the circuit; nothing measured yet (M)."


COMPUTED_BEFORE = 8  # of all steps together; the largest, of a filter that moves, are two megabytes for four seconds
_COMPUTED: Remembered[list[object]] = Remembered(COMPUTED_BEFORE)


@dataclass(frozen=True, slots=True, eq=False)
class Said:
    """A heading, the findings from the book, predicted ones, and what is wrong with the measurement; which of the two
    come first."""

    heading: str
    logged: list[LoggedFinding]
    predicted: tuple[Finding, ...] = ()
    warnings: tuple[str, ...] = ()
    predicted_first: bool = False


class StepPresenter(QObject):
    """`wake` and `sleep` say whether the step is looked at; nothing is computed for one that is not. Kinds override
    `show_standing`, `compute`, `on_computed`, `show_run`, `predicted_findings`."""

    standing = pyqtSignal(object)  # Standing, whenever anything has moved
    findings = pyqtSignal(object)  # Said
    slept = pyqtSignal()
    message = pyqtSignal(str, bool)  # text, is an error
    predicted_first = False
    remembers = False  # what is computed follows from the standing and the setting alone, so it need not be done twice

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session)
        self._session, self._measuring, self.step = session, measuring, step
        self._awake = self._fresh = False
        self._trial: dict[str, object] = {}
        self.run: StoredRun | None = None
        self.tables: dict[str, Table] = {}
        self.logged: list[LoggedFinding] = []
        self.stale_why: str | None = None
        self.jobs = Jobs(session.crew, f"computing {step.name}", self)
        self.jobs.stepped.connect(self.on_computed)
        self.jobs.failed.connect(lambda text: self.message.emit(text, True))
        self._pause = QTimer(self)
        self._pause.setSingleShot(True)
        self._pause.setInterval(PAUSE_MS)
        self._pause.timeout.connect(self._settled)
        session.filter_changed.connect(self._changed)
        session.settings_changed.connect(self._changed)
        session.book_changed.connect(self._book_changed)

    # What stands

    @property
    def shelved(self) -> Shelved | None:
        return self._session.in_hand

    @property
    def letter(self) -> str:
        """Of the filter in hand."""
        return self.shelved.letter if self.shelved else "A"

    @property
    def setting(self) -> Any:
        """What the step is asked."""
        return self._session.setting(self.step)

    def now(self) -> Standing:
        """The filter in hand as it stands, with what is being dragged on top."""
        standing = self._session.standing()
        return standing.moved(**self._trial) if self._trial else standing

    @property
    def dragging(self) -> bool:
        return bool(self._trial)

    @property
    def awake(self) -> bool:
        """The step is looked at."""
        return self._awake

    @property
    def fresh(self) -> bool:
        """What the views show is of the filter in hand as it stands."""
        return self._fresh

    @property
    def waiting(self) -> bool:
        """Something is still to be computed or being computed for what stands."""
        return self._pause.isActive() or self.jobs.busy

    # Looked at or not

    def wake(self) -> None:
        """The step is looked at."""
        self._awake = True
        if not self._fresh:
            self.refresh()

    def sleep(self) -> None:
        """The step is not looked at any more: what waits or computes for it is begun anew when it is."""
        self._awake = False
        if self.waiting:
            self._pause.stop()
            self.jobs.drop()
            self._fresh = False
        self.slept.emit()

    def _changed(self) -> None:
        self._fresh = False
        self._trial = {}
        if self._awake:
            self.refresh()

    def _book_changed(self) -> None:
        if self._awake and self._fresh and self.shelved is not None:
            self._read_run()
        else:
            self._fresh = False

    def refresh(self) -> None:
        """Everything anew."""
        if self.shelved is None:
            return
        self._fresh = True
        self._trial = {}
        self.standing.emit(self.now())
        self.show_standing()
        self._read_run()
        self._pause.start()

    def follow(self) -> None:
        """Something is dragged: the figures follow, the book waits, what takes long waits for the hand."""
        if self.shelved is None:
            return
        self.jobs.drop()
        self.standing.emit(self.now())
        self.show_standing()
        self._pause.start()

    def _settled(self) -> None:
        if self.shelved is None:
            return
        standing, setting = self.now(), self.setting

        def steps() -> Iterator[object]:
            yield from self._found(standing, setting)

        self.begin_computing()
        self.jobs.start(steps)

    def _found(self, standing: Standing, setting: object) -> Iterator[object]:
        """As `compute` has it, or as it had it when all stood like this the last time."""
        if not self.remembers or standing.setup.reads_files:
            yield from self.compute(standing, setting)
            return
        asked = (self.step.key, standing, setting)
        known = _COMPUTED.get(asked)
        if known is not None:
            yield from known
            return
        found = []
        for result in self.compute(standing, setting):
            found.append(result)
            yield result
        _COMPUTED.keep(asked, found)

    def _read_run(self) -> None:
        """The newest run in the mode that stands, with its tables and findings."""
        shelved = self.shelved
        if shelved is None:
            return
        standing, book = self._session.standing(), self._session.book
        runs = book.runs(shelved.id, self.step.run_key, mode=standing.mode)
        self.run = runs[0] if runs else None
        self.tables = book.tables(self.run.id) if self.run else {}
        self.logged = book.findings_of_run(self.run.id) if self.run else []
        self.stale_why = why_out_of_date(self.step, standing, self.setting, self.run) if self.run else None
        self.show_run(runs)
        self.say()

    # What a kind of step adds

    def show_standing(self) -> None:
        """Quick enough for every move of a hand."""

    def begin_computing(self) -> None:
        """Just before `compute` begins, on the interface thread."""

    def compute(self, standing: Standing, setting: Any) -> Iterator[object]:
        """What takes longer than a frame, off the interface thread; touches nothing of the presenter's."""
        return self.step.predict(standing, setting)

    def on_computed(self, found: Any) -> None:
        """One result of `compute`, back on the interface thread."""

    def show_run(self, runs: list[StoredRun]) -> None:
        """The runs in the mode that stands, newest first; what was read of the newest stands in run, tables, logged."""

    def predicted_findings(self) -> tuple[Finding, ...]:
        """What the drawing says, for the quantities that were not measured."""
        return ()

    def heading(self) -> str:
        return MEASURED_HEADING if self.logged else PREDICTED_HEADING

    def say(self) -> None:
        """What is measured, and under it what the drawing says of the rest."""
        known = {logged.finding.quantity for logged in self.logged}
        rest = tuple(finding for finding in self.predicted_findings() if finding.quantity not in known)
        wrong = tuple(entry["sentence"] for entry in (self.run.facts.get("warnings", ()) if self.run else ()))
        untold = self.run.facts.get("not_told", ()) if self.run and self.logged else ()
        heading = " ".join(one for one in (self.heading(), *untold, self._left_out()) if one)
        self.findings.emit(Said(heading, self.logged, rest, wrong, self.predicted_first))

    def _left_out(self) -> str:
        """What is heard ahead of the filter and behind it and does not count here."""
        if self.shelved is None or self.step.hears_all:
            return ""
        setup = self.now().setup
        heard = ((place, ", ".join(stage_name(stage) for stage in stages if not stage.off))
                 for place, stages in (("Ahead of it", setup.ahead), ("Behind it", setup.behind)))
        return " ".join(f"{place} and left out here: {names}." for place, names in heard if names)

    # What the person does

    def measure(self) -> None:
        """The step on the simulated unit of the filter in hand."""
        self._measuring.measure(self.step)

    def try_cutoff(self, standing_hz: float) -> None:
        """While the line is dragged."""
        if self.shelved is not None:
            self._try(cutoff_hz=self._session.standing().knob_for(standing_hz))

    def try_resonance(self, percent: float) -> None:
        self._try(resonance_percent=percent)

    def _try(self, **values: object) -> None:
        self._trial.update(values)
        self.follow()

    def set_cutoff(self, standing_hz: float) -> None:
        """The pole frequency in force, as the line in a figure stands; the knob moves as far as that takes."""
        if self.shelved is not None:
            self.set_knob(self._session.standing().knob_for(standing_hz))

    def set_knob(self, cutoff_hz: float) -> None:
        """The knob itself. One past its end stands at its end, and that is said."""
        if self.shelved is None:
            return
        moved = self._session.standing().moved(cutoff_hz=cutoff_hz)
        if abs(moved.cutoff_hz / cutoff_hz - 1) > 1e-9:
            self.message.emit(f"The cutoff stands at the end of its range, {moved.cutoff_hz:g} Hz.", False)
        self._session.change({"cutoff_hz": round(moved.cutoff_hz, 3)}, together=True)

    def set_resonance(self, percent: float) -> None:
        if self.shelved is not None:
            moved = self._session.standing().moved(resonance_percent=percent)
            self._session.change({"resonance_percent": round(moved.resonance_percent, 2)}, together=True)

    def set_mode(self, mode: str) -> None:
        """Another output of the filter."""
        self._session.change({"mode": mode})

    def reset(self, name: str) -> None:
        """A control back to what the filter's file says."""
        self._session.change({name: None})

    def ask(self, **changes: object) -> None:
        """Ask something else, as one undoable act; what is out of range is said and not taken."""
        if self.shelved is None:
            return
        try:
            self._session.ask(self.step, **changes)
        except JiyuuError as error:
            self.message.emit(str(error), True)
            self._changed()

    def toggle_kept(self, logged: LoggedFinding) -> None:
        """Into the logbook, or out of it."""
        self._session.book.keep(logged.id, kept=not logged.kept)
        self._session.runs_changed()

    def put_run_aside(self) -> None:
        """The newest run in this mode does not count any more; the one before does."""
        if self.run is None:
            self.message.emit("Nothing is measured here that could be put aside.", False)
            return
        self._session.book.show_run(self.run.id, shown=False)
        self._session.runs_changed()
        self.message.emit(f"{self.run.title} is put aside; Ctrl+Z takes it back.", False)
