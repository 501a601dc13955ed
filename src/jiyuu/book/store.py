"""A book: one SQLite file that holds the filters, the runs with their raw records, the findings and the notes.

Everything is written in a transaction at the moment it happens, in WAL mode: there is nothing to save, and a process
that is killed loses at most the run in progress. Nothing is overwritten: a filter, a run, a note, a finding taken away
is only no longer shown, and every act of a person stands in `actions`, from which undo and redo work.
"""

from __future__ import annotations

import json
import sqlite3
import threading
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import astuple
from pathlib import Path
from typing import TypeVar

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.book.acts import act, now, turn
from jiyuu.book.enclosed import Enclosure
from jiyuu.book.opening import MEND, UNREADABLE, Opened, made, opened, shut
from jiyuu.book.stored import (
    Act,
    LoggedFinding,
    Note,
    Shelved,
    StoredRun,
    logged_of,
    run_of,
    setting_of,
    shelved_of,
)
from jiyuu.book.table import Table, table_of
from jiyuu.circuits.filter_file import Filter
from jiyuu.errors import BookError, JiyuuError
from jiyuu.measurement.finding import Finding
from jiyuu.wording.findings import sentence

IDLE_S = 1.0  # after the last act, until its log goes into its file
Read = TypeVar("Read")


def _identity(path: Path) -> tuple[int, int] | None:
    """What file a name leads to; None where there is none."""
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_dev, found.st_ino


class Book:
    """An open book. Calls may come from any thread; each is one transaction.

    What in it cannot be read is left out of what is returned, and told in `unread`; `jiyuu recover` says more."""

    def __init__(self, book: Opened, path: Path) -> None:
        self._opened, self._connection = book, book.connection
        self._lock = threading.RLock()
        self._idle: threading.Timer | None = None
        self.path = path
        self.unread: dict[str, str] = {}  # a sentence for each place that cannot be read
        self._file = None if book.read_only else _identity(path)
        self._known = self._last_act() if book.read_only is None else 0
        self._own: set[int] = set()
        self._seen = self._version()

    # Opening and closing

    @classmethod
    def create(cls, path: Path) -> Book:
        """A new, empty book. Raises BookError when the place is taken or cannot be written."""
        return cls(Opened(made(path)), path)

    @classmethod
    def open(cls, path: Path, *, reading: bool = False) -> Book:
        """An existing book; one of a newer version, or where nothing can be written, opens read-only. reading: nothing
        on the disk changes by it. Raises BookError saying what is wrong."""
        return cls(opened(path, reading=reading), path)

    @property
    def read_only(self) -> bool:
        return self._opened.read_only is not None

    def close(self) -> None:
        """What its log holds goes into its file, so that a copy of that is whole."""
        with self._lock:
            if self._idle is not None:
                self._idle.cancel()
            shut(self._opened)

    def settle(self) -> None:
        """The same while it stays open: whoever copies the file now has everything. Nothing happens where others are
        writing just now."""
        with self._lock:
            try:
                self._connection.execute("PRAGMA wal_checkpoint(PASSIVE)")
            except sqlite3.Error:
                return  # closed meanwhile, or a disk that is full: the log keeps it

    def _settle_when_idle(self) -> None:
        if self._idle is not None:
            self._idle.cancel()
        self._idle = threading.Timer(IDLE_S, self.settle)
        self._idle.daemon = True
        self._idle.start()

    @contextmanager
    def _writing(self) -> Iterator[sqlite3.Connection]:
        with self._lock:
            if self._opened.read_only is not None:
                raise BookError(f"{self.path} {self._opened.read_only}.")
            gone = self.gone()
            if gone is not None:
                raise BookError(gone)
            try:
                with self._connection:
                    self._connection.execute("BEGIN IMMEDIATE")
                    before = self._last_act()
                    yield self._connection
                    self._own.update(range(before + 1, self._last_act() + 1))
            except UNREADABLE as error:
                busy = getattr(error, "sqlite_errorcode", 0) & 0xFF in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED)
                raise BookError(
                    f"Another program is writing into {self.path} just now; try again in a moment." if busy else
                    f"{self.path} could not be written: {error}; check the disk.") from error
            self._settle_when_idle()

    def _rows(self, query: str, *values: object) -> list[sqlite3.Row]:
        with self._lock:
            try:
                return self._connection.execute(query, values).fetchall()
            except UNREADABLE as error:
                raise BookError(f"{self.path} could not be read: {error}; {MEND}.") from error

    def raw(self, query: str, *values: object) -> list[sqlite3.Row]:
        """Rows as they lie there, for whoever takes the whole book elsewhere."""
        return self._rows(query, *values)

    def each(self, query: str) -> Iterator[sqlite3.Row]:
        """The same one by one, for whatever is too much at once. Raises BookError where one does not read."""
        with self._lock:
            try:
                yield from self._connection.execute(query)
            except UNREADABLE as error:
                raise BookError(f"{self.path} could not be read: {error}; {MEND}.") from error

    def _read(self, rows: Iterable[sqlite3.Row], read: Callable[[sqlite3.Row], Read]) -> list[Read]:
        """What of the rows can be read."""
        found = []
        for row in rows:
            try:
                found.append(read(row))
            except JiyuuError as error:
                self.unread[str(error)] = str(error)
        return found

    # Others who write

    def _last_act(self) -> int:
        row = self._connection.execute("SELECT MAX(id) FROM actions").fetchone()
        return int(row[0] or 0)

    def _version(self) -> int:
        return int(self._connection.execute("PRAGMA data_version").fetchone()[0])

    def changed_elsewhere(self) -> bool:
        """Whether another window or program has written into it since this was asked last."""
        if not self._lock.acquire(blocking=False):
            return False  # a worker is writing; the next look will tell
        try:
            before, self._seen = self._seen, self._version()
        except sqlite3.Error:
            return False
        finally:
            self._lock.release()
        return self._seen != before

    def gone(self) -> str | None:
        """Why nothing can be written any more, where the file is not the one that was opened; None while it is."""
        if self._file is None or _identity(self.path) == self._file:
            return None
        return (f"{self.path} is not the file that was opened any more: it was moved, deleted or replaced meanwhile, "
                "and nothing more is written. Put it back under its name, or open what is there now.")

    def _mine(self, act: int) -> bool:
        """Whether undo may take it back: not what another window did since this one was opened."""
        return act <= self._known or act in self._own

    # Filters

    def add_filter(
        self, letter: str, document: Filter, *, seed: int | None, kept: Mapping[str, object] | None = None
    ) -> int:
        """Put a filter on the shelf, as an act that can be undone; kept: what stands round it. Returns its row. Raises
        BookError where another has taken the letter."""
        with self._writing() as connection:
            try:
                cursor = connection.execute(
                    "INSERT INTO filters (letter, document, seed, shown, created_at) VALUES (?, ?, ?, 0, ?)",
                    (letter, document.model_dump_json(), seed, now()),
                )
            except sqlite3.IntegrityError as error:
                raise BookError(f"The letter {letter} was taken meanwhile by another filter; try again.") from error
            row = int(cursor.lastrowid or 0)
            connection.executemany("INSERT INTO settings VALUES (?, ?, ?)",
                                   [(row, name, json.dumps(value)) for name, value in (kept or {}).items()])
            act(connection, "filter", {"filter_id": row, "shown": False}, {"filter_id": row, "shown": True})
            return row

    def show_filter(self, filter_id: int, *, shown: bool) -> None:
        """Take a filter off the shelf, or put it back; its runs and findings stay."""
        with self._writing() as connection:
            act(connection, "filter", {"filter_id": filter_id, "shown": not shown},
                {"filter_id": filter_id, "shown": shown})

    def filters(self) -> list[Shelved]:
        """The shelf, by letter."""
        return self._read(self._rows("SELECT * FROM filters WHERE shown = 1 ORDER BY letter"), shelved_of)

    def letters(self) -> dict[int, str]:
        """Letters by row, of filters taken off the shelf too."""
        return {row["id"]: row["letter"] for row in self._rows("SELECT id, letter FROM filters")}

    # Settings, undoable

    def settings(self) -> dict[int, dict[str, object]]:
        """What every control and step of every filter stands at, where it was moved."""
        found: dict[int, dict[str, object]] = {}
        for filter_id, name, value in self._read(self._rows("SELECT * FROM settings"), setting_of):
            found.setdefault(filter_id, {})[name] = value
        return found

    def set_values(self, filter_id: int, values: Mapping[str, object], *, together: bool = False) -> bool:
        """Move controls as one act; None takes one back to what the filter's file says. together: as part of the act
        before, where that moved the same controls just now. False where nothing changed."""
        with self._writing() as connection:
            rows = connection.execute("SELECT * FROM settings WHERE filter_id = ?", (filter_id,)).fetchall()
            was = {name: value for _, name, value in self._read(rows, setting_of)}
            changed = {name: value for name, value in values.items() if was.get(name) != value}
            if changed:
                changed = dict(values) if together else changed  # one that stands still now may move with the next
                before = {name: was.get(name) for name in changed}
                act(connection, "set", {"filter_id": filter_id, "values": before},
                    {"filter_id": filter_id, "values": changed}, together=together)
            return bool(changed)

    # Runs

    def add_run(
        self, filter_id: int, step: str, mode: str | None, *, standing: Mapping[str, object],
        setting: Mapping[str, object], facts: Mapping[str, object], source: str,
        records: Mapping[str, tuple[FloatArray, float]], tables: Sequence[Table], findings: Sequence[Finding],
    ) -> tuple[int, list[int]]:
        """A finished run with its raw records, in one transaction. Returns its row and the rows of its findings."""
        with self._writing() as connection:
            cursor = connection.execute(
                "INSERT INTO runs (filter_id, step, mode, standing, setting, facts, source, made_at)"
                " VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                (filter_id, step, mode, json.dumps(dict(standing)), json.dumps(dict(setting)), json.dumps(dict(facts)),
                 source, now()),
            )
            run_id = int(cursor.lastrowid or 0)
            connection.executemany("INSERT INTO records VALUES (?, ?, ?, ?, ?)", [
                (run_id, name, rate, volts.size, volts.astype("<f4").tobytes())
                for name, (volts, rate) in records.items()
            ])
            connection.executemany("INSERT INTO tables VALUES (?, ?, ?, ?, ?)",
                                   [(run_id, *table.stored()) for table in tables])
            return run_id, [self._add_finding(connection, filter_id, run_id, step, f) for f in findings]

    @staticmethod
    def _add_finding(
        connection: sqlite3.Connection, filter_id: int, run_id: int, step: str, finding: Finding
    ) -> int:
        limits = finding.tolerance
        cursor = connection.execute(
            "INSERT INTO findings (filter_id, run_id, step, quantity, value, unit, uncertainty, tolerance_low,"
            " tolerance_high, sentence, context) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (filter_id, run_id, step, finding.quantity, finding.value, finding.unit, finding.uncertainty,
             limits.low if limits else None, limits.high if limits else None, sentence(finding),
             None if finding.context is None else json.dumps(finding.context.as_json())),
        )
        return int(cursor.lastrowid or 0)

    def show_run(self, run_id: int, *, shown: bool) -> None:
        """Put a run aside, so that the one before counts, or take it back; nothing of it is lost."""
        with self._writing() as connection:
            act(connection, "run", {"run_id": run_id, "shown": not shown}, {"run_id": run_id, "shown": shown})

    def runs(self, filter_id: int, step: str, *, mode: str | None = None) -> list[StoredRun]:
        """Newest first; of one mode, or of all."""
        rows = self._rows("SELECT * FROM runs WHERE filter_id = ? AND step = ? AND shown = 1"
                          " AND (? IS NULL OR mode = ?) ORDER BY id DESC", filter_id, step, mode, mode)
        return self._read(rows, run_of)

    def newest_runs(self, filter_id: int | None = None, *, until: str | None = None) -> list[StoredRun]:
        """The newest run of every step in every mode, of one filter or of all; until: as made_at is written."""
        rows = self._rows("SELECT * FROM runs WHERE id IN (SELECT MAX(id) FROM runs WHERE shown = 1 AND"
                          " (? IS NULL OR filter_id = ?) AND (? IS NULL OR made_at <= ?)"
                          " GROUP BY filter_id, step, mode)", filter_id, filter_id, until, until)
        return self._read(rows, run_of)

    def run(self, run_id: int) -> StoredRun:
        """Raises BookError where there is none."""
        rows = self._rows("SELECT * FROM runs WHERE id = ?", run_id)
        if not rows:
            raise BookError(f"There is no run {run_id} in {self.path}.")
        return run_of(rows[0])

    def all_runs(self) -> list[StoredRun]:
        """Every run that is shown, newest first."""
        return self._read(self._rows("SELECT * FROM runs WHERE shown = 1 ORDER BY id DESC"), run_of)

    def tables(self, run_id: int) -> dict[str, Table]:
        """The tables of a run by name."""
        rows = self._rows("SELECT * FROM tables WHERE run_id = ?", run_id)
        return {table.name: table for table in self._read(
            rows, lambda row: table_of(row["name"], row["columns"], row["length"], row["numbers"]))}

    def record(self, run_id: int, name: str) -> tuple[FloatArray, float]:
        """(volts (n,), sample rate in Hz) of a raw record. Raises BookError where the run has none of that name."""
        rows = self._rows("SELECT * FROM records WHERE run_id = ? AND name = ?", run_id, name)
        if not rows:
            raise BookError(f"Run {run_id} has no record '{name}'.")
        volts, rate = rows[0]["volts"], rows[0]["sample_rate_hz"]
        if not isinstance(volts, bytes) or len(volts) % 4 or not isinstance(rate, int | float):
            raise BookError(f"Run {run_id}: its record '{name}' is damaged; the rest of the book is readable.")
        return np.frombuffer(volts, dtype="<f4").astype(float), float(rate)

    # Findings and the logbook

    def findings_of_runs(self, run_ids: Sequence[int]) -> dict[int, list[LoggedFinding]]:
        """Findings by run, in the order in which they were found."""
        marks = ", ".join("?" * len(run_ids))
        found: dict[int, list[LoggedFinding]] = {run_id: [] for run_id in run_ids}
        rows = self._rows(f"SELECT * FROM findings WHERE run_id IN ({marks}) ORDER BY id", *run_ids)
        for logged in self._read(rows, logged_of):
            if logged.run_id is not None:
                found[logged.run_id].append(logged)
        return found

    def findings_of_run(self, run_id: int) -> list[LoggedFinding]:
        return self.findings_of_runs([run_id])[run_id]

    def logbook(self) -> list[LoggedFinding]:
        """Every finding kept, newest first."""
        rows = self._rows("SELECT * FROM findings WHERE kept = 1 ORDER BY kept_at DESC, id DESC")
        return self._read(rows, logged_of)

    def keep(self, finding_id: int, *, kept: bool = True) -> None:
        """Put a finding into the logbook, or take it out; undoable. Raises BookError where there is none."""
        with self._writing() as connection:
            row = connection.execute("SELECT kept FROM findings WHERE id = ?", (finding_id,)).fetchone()
            if row is None:
                raise BookError(f"There is no finding {finding_id} in {self.path}.")
            if bool(row["kept"]) != kept:
                act(connection, "keep", {"finding_id": finding_id, "kept": not kept},
                    {"finding_id": finding_id, "kept": kept})

    # Notes

    def add_note(self, text: str, *, filter_id: int | None = None, enclosed: Enclosure | None = None) -> int:
        """Write a note, with what lies beside it; undoable."""
        with self._writing() as connection:
            cursor = connection.execute(
                "INSERT INTO notes (filter_id, text, shown, made_at) VALUES (?, ?, 0, ?)", (filter_id, text, now())
            )
            row = int(cursor.lastrowid or 0)
            if enclosed is not None:
                connection.execute("INSERT INTO enclosures VALUES (?, ?, ?, ?)", (row, *astuple(enclosed)))
            act(connection, "note", {"note_id": row, "shown": False}, {"note_id": row, "shown": True})
        return row

    def show_note(self, note_id: int, *, shown: bool) -> None:
        """Take a note away, or put it back."""
        with self._writing() as connection:
            act(connection, "note", {"note_id": note_id, "shown": not shown}, {"note_id": note_id, "shown": shown})

    def notes(self) -> list[Note]:
        return [
            Note(row["id"], row["filter_id"], row["text"], row["made_at"])
            for row in self._rows("SELECT * FROM notes WHERE shown = 1 ORDER BY id DESC")
        ]

    # Undo and redo

    def undo(self) -> Act | None:
        """Take back the last act; None when there is none."""
        with self._writing() as connection:
            return turn(connection, back=True, mine=self._mine)

    def redo(self) -> Act | None:
        """Do again what was last taken back; None when there is nothing."""
        with self._writing() as connection:
            return turn(connection, back=False, mine=self._mine)
