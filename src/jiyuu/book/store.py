"""A book: one SQLite file that holds the filters, the runs with their raw records, the findings and the notes.

Everything is written in a transaction at the moment it happens, in WAL mode: there is nothing to save, and a process
that is killed loses at most the run in progress. Nothing is overwritten: a filter, a run, a note, a finding taken away
is only no longer shown, and every act of a person stands in `actions`, from which undo and redo work.
"""

from __future__ import annotations

import json
import sqlite3
import threading
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.book.acts import act, now, turn
from jiyuu.book.opening import made, opened
from jiyuu.book.stored import Act, LoggedFinding, Note, Shelved, StoredRun, logged_of, run_of
from jiyuu.book.table import Table, table_of
from jiyuu.circuits.filter_file import Filter, parse_filter
from jiyuu.errors import BookError
from jiyuu.measurement.finding import Finding
from jiyuu.wording.findings import sentence


class Book:
    """An open book. Calls may come from any thread; each is one transaction."""

    def __init__(self, connection: sqlite3.Connection, path: Path, *, read_only: bool) -> None:
        self._connection = connection
        self._lock = threading.RLock()
        self.path = path
        self.read_only = read_only

    # Opening and closing

    @classmethod
    def create(cls, path: Path) -> Book:
        """A new, empty book. Raises BookError when the place is taken or cannot be written."""
        return cls(made(path), path, read_only=False)

    @classmethod
    def open(cls, path: Path) -> Book:
        """An existing book; one of a newer version opens read-only. Raises BookError saying what is wrong."""
        connection, read_only = opened(path)
        return cls(connection, path, read_only=read_only)

    def close(self) -> None:
        with self._lock:
            self._connection.close()

    @contextmanager
    def _writing(self) -> Iterator[sqlite3.Connection]:
        with self._lock:
            if self.read_only:
                raise BookError(
                    f"{self.path} was written by a newer version and is open for reading only; update the application."
                )
            try:
                with self._connection:
                    yield self._connection
            except sqlite3.Error as error:
                raise BookError(f"{self.path} could not be written: {error}; check the disk.") from error

    def _rows(self, query: str, *values: Any) -> list[sqlite3.Row]:
        with self._lock:
            try:
                return self._connection.execute(query, values).fetchall()
            except sqlite3.Error as error:
                raise BookError(f"{self.path} could not be read: {error}.") from error

    # Filters

    def add_filter(
        self, letter: str, document: Filter, *, seed: int | None, kept: Mapping[str, Any] | None = None
    ) -> int:
        """Put a filter on the shelf, as an act that can be undone; kept: what stands round it. Returns its row."""
        with self._writing() as connection:
            cursor = connection.execute(
                "INSERT INTO filters (letter, document, seed, shown, created_at) VALUES (?, ?, ?, 0, ?)",
                (letter, document.model_dump_json(), seed, now()),
            )
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
        return [
            Shelved(row["id"], row["letter"], parse_filter(row["document"], source=f"filter {row['letter']}"),
                    row["seed"])
            for row in self._rows("SELECT * FROM filters WHERE shown = 1 ORDER BY letter")
        ]

    def letters(self) -> dict[int, str]:
        """Letters by row, of filters taken off the shelf too."""
        return {row["id"]: row["letter"] for row in self._rows("SELECT id, letter FROM filters")}

    # Settings, undoable

    def settings(self) -> dict[int, dict[str, Any]]:
        """What every control and step of every filter stands at, where it was moved. Raises BookError where that is not
        readable."""
        found: dict[int, dict[str, Any]] = {}
        for row in self._rows("SELECT * FROM settings"):
            try:
                found.setdefault(row["filter_id"], {})[row["name"]] = json.loads(row["value"])
            except ValueError as error:
                raise BookError(f"{self.path}: the setting '{row['name']}' is not readable JSON.") from error
        return found

    def set_values(self, filter_id: int, values: Mapping[str, Any], *, together: bool = False) -> bool:
        """Move controls as one act; None takes one back to what the filter's file says. together: as part of the act
        before, where that moved the same controls just now. False where nothing changed."""
        with self._writing() as connection:
            rows = connection.execute("SELECT name, value FROM settings WHERE filter_id = ?", (filter_id,)).fetchall()
            was = {row["name"]: json.loads(row["value"]) for row in rows}
            changed = {name: value for name, value in values.items() if was.get(name) != value}
            if changed:
                before = {name: was.get(name) for name in changed}
                act(connection, "set", {"filter_id": filter_id, "values": before},
                    {"filter_id": filter_id, "values": changed}, together=together)
            return bool(changed)

    # Runs

    def add_run(
        self, filter_id: int, step: str, mode: str | None, *, standing: Mapping[str, Any], setting: Mapping[str, Any],
        facts: Mapping[str, Any], source: str, records: Mapping[str, tuple[FloatArray, float]],
        tables: Sequence[Table], findings: Sequence[Finding],
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
        return [run_of(row) for row in rows]

    def newest_runs(self, filter_id: int | None = None) -> list[StoredRun]:
        """The newest run of every step in every mode, of one filter or of all."""
        rows = self._rows("SELECT * FROM runs WHERE id IN (SELECT MAX(id) FROM runs WHERE shown = 1 AND"
                          " (? IS NULL OR filter_id = ?) GROUP BY filter_id, step, mode)", filter_id, filter_id)
        return [run_of(row) for row in rows]

    def run(self, run_id: int) -> StoredRun:
        """Raises BookError where there is none."""
        rows = self._rows("SELECT * FROM runs WHERE id = ?", run_id)
        if not rows:
            raise BookError(f"There is no run {run_id} in {self.path}.")
        return run_of(rows[0])

    def all_runs(self) -> list[StoredRun]:
        """Every run that is shown, newest first."""
        return [run_of(row) for row in self._rows("SELECT * FROM runs WHERE shown = 1 ORDER BY id DESC")]

    def tables(self, run_id: int) -> dict[str, Table]:
        """The tables of a run by name."""
        return {row["name"]: table_of(row["name"], row["columns"], row["length"], row["numbers"])
                for row in self._rows("SELECT * FROM tables WHERE run_id = ?", run_id)}

    def record(self, run_id: int, name: str) -> tuple[FloatArray, float]:
        """(volts (n,), sample rate in Hz) of a raw record. Raises BookError where the run has none of that name."""
        rows = self._rows("SELECT * FROM records WHERE run_id = ? AND name = ?", run_id, name)
        if not rows:
            raise BookError(f"Run {run_id} has no record '{name}'.")
        return np.frombuffer(rows[0]["volts"], dtype="<f4").astype(float), float(rows[0]["sample_rate_hz"])

    # Findings and the logbook

    def findings_of_runs(self, run_ids: Sequence[int]) -> dict[int, list[LoggedFinding]]:
        """Findings by run, in the order in which they were found."""
        marks = ", ".join("?" * len(run_ids))
        found: dict[int, list[LoggedFinding]] = {run_id: [] for run_id in run_ids}
        for row in self._rows(f"SELECT * FROM findings WHERE run_id IN ({marks}) ORDER BY id", *run_ids):
            found[row["run_id"]].append(logged_of(row))
        return found

    def findings_of_run(self, run_id: int) -> list[LoggedFinding]:
        return self.findings_of_runs([run_id])[run_id]

    def logbook(self) -> list[LoggedFinding]:
        """Every finding kept, newest first."""
        rows = self._rows("SELECT * FROM findings WHERE kept = 1 ORDER BY kept_at DESC, id DESC")
        return [logged_of(row) for row in rows]

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

    def add_note(self, text: str, *, filter_id: int | None = None) -> int:
        """Write a note; undoable."""
        with self._writing() as connection:
            cursor = connection.execute(
                "INSERT INTO notes (filter_id, text, shown, made_at) VALUES (?, ?, 0, ?)", (filter_id, text, now())
            )
            row = int(cursor.lastrowid or 0)
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
            return turn(connection, back=True)

    def redo(self) -> Act | None:
        """Do again what was last taken back; None when there is nothing."""
        with self._writing() as connection:
            return turn(connection, back=False)
