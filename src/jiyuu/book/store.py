"""A book: one SQLite file that holds the filters, the runs with their raw records, the findings and the notes.

Everything is written in a transaction at the moment it happens, in WAL mode: there is nothing to save, and a process
that is killed loses at most the run in progress. Nothing is overwritten: a finding taken out of the logbook is only no
longer shown in it, and every act of a person stands in `actions`, from which undo and redo work.
"""

from __future__ import annotations

import json
import sqlite3
import threading
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np

from jiyuu.book.opening import made, opened
from jiyuu.circuits.filter_file import Filter, parse_filter
from jiyuu.circuits.network import FloatArray
from jiyuu.errors import BookError
from jiyuu.measurement.finding import Finding, Tolerance
from jiyuu.measurement.wording import sentence
from jiyuu.quantities import shown_hz


@dataclass(frozen=True, slots=True)
class Shelved:
    """A filter on the shelf: its row, letter, document and the seed of its simulated unit."""

    id: int
    letter: str
    document: Filter
    seed: int | None


@dataclass(frozen=True, slots=True)
class LoggedFinding:
    """A finding as it stands in the book."""

    id: int
    filter_id: int
    run_id: int | None
    step: str
    finding: Finding
    kept: bool
    kept_at: str | None


@dataclass(frozen=True, slots=True, eq=False)
class StoredCurve:
    """A measured curve as it stands in the book; arrays (n,)."""

    frequency_hz: FloatArray
    level_db: FloatArray
    phase_deg: FloatArray
    uncertainty_db: FloatArray
    snr_db: FloatArray


@dataclass(frozen=True, slots=True)
class StoredRun:
    id: int
    filter_id: int
    step: str
    settings: Mapping[str, Any]
    source: str
    made_at: str

    @property
    def title(self) -> str:
        """'run 7: lowpass-24, 800 Hz, 20 %'."""
        made = self.settings
        parts = [str(made.get("mode", self.step))]
        if "cutoff_hz" in made:
            parts.append(shown_hz(made["cutoff_hz"]))
        if "resonance_percent" in made:
            parts.append(f"{made['resonance_percent']:.3g} %")
        return f"run {self.id}: {', '.join(parts)}"


@dataclass(frozen=True, slots=True)
class Note:
    id: int
    filter_id: int | None
    text: str
    made_at: str


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds")


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

    def add_filter(self, letter: str, document: Filter, *, seed: int | None) -> int:
        """Put a filter on the shelf; returns its row."""
        with self._writing() as connection:
            cursor = connection.execute(
                "INSERT INTO filters (letter, document, seed, created_at) VALUES (?, ?, ?, ?)",
                (letter, document.model_dump_json(), seed, _now()),
            )
            return int(cursor.lastrowid or 0)

    def filters(self) -> list[Shelved]:
        """The shelf, by letter."""
        return [
            Shelved(row["id"], row["letter"], parse_filter(row["document"], source=f"filter {row['letter']}"),
                    row["seed"])
            for row in self._rows("SELECT * FROM filters ORDER BY letter")
        ]

    # Settings, undoable

    def setting(self, filter_id: int, name: str, default: Any = None) -> Any:
        """What a control stands at."""
        rows = self._rows("SELECT value FROM settings WHERE filter_id = ? AND name = ?", filter_id, name)
        return json.loads(rows[0]["value"]) if rows else default

    def set_values(self, filter_id: int, values: Mapping[str, Any], *, before: Mapping[str, Any]) -> None:
        """Move controls as one act; `before` is what they stood at, for undo."""
        changed = {name: value for name, value in values.items() if before.get(name) != value}
        if not changed:
            return
        old = {name: before.get(name) for name in changed}
        self._act("set", {"filter_id": filter_id, "values": old}, {"filter_id": filter_id, "values": changed})

    # Runs

    def add_run(
        self,
        filter_id: int,
        step: str,
        settings: Mapping[str, Any],
        *,
        source: str,
        records: Mapping[str, tuple[FloatArray, float]],
        curve: StoredCurve | None,
        findings: Sequence[Finding],
    ) -> tuple[int, list[int]]:
        """A finished run with its raw records, in one transaction. Returns its row and the rows of its findings."""
        with self._writing() as connection:
            cursor = connection.execute(
                "INSERT INTO runs (filter_id, step, settings, source, made_at) VALUES (?, ?, ?, ?, ?)",
                (filter_id, step, json.dumps(dict(settings)), source, _now()),
            )
            run_id = int(cursor.lastrowid or 0)
            for name, (volts, rate) in records.items():
                connection.execute(
                    "INSERT INTO records VALUES (?, ?, ?, ?, ?)",
                    (run_id, name, rate, volts.size, volts.astype("<f4").tobytes()),
                )
            if curve is not None:
                arrays = (curve.frequency_hz, curve.level_db, curve.phase_deg, curve.uncertainty_db, curve.snr_db)
                connection.execute(
                    "INSERT INTO curves VALUES (?, ?, ?, ?, ?, ?, ?)",
                    (run_id, curve.frequency_hz.size, *(array.astype("<f8").tobytes() for array in arrays)),
                )
            rows = []
            for finding in findings:
                limits = finding.tolerance
                cursor = connection.execute(
                    "INSERT INTO findings (filter_id, run_id, step, quantity, value, unit, uncertainty, tolerance_low,"
                    " tolerance_high, sentence, settings) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                    (filter_id, run_id, step, finding.quantity, finding.value, finding.unit, finding.uncertainty,
                     limits.low if limits else None, limits.high if limits else None, sentence(finding),
                     json.dumps(dict(finding.settings))),
                )
                rows.append(int(cursor.lastrowid or 0))
            return run_id, rows

    def runs(self, filter_id: int, step: str) -> list[StoredRun]:
        """Newest first."""
        return [
            StoredRun(row["id"], row["filter_id"], row["step"], json.loads(row["settings"]), row["source"],
                      row["made_at"])
            for row in self._rows("SELECT * FROM runs WHERE filter_id = ? AND step = ? ORDER BY id DESC", filter_id,
                                  step)
        ]

    def curve(self, run_id: int) -> StoredCurve | None:
        rows = self._rows("SELECT * FROM curves WHERE run_id = ?", run_id)
        if not rows:
            return None
        names = ("frequency_hz", "level_db", "phase_deg", "uncertainty_db", "snr_db")
        return StoredCurve(*(np.frombuffer(rows[0][name], dtype="<f8") for name in names))

    def record(self, run_id: int, name: str) -> tuple[FloatArray, float]:
        """(volts (n,), sample rate in Hz) of a raw record."""
        rows = self._rows("SELECT * FROM records WHERE run_id = ? AND name = ?", run_id, name)
        if not rows:
            raise BookError(f"Run {run_id} has no record '{name}'.")
        return np.frombuffer(rows[0]["volts"], dtype="<f4").astype(float), float(rows[0]["sample_rate_hz"])

    # Findings and the logbook

    def findings_of_run(self, run_id: int) -> list[LoggedFinding]:
        return [_logged(row) for row in self._rows("SELECT * FROM findings WHERE run_id = ? ORDER BY id", run_id)]

    def logbook(self) -> list[LoggedFinding]:
        """Every finding kept, newest first."""
        rows = self._rows("SELECT * FROM findings WHERE kept = 1 ORDER BY kept_at DESC, id DESC")
        return [_logged(row) for row in rows]

    def keep(self, finding_id: int, *, kept: bool = True) -> None:
        """Put a finding into the logbook, or take it out; undoable."""
        rows = self._rows("SELECT kept FROM findings WHERE id = ?", finding_id)
        if not rows:
            raise BookError(f"There is no finding {finding_id} in {self.path}.")
        if bool(rows[0]["kept"]) != kept:
            self._act("keep", {"finding_id": finding_id, "kept": not kept}, {"finding_id": finding_id, "kept": kept})

    # Notes

    def add_note(self, text: str, *, filter_id: int | None = None) -> int:
        """Write a note; undoable."""
        with self._writing() as connection:
            cursor = connection.execute(
                "INSERT INTO notes (filter_id, text, shown, made_at) VALUES (?, ?, 0, ?)", (filter_id, text, _now())
            )
            row = int(cursor.lastrowid or 0)
            self._act("note", {"note_id": row, "shown": False}, {"note_id": row, "shown": True})
        return row

    def notes(self) -> list[Note]:
        return [
            Note(row["id"], row["filter_id"], row["text"], row["made_at"])
            for row in self._rows("SELECT * FROM notes WHERE shown = 1 ORDER BY id DESC")
        ]

    # Undo and redo

    def _act(self, kind: str, before: Mapping[str, Any], after: Mapping[str, Any]) -> None:
        with self._writing() as connection:
            # What was undone and not redone is overtaken by a new act.
            connection.execute("UPDATE actions SET undone = 2 WHERE undone = 1")
            connection.execute(
                "INSERT INTO actions (kind, before, after, done_at) VALUES (?, ?, ?, ?)",
                (kind, json.dumps(dict(before)), json.dumps(dict(after)), _now()),
            )
            _apply(connection, kind, after)

    def undo(self) -> str | None:
        """Take back the last act; returns its kind, None when there is none."""
        return self._turn("SELECT * FROM actions WHERE undone = 0 ORDER BY id DESC LIMIT 1", "before", 1)

    def redo(self) -> str | None:
        """Do again what was last undone."""
        return self._turn("SELECT * FROM actions WHERE undone = 1 ORDER BY id LIMIT 1", "after", 0)

    def _turn(self, query: str, side: str, undone: int) -> str | None:
        with self._writing() as connection:
            row = connection.execute(query).fetchone()
            if row is None:
                return None
            _apply(connection, row["kind"], json.loads(row[side]))
            connection.execute("UPDATE actions SET undone = ? WHERE id = ?", (undone, row["id"]))
            return str(row["kind"])

    @property
    def can_undo(self) -> bool:
        return bool(self._rows("SELECT 1 FROM actions WHERE undone = 0 LIMIT 1"))

    @property
    def can_redo(self) -> bool:
        return bool(self._rows("SELECT 1 FROM actions WHERE undone = 1 LIMIT 1"))


def _apply(connection: sqlite3.Connection, kind: str, state: Mapping[str, Any]) -> None:
    if kind == "set":
        for name, value in state["values"].items():
            if value is None:
                connection.execute(
                    "DELETE FROM settings WHERE filter_id = ? AND name = ?", (state["filter_id"], name)
                )
            else:
                connection.execute(
                    "INSERT INTO settings VALUES (?, ?, ?) ON CONFLICT (filter_id, name) DO UPDATE SET value = ?",
                    (state["filter_id"], name, json.dumps(value), json.dumps(value)),
                )
    elif kind == "keep":
        connection.execute(
            "UPDATE findings SET kept = ?, kept_at = ? WHERE id = ?",
            (int(state["kept"]), _now() if state["kept"] else None, state["finding_id"]),
        )
    elif kind == "note":
        connection.execute("UPDATE notes SET shown = ? WHERE id = ?", (int(state["shown"]), state["note_id"]))


def _logged(row: sqlite3.Row) -> LoggedFinding:
    limits = None if row["tolerance_low"] is None else Tolerance(row["tolerance_low"], row["tolerance_high"])
    finding = Finding(
        row["quantity"], row["value"], row["unit"], row["uncertainty"], limits, json.loads(row["settings"])
    )
    return LoggedFinding(
        row["id"], row["filter_id"], row["run_id"], row["step"], finding, bool(row["kept"]), row["kept_at"]
    )
