"""What a book holds in the order of time: runs, findings kept, trims, notes; sought by any of it; a unit then, now."""

from __future__ import annotations

import json
import sqlite3
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from enum import StrEnum
from typing import Any

from jiyuu.book.enclosed import enclosed
from jiyuu.book.store import Book
from jiyuu.book.stored import StoredRun
from jiyuu.measurement.finding import Finding, Tolerance, Verdict
from jiyuu.quantities import shown_hz
from jiyuu.wording.acts import act_line


class Kind(StrEnum):
    """What an entry is."""

    RUN = "run"
    FINDING = "finding"
    NOTE = "note"
    ENCLOSED = "enclosed"  # a picture or a recording beside a note
    TRIM = "trim"
    SHELF = "shelf"


@dataclass(frozen=True, slots=True)
class Entry:
    """kind; at: when, in local time; letter of the filter, '' for the whole book; step: its key, '' for none; text: a
    sentence; verdict of a finding, of a run the worst of its findings; number: its row in the book; run_id: the run it
    comes from, where there is one; quantity of a finding; folded: all its words, to be sought in."""

    kind: Kind
    at: datetime
    letter: str
    step: str
    text: str
    verdict: Verdict
    number: int
    run_id: int | None = None
    quantity: str = ""
    folded: str = field(default="", compare=False, repr=False)

    def __post_init__(self) -> None:
        words = f"{self.text} {self.step} {self.quantity} {self.letter}".casefold()
        object.__setattr__(self, "folded", words)

    @property
    def day(self) -> date:
        return self.at.date()


@dataclass(frozen=True, slots=True)
class Sought:
    """What is looked for; None or '' for anything."""

    words: str = ""
    letter: str = ""
    step: str = ""
    kind: Kind | None = None
    verdict: Verdict | None = None
    day: date | None = None

    def fits(self, entry: Entry) -> bool:
        """Every word stands somewhere in the entry."""
        if (self.letter and entry.letter != self.letter) or (self.step and entry.step != self.step):
            return False
        if (self.kind is not None and entry.kind is not self.kind) or (
                self.verdict is not None and entry.verdict is not self.verdict):
            return False
        if self.day is not None and entry.day != self.day:
            return False
        return all(word in entry.folded for word in self.words.casefold().split())


@dataclass(frozen=True, slots=True)
class Point:
    """A quantity at one time; uncertainty (95 %), where it was stated."""

    at: datetime
    value: float
    uncertainty: float | None
    run_id: int


@dataclass(frozen=True, slots=True)
class Course:
    """One quantity of one filter in one mode over time, oldest first."""

    quantity: str
    unit: str
    tolerance: Tolerance | None
    points: tuple[Point, ...]

    @property
    def drift(self) -> float | None:
        """Last less first; None of a single point."""
        return None if len(self.points) < 2 else self.points[-1].value - self.points[0].value


def entries(book: Book) -> list[Entry]:
    """Everything, newest first. What cannot be dated is left out."""
    letters = book.letters()
    found = [*_runs(book, letters), *_kept(book, letters), *_notes(book, letters), *_acts(book, letters)]
    return sorted(found, key=lambda entry: (entry.at, entry.number), reverse=True)


def _time(text: object) -> datetime | None:
    try:
        return datetime.fromisoformat(str(text)).astimezone()
    except (ValueError, TypeError):
        return None


def _runs(book: Book, letters: Mapping[int, str]) -> Iterable[Entry]:
    worst: dict[int, Verdict] = defaultdict(lambda: Verdict.UNJUDGED)
    order = list(Verdict)
    for row in book.raw("SELECT run_id, value, uncertainty, tolerance_low, tolerance_high FROM findings WHERE"
                        " tolerance_low IS NOT NULL AND run_id IS NOT NULL"):
        verdict = _verdict(row)
        if order.index(verdict) > order.index(worst[row["run_id"]]):
            worst[row["run_id"]] = verdict
    for run in book.all_runs():
        at = _time(run.made_at)
        if at is not None:
            yield Entry(Kind.RUN, at, letters.get(run.filter_id, ""), run.step, _run_line(run), worst[run.id], run.id,
                        run.id)


def _run_line(run: StoredRun) -> str:
    return f"{run.title.partition(': ')[2]}: measured ({run.source})."


def _verdict(row: sqlite3.Row) -> Verdict:
    numbers = (row["value"], row["tolerance_low"], row["tolerance_high"])
    if not all(isinstance(number, int | float) for number in numbers):
        return Verdict.UNJUDGED
    return Finding("", row["value"], "", row["uncertainty"], Tolerance(*numbers[1:])).verdict


def _kept(book: Book, letters: Mapping[int, str]) -> Iterable[Entry]:
    for row in book.raw("SELECT * FROM findings WHERE kept = 1"):
        at = _time(row["kept_at"])
        if at is not None:
            yield Entry(Kind.FINDING, at, letters.get(row["filter_id"], ""), row["step"], row["sentence"],
                        _verdict(row), row["id"], row["run_id"], row["quantity"])


def _notes(book: Book, letters: Mapping[int, str]) -> Iterable[Entry]:
    media = enclosed(book)
    for note in book.notes():
        at = _time(note.made_at)
        if at is not None:
            kind = Kind.ENCLOSED if note.id in media else Kind.NOTE
            yield Entry(kind, at, letters.get(note.filter_id or -1, ""), "", note.text, Verdict.UNJUDGED, note.id)


def _acts(book: Book, letters: Mapping[int, str]) -> Iterable[Entry]:
    """Trims turned, filters put on the shelf or taken off: what changes a unit, and not only a view of it."""
    for row in book.raw("SELECT * FROM actions WHERE undone = 0 AND (kind = 'filter' OR (kind = 'set' AND after LIKE"
                        " '%\"trims\"%'))"):
        at = _time(row["done_at"])
        try:
            after = json.loads(row["after"])
            letter = letters.get(after["filter_id"], "")
            if row["kind"] == "set":
                kind, text = Kind.TRIM, _trim_line(after["values"].get("trims"))
            else:
                said = act_line("filter", after)
                kind, text = Kind.SHELF, f"{said[:1].upper()}{said[1:]}."
        except (ValueError, KeyError, TypeError, AttributeError):
            continue  # an act of another version: nothing to be said of it
        if at is not None:
            yield Entry(kind, at, letter, "", text, Verdict.UNJUDGED, row["id"])


def _trim_line(trims: Mapping[str, float] | None) -> str:
    turned = [f"{name} at {turns:+.2f} turns".replace("-", "−") for name, turns in (trims or {}).items() if turns]
    return f"Trims turned: {', '.join(turned)}." if turned else "Trims turned back to where they were built."


# One unit over time


def course(book: Book, run: StoredRun, finding: Finding) -> Course:
    """A quantity of a run as all runs of that filter, step and mode have found it. One that a run found several times
    (humps) has no line: then only the run's own value stands."""
    rows = book.raw(
        "SELECT runs.made_at, runs.id, findings.value, findings.uncertainty FROM findings JOIN runs ON runs.id = run_id"
        " WHERE runs.filter_id = ? AND runs.step = ? AND runs.mode IS ? AND runs.shown = 1 AND quantity = ?"
        " ORDER BY runs.id", run.filter_id, run.step, run.mode, finding.quantity)
    points = [Point(at, row["value"], row["uncertainty"], row["id"]) for row in rows
              if (at := _time(row["made_at"])) is not None and isinstance(row["value"], int | float)]
    if len({one.run_id for one in points}) < len(points):
        points = [Point(at, finding.value, finding.uncertainty, run.id)] if (at := _time(run.made_at)) else []
    return Course(finding.quantity, finding.unit, finding.tolerance, tuple(sorted(points, key=lambda one: one.at)))


@dataclass(frozen=True, slots=True)
class Moved:
    """Something that stands otherwise than it did: what, how it was, how it is."""

    what: str
    then: str
    now: str


SHOWN: dict[str, tuple[str, object]] = {
    "mode": ("Mode", str), "cutoff_hz": ("Cutoff", shown_hz),
    "resonance_percent": ("Resonance", lambda v: f"{v:.4g} %"),
    "drive_db": ("Drive", lambda v: f"{v:+.4g} dB".replace("-", "−")),
    "next_limit_v": ("Next module's limit", lambda v: f"±{v:.3g} V"),
}
AS_WHOLE = {"control": "Resonance control", "sources": "Source", "path": "Signal path"}
EACH = {"parameters": ("", ""), "trims": (" trim", " turns")}


def moved_since(then: Mapping[str, object], now: Mapping[str, object]) -> list[Moved]:
    """Of a filter as a run recorded it (JSON of how it stood), against how it stands."""
    found = []
    for name, (title, shown) in SHOWN.items():
        if name in then and name in now and then[name] != now[name]:
            found.append(Moved(title, _safely(shown, then[name]), _safely(shown, now[name])))
    for name, (ending, unit) in EACH.items():
        was, stands = then.get(name) or {}, now.get(name) or {}
        if isinstance(was, Mapping) and isinstance(stands, Mapping):
            for one in sorted({*was, *stands}):
                if was.get(one) != stands.get(one):
                    title = f"{one.replace('_', ' ').capitalize()}{ending}"
                    found.append(Moved(title, *(f"{_number(value.get(one))}{unit}" for value in (was, stands))))
    for name, title in AS_WHOLE.items():
        if name in then and name in now and then[name] != now[name]:
            found.append(Moved(title, "another", "as it stands"))
    return found


def _safely(shown: Any, value: object) -> str:
    try:
        return str(shown(value))
    except (TypeError, ValueError):
        return str(value)


def _number(value: object) -> str:
    return "as built" if value is None else f"{value:.4g}".replace("-", "−") if isinstance(value, int | float) else str(
        value)


def filtered(found: Sequence[Entry], sought: Sought) -> list[Entry]:
    """Those that fit, in their order."""
    return [entry for entry in found if sought.fits(entry)]


def days(found: Sequence[Entry]) -> list[date]:
    """On which something happened, oldest first."""
    return sorted({entry.day for entry in found})

