"""State of the Logbook: what the book holds in the order of time, what is looked for, the entry that is looked at."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from PyQt6.QtCore import pyqtSignal

from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.bench.timeline import Course, Entry, Kind, Moved, Sought, course, entries, filtered, moved_since
from jiyuu.book.stored import StoredRun
from jiyuu.book.table import Table
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.presenter import StepPresenter
from jiyuu.errors import JiyuuError
from jiyuu.measurement.finding import Finding
from jiyuu.signals.recordings import write_recording


@dataclass(frozen=True, slots=True, eq=False)
class AsItWas:
    """A run that is looked at again: its tables, and those of the newest of its kind where that is another; what stands
    otherwise today; findings of both."""

    run: StoredRun
    tables: Mapping[str, Table]
    newest: StoredRun | None
    newest_tables: Mapping[str, Table]
    moved: tuple[Moved, ...]
    findings: tuple[Finding, ...]
    newest_findings: tuple[Finding, ...]


class LogbookPresenter(StepPresenter):
    """Over all filters: nothing here depends on the one in hand but where a new note goes."""

    read = pyqtSignal()  # the entries, or what is looked for
    looked_at = pyqtSignal(object, object)  # Entry or None, AsItWas or None

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self.every: list[Entry] = []
        self.fitting: list[Entry] = []
        self.sought = Sought()
        self.current: Entry | None = None
        self._reading = Jobs(session.crew, "reading the book", self)
        self._reading.stepped.connect(self._on_read)
        self._reading.failed.connect(lambda text: self.message.emit(text, True))

    # Reading

    def wake(self) -> None:
        self._awake = True
        self._read_all()

    def sleep(self) -> None:
        self._awake = False
        self._reading.drop()

    @property
    def waiting(self) -> bool:
        return self._reading.busy

    def _book_changed(self) -> None:
        if self._awake:
            self._read_all()

    def _changed(self) -> None:
        self._book_changed()

    def _read_all(self) -> None:
        book = self._session.book

        def steps() -> Iterator[Any]:
            yield entries(book)

        self._reading.start(steps)

    def _on_read(self, found: list[Entry]) -> None:
        self.every = found
        self._fresh = True
        self._seek()

    # Looking for

    def look_for(self, **changes: Any) -> None:
        """Something else of it: words, letter, step, kind, verdict, day."""
        self.sought = replace(self.sought, **changes)
        self._seek()

    def _seek(self) -> None:
        self.fitting = filtered(self.every, self.sought)
        if self.current not in self.fitting:
            self.current = self.fitting[0] if self.fitting else None
        self.read.emit()
        self.look_at(self.current)

    def look_at(self, entry: Entry | None) -> None:
        """An entry as it was then, beside today."""
        self.current = entry
        try:
            self.looked_at.emit(entry, None if entry is None or entry.run_id is None else self._as_it_was(entry.run_id))
        except JiyuuError as error:
            self.looked_at.emit(entry, None)
            self.message.emit(str(error), True)

    def _as_it_was(self, run_id: int) -> AsItWas:
        book = self._session.book
        run = book.run(run_id)
        newest = next((one for one in book.newest_runs(run.filter_id) if (one.step, one.mode) == (run.step, run.mode)
                       and one.id != run.id), None)
        standing = self._standing_of(run)
        moved = () if standing is None else tuple(moved_since(run.standing, standing.as_json()))
        found, last = (() if one is None else tuple(logged.finding for logged in book.findings_of_run(one.id))
                       for one in (run, newest))
        return AsItWas(run, book.tables(run.id), newest, {} if newest is None else book.tables(newest.id), moved,
                       found, last)

    def course(self, found: AsItWas, quantity: str) -> Course:
        """A quantity of the run that is looked at, over time."""
        finding = next(one for one in found.findings if one.quantity == quantity)
        return course(self._session.book, found.run, finding)

    def _standing_of(self, run: StoredRun) -> Standing | None:
        shelved = next((one for one in self._session.shelf if one.id == run.filter_id), None)
        return None if shelved is None else self._session.standing(shelved)

    # What the person does

    def add_note(self, text: str) -> None:
        """About the filter in hand."""
        if text.strip():
            shelved = self.shelved
            self._session.book.add_note(text.strip(), filter_id=shelved.id if shelved else None)
            self._session.runs_changed()

    def take_away(self) -> None:
        """The note that is looked at, or the finding: out of the logbook, not out of the book."""
        entry = self.current
        if entry is None or entry.kind not in (Kind.NOTE, Kind.FINDING):
            self.message.emit("Choose a note or a finding first: these can be taken out here.", False)
            return
        if entry.kind is Kind.NOTE:
            self._session.book.show_note(entry.number, shown=False)
        else:
            self._session.book.keep(entry.number, kept=False)
        self._session.runs_changed()
        self.message.emit(f"The {entry.kind} is out of the logbook; Ctrl+Z brings it back.", False)

    def put_back(self) -> None:
        """The filter as it stood when the run that is looked at was made: one act."""
        entry = self.current
        if entry is None or entry.run_id is None:
            self.message.emit("Choose a run or a finding first: its settings can be put back.", False)
            return
        run = self._session.book.run(entry.run_id)
        if self._standing_of(run) is None:
            self.message.emit(f"{entry.letter} is not on the shelf; put it back there first (Ctrl+Z).", True)
            return
        self._session.take_letter(entry.letter)
        standing = self._session.standing()
        then = run.standing
        values: dict[str, Any] = {name: then[name] for name in ("mode", "cutoff_hz", "resonance_percent", "parameters",
                                                                "trims") if name in then}
        setup = standing.setup.changed(**({"inputs": then["sources"]} if then.get("sources") else {}),
                                       **({"drive_db": then["drive_db"]} if "drive_db" in then else {}))
        values["setup"] = setup.model_dump(mode="json", exclude_defaults=True) or None
        self._session.change(values)
        left = [one.what for one in moved_since(then, self._session.standing().as_json())]
        more = f" Left as it is: {', '.join(left).lower()}." if left else ""
        self.message.emit(f"{entry.letter} stands as it did on {entry.at.day} {entry.at:%b %Y}; Ctrl+Z takes that back."
                          f"{more}", False)

    def save_recording(self, path: Any) -> None:
        """The raw recording of the run that is looked at, as it was read. Raises JiyuuError."""
        entry = self.current
        if entry is None or entry.run_id is None:
            raise JiyuuError("Choose a run first: its recording can be saved.")
        volts, rate_hz = self._session.book.record(entry.run_id, "recording")
        write_recording(path, volts, round(rate_hz))

    def measure(self) -> None:
        self.message.emit("Nothing is measured in the logbook; go to a step first.", True)
