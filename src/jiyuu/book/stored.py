"""What stands in a book, as values: filters, runs, findings, notes, acts."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from jiyuu.circuits.filter_file import Filter, parse_filter
from jiyuu.errors import BookError
from jiyuu.measurement.contexts import context_of
from jiyuu.measurement.finding import Finding, Tolerance
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
    """A finding as it stands in the book, under the key of its step."""

    id: int
    filter_id: int
    run_id: int | None
    step: str
    finding: Finding
    kept: bool
    kept_at: str | None


@dataclass(frozen=True, slots=True)
class StoredRun:
    """A run without its records and tables. standing: the filter as it stood; setting: what the step was asked; facts:
    single values that are neither table nor finding. All as JSON holds them."""

    id: int
    filter_id: int
    step: str
    mode: str | None
    standing: Mapping[str, Any]
    setting: Mapping[str, object]
    facts: Mapping[str, Any]
    source: str
    made_at: str

    @property
    def title(self) -> str:
        """'run 7: lowpass-24, 800 Hz, 20 %'."""
        parts = [str(self.mode or self.step)]
        if "cutoff_hz" in self.standing:
            parts.append(shown_hz(self.standing["cutoff_hz"]))
        if "resonance_percent" in self.standing:
            parts.append(f"{self.standing['resonance_percent']:.3g} %")
        return f"run {self.id}: {', '.join(parts)}"


@dataclass(frozen=True, slots=True)
class Note:
    """A note, of a filter or of the whole book."""

    id: int
    filter_id: int | None
    text: str
    made_at: str


@dataclass(frozen=True, slots=True)
class Act:
    """What was taken back or done again: kind, the state it led to, and the one it came from."""

    kind: str
    state: Mapping[str, object]
    other: Mapping[str, object]


def document_of(text: str, place: str) -> dict[str, Any]:
    """A JSON object. Raises BookError naming the place where it is none."""
    try:
        found = json.loads(text)
    except (ValueError, TypeError) as error:
        raise BookError(f"{place} is not readable JSON; the rest of the book is.") from error
    if not isinstance(found, dict):
        raise BookError(f"{place} is not an object; the rest of the book is readable.")
    return found


def shelved_of(row: sqlite3.Row) -> Shelved:
    """Raises JiyuuError where its document is no filter of this version."""
    seed = row["seed"]
    if seed is not None and not isinstance(seed, int):
        raise BookError(f"Filter {row['letter']}: the seed of its unit is damaged; the rest of the book is readable.")
    return Shelved(row["id"], str(row["letter"]), parse_filter(str(row["document"]), source=f"Filter {row['letter']}"),
                   seed)


def setting_of(row: sqlite3.Row) -> tuple[int, str, object]:
    """(filter, name, value). Raises BookError where that is no JSON."""
    try:
        return row["filter_id"], row["name"], json.loads(row["value"])
    except (ValueError, TypeError) as error:
        raise BookError(f"The setting '{row['name']}' is not readable JSON; the rest of the book is.") from error


def run_of(row: sqlite3.Row) -> StoredRun:
    """Raises BookError where a field is no JSON object."""
    place = f"Run {row['id']}"
    try:
        datetime.fromisoformat(row["made_at"])
    except (ValueError, TypeError) as error:
        raise BookError(f"{place}: when it was made is damaged; the rest of the book is readable.") from error
    return StoredRun(
        row["id"], row["filter_id"], row["step"], row["mode"], document_of(row["standing"], place),
        document_of(row["setting"], place), document_of(row["facts"], place), row["source"], row["made_at"],
    )


def logged_of(row: sqlite3.Row) -> LoggedFinding:
    """Raises BookError where a number is none, or its context no JSON object."""
    numbers = [row[name] for name in ("value", "uncertainty", "tolerance_low", "tolerance_high")]
    if numbers[0] is None or not all(number is None or isinstance(number, int | float) for number in numbers):
        raise BookError(f"Finding {row['id']}: a number of it is damaged; the rest of the book is readable.")
    limits = None if row["tolerance_low"] is None else Tolerance(row["tolerance_low"], row["tolerance_high"])
    told = None if row["context"] is None else document_of(row["context"], f"Finding {row['id']}")
    finding = Finding(row["quantity"], row["value"], row["unit"], row["uncertainty"], limits, context_of(told))
    return LoggedFinding(
        row["id"], row["filter_id"], row["run_id"], row["step"], finding, bool(row["kept"]), row["kept_at"]
    )
