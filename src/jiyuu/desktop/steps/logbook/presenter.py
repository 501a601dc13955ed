"""State of the Logbook: what the book holds in the order of time, what is looked for, the entry that is looked at."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QImage

from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.bench.timeline import Course, Entry, Kind, Moved, Sought, course, entries, filtered, moved_since
from jiyuu.book.enclosed import enclosure_of, read_enclosure
from jiyuu.book.stored import StoredRun
from jiyuu.book.table import Table
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.presenter import StepPresenter
from jiyuu.errors import JiyuuError
from jiyuu.measurement.finding import Finding
from jiyuu.signals.envelope import Envelope, envelope_of
from jiyuu.signals.recordings import write_recording
from jiyuu.whole_file import written_whole

TAKEN_OUT = (Kind.NOTE, Kind.ENCLOSED, Kind.FINDING)


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


@dataclass(frozen=True, slots=True, eq=False)
class Seen:
    """What is enclosed, unfolded: a picture, a sound's outline, or why neither."""

    name: str
    picture: QImage | None = None
    sound: Envelope | None = None
    why: str = ""


class LogbookPresenter(StepPresenter):
    """Over all filters: nothing here depends on the one in hand but where a new note goes."""

    read = pyqtSignal()  # the entries, or what is looked for
    looked_at = pyqtSignal(object, object)  # Entry or None, AsItWas or None
    unfolded = pyqtSignal(object)  # Seen, some time after it was looked at

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self.every: list[Entry] = []
        self.fitting: list[Entry] = []
        self.sought = Sought()
        self.current: Entry | None = None
        self._reading = Jobs(session.crew, "reading the book", self)
        self._reading.stepped.connect(self._on_read)
        self._reading.failed.connect(lambda text: self.message.emit(text, True))
        self._opening = Jobs(session.crew, "opening what is enclosed", self)
        self._opening.stepped.connect(self.unfolded)
        self._opening.failed.connect(lambda text: self.message.emit(text, True))
        self._enclosing = Jobs(session.crew, "enclosing", self)
        self._enclosing.finished.connect(self._enclosed)
        self._enclosing.failed.connect(self._not_enclosed)

    def _not_enclosed(self, text: str) -> None:
        self._session.runs_changed()
        self.message.emit(text, True)

    # Reading

    def wake(self) -> None:
        self._awake = True
        self._read_all()

    def sleep(self) -> None:
        self._awake = False
        self._reading.drop()

    @property
    def waiting(self) -> bool:
        return self._reading.busy or self._enclosing.busy or self._opening.busy

    def _book_changed(self) -> None:
        if self._awake:
            self._read_all()

    def _changed(self) -> None:
        self._book_changed()

    def _read_all(self) -> None:
        book = self._session.book

        def steps() -> Iterator[object]:
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
            self._opening.drop()
            if entry is not None and entry.kind is Kind.ENCLOSED:
                self._opening.start(lambda: self._unfolded(entry))
            self.looked_at.emit(entry, None if entry is None or entry.run_id is None else self._as_it_was(entry.run_id))
        except JiyuuError as error:
            self.looked_at.emit(entry, None)
            self.message.emit(str(error), True)

    def _unfolded(self, entry: Entry) -> Iterator[Seen]:
        """Off the interface thread: a recording may be long."""
        one = enclosure_of(self._session.book, entry.number)
        if one is None:
            yield Seen(entry.text, why="It is not in the book any more.")
        elif one.is_picture:
            yield Seen(one.name, picture=QImage.fromData(one.content))
        else:
            try:
                yield Seen(one.name, sound=envelope_of(one.content))
            except JiyuuError as error:
                yield Seen(one.name, why=str(error))

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

    def enclose(self, paths: list[Path]) -> None:
        """Pictures and recordings, beside a note each, about the filter in hand; byte for byte as they are. Where one
        is neither that is said, and those before it are kept."""
        book, filter_id = self._session.book, None if self.shelved is None else self.shelved.id

        def steps() -> Iterator[int]:
            for path in paths:
                yield book.add_note(path.name, filter_id=filter_id, enclosed=read_enclosure(path))

        self._enclosing.start(steps)

    def _enclosed(self) -> None:
        self._session.runs_changed()
        self.message.emit("It lies in the logbook now, as its file was; K takes it out, Ctrl+Z as well.", False)

    def take_away(self) -> None:
        """The note that is looked at, or the finding: out of the logbook, not out of the book."""
        entry = self.current
        if entry is None or entry.kind not in TAKEN_OUT:
            self.message.emit("Choose a note or a finding first: these can be taken out here.", False)
            return
        if entry.kind is not Kind.FINDING:
            self._session.book.show_note(entry.number, shown=False)
        else:
            self._session.book.keep(entry.number, kept=False)
        self._session.runs_changed()
        what = "note" if entry.kind is Kind.ENCLOSED else entry.kind
        self.message.emit(f"The {what} is out of the logbook; Ctrl+Z brings it back.", False)

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
        moved = ("mode", "cutoff_hz", "resonance_percent", "parameters", "trims")
        values: dict[str, object] = {name: then[name] for name in moved if name in then}
        setup = standing.setup.changed(**({"inputs": then["sources"]} if then.get("sources") else {}),
                                       **({"drive_db": then["drive_db"]} if "drive_db" in then else {}))
        values["setup"] = setup.model_dump(mode="json", exclude_defaults=True) or None
        self._session.change(values)
        left = [one.what for one in moved_since(then, self._session.standing().as_json())]
        more = f" Left as it is: {', '.join(left).lower()}." if left else ""
        self.message.emit(f"{entry.letter} stands as it did on {entry.at.day} {entry.at:%b %Y}; Ctrl+Z takes that back."
                          f"{more}", False)

    def save_recording(self, path: Path) -> None:
        """The raw recording of the run that is looked at, as it was read; or what is enclosed, as its file was. Raises
        JiyuuError."""
        entry = self.current
        if entry is not None and entry.kind is Kind.ENCLOSED:
            one = enclosure_of(self._session.book, entry.number)
            if one is not None:
                with written_whole(path) as temporary:
                    temporary.write_bytes(one.content)
            return
        if entry is None or entry.run_id is None:
            raise JiyuuError("Choose a run first: its recording can be saved.")
        volts, rate_hz = self._session.book.record(entry.run_id, "recording")
        write_recording(path, volts, round(rate_hz))
