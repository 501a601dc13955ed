"""State of the Comparison step: the filters of the shelf at one cutoff, the character of each, what two of them differ
by."""

from __future__ import annotations

from collections.abc import Iterator

from PyQt6.QtCore import pyqtSignal

from jiyuu.bench.side_by_side import SideBySide, side_by_side_steps
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.bench.steps.comparison import ComparisonSetting, known_character
from jiyuu.bench.stored_settings import stored
from jiyuu.bench.walk import why_out_of_date
from jiyuu.book.stored import StoredRun
from jiyuu.character.comparison import Same, Verdict, weighed
from jiyuu.character.descriptors import Descriptor
from jiyuu.character.scales import ALL
from jiyuu.character.why import Why, why_steps
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.presenter import PAUSE_MS, StepPresenter
from jiyuu.errors import JiyuuError
from jiyuu.measurement.contexts import Differing
from jiyuu.measurement.finding import Finding
from jiyuu.progress import Progress
from jiyuu.signals.source import Source, SourceKind

PASSED_BY_MS = 500  # that the step is looked at before anything is computed
MOST_STORED = 9  # settings of the filter in hand that stand beside it
MOST_REASONS = 7  # quantities that are explained at once
SAME_CUTOFF = 1e-3  # share by which two cutoffs may differ and still be one
RANK = {Verdict.HEARD: 0, Verdict.NO_THRESHOLD: 1, Verdict.HARDLY: 2, Verdict.NOT_MEASURED: 3,
        Verdict.NOT_COMPARABLE: 4}


class ComparisonPresenter(StepPresenter):
    """The view asks with methods; signals carry finished values."""

    compared = pyqtSignal(object)  # SideBySide
    read = pyqtSignal()  # what was measured of the filters of the shelf is known
    left = pyqtSignal()  # nobody looks at the step any more
    explained = pyqtSignal(object)  # Progress, Why, or None: nothing is explained of what stands
    predicted_first = True  # what tells two apart

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self.seen: SideBySide | None = None
        self._shelf: list[tuple[str, str, Standing]] = []
        self._findings: tuple[Finding, ...] = ()
        self._measured: dict[str, dict[str, Descriptor]] = {}
        self.reasons: Why | None = None
        self._asking = Jobs(session.crew, "explaining a difference", self)
        self._asking.stepped.connect(self._on_reason)
        self._asking.failed.connect(lambda text: self.message.emit(text, True))

    # What is computed

    def wake(self) -> None:
        """Whoever only passes by does not make six filters play."""
        self._pause.setInterval(PASSED_BY_MS)
        super().wake()

    def begin_computing(self) -> None:
        """Shelf and settings belong to the interface thread: they are taken along as they stand."""
        self._shelf = [(one.letter, one.document.name, self.now() if one.letter == self.letter
                        else self._session.standing(one)) for one in self._session.shelf]
        self._shelf += self._as_stored()
        self._pause.setInterval(PAUSE_MS)
        self._asking.drop()
        self._on_reason(None)

    def compute(self, standing: Standing, setting: ComparisonSetting) -> Iterator[object]:
        return side_by_side_steps(tuple(self._shelf), self.letter, setting)

    def on_computed(self, found: SideBySide) -> None:
        self.seen = found
        self._judge()
        self.compared.emit(found)

    def _as_stored(self) -> list[tuple[str, str, Standing]]:
        """The filter in hand as it stood when its settings were stored: 1 the oldest."""
        shelved, found = self.shelved, []
        for number, one in enumerate(() if shelved is None else stored(self._session.kept())[:MOST_STORED], start=1):
            assert shelved is not None
            try:
                found.append((str(number), f"{one.name} (stored)", Standing.of(shelved.document, one.values)))
            except JiyuuError:
                continue  # a book of another version may hold what is not known here
        return found

    def others(self) -> list[tuple[str, str]]:
        """Letter and name of all that can stand beside the filter in hand: the shelf, then itself as stored."""
        shelf = [(one.letter, one.document.name) for one in self._session.shelf if one.letter != self.letter]
        return [*shelf, *((letter, name) for letter, name, _ in self._as_stored())]

    # What is read of the book

    def show_run(self, runs: list[StoredRun]) -> None:
        """Of all filters on the shelf, where they stand as they stood and were played the same."""
        book, session = self._session.book, self._session
        self._measured = {}
        for one in session.shelf:
            standing = session.standing(one)
            found = book.runs(one.id, self.step.run_key, mode=standing.mode)
            if found and why_out_of_date(self.step, standing, self.setting, found[0]) is None:
                logged = [entry.finding for entry in book.findings_of_run(found[0].id)]
                self._measured[one.letter] = known_character(logged, found[0].facts.get("why_none", {}))
        shelved = self.shelved
        # What was told, or heard blind, last.
        others = [] if shelved is None else book.runs(shelved.id, self.step.key, mode=session.standing().mode)
        if others:
            self.logged = [*book.findings_of_run(others[0].id), *self.logged]
        self._judge()
        self.read.emit()

    def measured_of(self, letter: str, scale: str) -> Descriptor | None:
        """None where it was not measured, or not at the cutoff at which the filters are compared."""
        one = None if self.seen is None else self.seen.of(letter)
        shelved = next((kept for kept in self._session.shelf if kept.letter == letter), None)
        found = self._measured.get(letter, {}).get(scale)
        if one is None or one.subject is None or shelved is None or found is None or found.value is None:
            return None
        standing_hz = self._session.standing(shelved).standing_hz
        return found if abs(one.subject.cutoff_hz / standing_hz - 1) < SAME_CUTOFF else None

    # What is said

    @property
    def beside(self) -> str:
        """Letter of the filter that the one in hand is told apart from."""
        letters = [letter for letter, _ in self.others()]
        return self.setting.beside if self.setting.beside in letters else letters[0] if letters else ""

    def _judge(self) -> None:
        here = None if self.seen is None else self.seen.of(self.letter)
        there = None if self.seen is None else self.seen.of(self.beside)
        if here is None or there is None or here.character is None or there.character is None:
            self._findings = ()
        else:
            ranked = []
            for scale in ALL:
                read = [self.measured_of(one.letter, scale.name) for one in (here, there)]
                both = [one for one in read if one is not None]
                drawn = [here.character[scale.name], there.character[scale.name]]
                found = weighed(scale, both if len(both) == 2 else drawn)
                difference = found.difference
                apart = 0.0 if difference is None or not found.jnd else abs(difference) / found.jnd
                by = Differing(scale.name, self.letter, self.beside, found.jnd, str(found.verdict),
                               difference is not None)
                ranked.append((RANK[found.verdict], -apart, Finding("difference", difference or 0.0, scale.unit,
                                                                    context=by, measured=len(both) == 2)))
            self._findings = tuple(one for *_, one in sorted(ranked, key=lambda one: one[:2]))
        self.say()

    def predicted_findings(self) -> tuple[Finding, ...]:
        return self._findings

    def heading(self) -> str:
        if not self.others():
            return "Nothing stands beside this filter: add another to the shelf, or store how it stands (Ctrl+Shift+S)."
        if self.seen is not None:
            for letter in (self.letter, self.beside):
                one = self.seen.of(letter)
                if one is not None and one.refused:
                    return one.refused
        if not self._findings:
            return f"Listening to {self.letter} and {self.beside} …"
        both = self.letter in self._measured and self.beside in self._measured
        how = "measured" if any(finding.measured for finding in self._findings) else (
            "predicted (measured at cutoffs of their own: same cutoff by knob compares those)" if both else "predicted")
        return f"{self.beside} beside {self.letter}, {how}; what is heard most first."

    # What the person does

    def put_beside(self, letter: str) -> None:
        """Another filter to be told apart from the one in hand."""
        self.ask(beside=letter)

    def ask_why(self) -> None:
        """What of each difference that is heard comes from which cause; seconds, off the interface thread."""
        here, there = (None if self.seen is None else self.seen.of(letter) for letter in (self.letter, self.beside))
        if here is None or there is None or here.subject is None or there.subject is None or not self._findings:
            self.message.emit("Wait until both filters are known, then ask why.", False)
            return
        names = [finding.context.scale for finding in self._findings
                 if isinstance(finding.context, Differing) and finding.context.verdict == Verdict.HEARD][:MOST_REASONS]
        if not names:
            self.message.emit(f"{self.letter} and {self.beside} differ in nothing that is heard.", False)
            return
        setting, first, second = self.setting, here.subject, there.subject
        source = Source(SourceKind(setting.source), setting.pitch_hz, setting.level_v)
        self._asking.start(lambda: why_steps(first, second, source, same=Same(setting.same),
                                             equal_loudness=setting.loudness == "equal", names=names))

    @property
    def about(self) -> str:
        """'B beside A'."""
        return f"{self.beside} beside {self.letter}" if self.beside else self.letter

    def write_verdict(self, text: str) -> None:
        """Into the logbook, beside the filter in hand."""
        shelved = self.shelved
        self._session.book.add_note(text, filter_id=None if shelved is None else shelved.id)
        self._session.runs_changed()
        self.message.emit("The verdict stands in the logbook.", False)

    def sleep(self) -> None:
        """An answer nobody looks at is not waited for."""
        super().sleep()
        self._asking.drop()
        self.left.emit()

    @property
    def waiting(self) -> bool:
        return super().waiting or self._asking.busy

    def _on_reason(self, found: Progress | Why | None) -> None:
        self.reasons = found if isinstance(found, Why) else None
        self.explained.emit(found)
