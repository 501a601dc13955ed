"""What was measured of several filters, or of one at several times, beside each other: every quantity of every step,
and whether it differs by more than is not known, and by more than is noticed."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from jiyuu.bench.walk import walk
from jiyuu.book.store import Book
from jiyuu.book.stored import Shelved, StoredRun
from jiyuu.character.comparison import Verdict
from jiyuu.character.scales import ALL, LEVEL_1_DB, SCALE, Noticed
from jiyuu.measurement.finding import Finding
from jiyuu.wording.findings import QUANTITIES
from jiyuu.wording.numbers import stated

# What is known of hearing a difference, by the quantity that a step measures.
NOTICED: Mapping[str, Noticed] = {
    **{scale.name: scale.noticed for scale in ALL if scale.name != "evenness"},
    **dict.fromkeys(("cutoff_3db_hz", "low_3db_hz", "high_3db_hz", "pole_hz"), SCALE["cutoff_3db_hz"].noticed),
    **dict.fromkeys(("peak_hz", "notch_hz"), SCALE["peak_hz"].noticed),
    **dict.fromkeys(("peak_db", "first_octave_drop_db", "passband_db"), LEVEL_1_DB),
}
ABOUT_THE_RIG = frozenset({"latency_s", "clock_offset_ppm", "noise_floor_db"})  # and not about the filter


@dataclass(frozen=True, slots=True, eq=False)
class Measured:
    """One column: a filter, and what its newest runs until then say; name: 'A', or 'A, 5 Mar 2026'. runs: by step."""

    name: str
    shelved: Shelved
    runs: Mapping[str, StoredRun]
    findings: Mapping[tuple[str, str, str], Finding]  # by step, quantity, and what stands round it


@dataclass(frozen=True, slots=True, eq=False)
class Line:
    """One quantity of all of them; None where it was not measured. difference: of the last re the first of those that
    have it, its uncertainty (None where neither is known); jnd about the middle, with its source."""

    step: str
    quantity: str
    title: str
    unit: str
    values: tuple[Finding | None, ...]
    difference: float | None
    uncertainty: float | None
    jnd: float | None
    jnd_source: str
    verdict: Verdict


def measured(book: Book, shelved: Shelved, *, mode: str | None = None, until: str | None = None,
             name: str | None = None) -> Measured:
    """The newest run of every step, in a mode or else in whichever; until: as a run's made_at, for what was known
    then."""
    newest: dict[str, StoredRun] = {}
    runs = sorted(book.newest_runs(shelved.id, until=until), key=lambda run: (run.mode == mode, run.id))
    for step in walk():
        there = [run for run in runs if run.step == step.run_key]
        if step.measures and there:
            newest[step.key] = there[-1]
    found = book.findings_of_runs([run.id for run in newest.values()])
    findings = {(key, logged.finding.quantity, _round_it(logged.finding)): logged.finding
                for key, run in newest.items() for logged in found[run.id]}
    return Measured(name or shelved.letter, shelved, newest, findings)


def _round_it(finding: Finding) -> str:
    """What two findings must share beside their quantity to be of one kind: a number alone may differ."""
    told = {} if finding.context is None else finding.context.as_json()
    return "/".join(str(value) for value in told.values() if isinstance(value, str))


def beside(columns: Sequence[Measured]) -> list[Line]:
    """Every quantity that any of them has, in the order of the walk."""
    keys = list(dict.fromkeys(key for column in columns for key in column.findings))
    order = [step.key for step in walk()]
    keys.sort(key=lambda key: order.index(key[0]))
    return [_line(key, [column.findings.get(key) for column in columns]) for key in keys
            if key[1] not in ABOUT_THE_RIG]


def _line(key: tuple[str, str, str], values: Sequence[Finding | None]) -> Line:
    step, quantity, _ = key
    known = [value for value in values if value is not None]
    title = QUANTITIES[quantity].title if quantity in QUANTITIES else quantity
    noticed = NOTICED.get(quantity)
    difference = _apart(known[0], known[-1]) if len(known) > 1 else None
    doubts = [one.uncertainty for one in (known[0], known[-1]) if one.uncertainty is not None]
    # Those that lie farthest apart, which on a circle need not be the least and the most.
    low, high = max(((one, other) for one in known for other in known), key=lambda pair: abs(_apart(*pair)))
    jnd = None if noticed is None else noticed.at((low.value + high.value) / 2)
    return Line(step, quantity, title, known[0].unit, tuple(values), difference,
                math.hypot(*doubts) if doubts else None, jnd,
                "" if noticed is None else noticed.source, _verdict(low, high, len(known), jnd))


def _apart(first: Finding, second: Finding) -> float:
    """The second less the first; of angles the short way round."""
    apart = second.value - first.value
    return (apart + 180.0) % 360.0 - 180.0 if first.unit == "°" else apart


def _verdict(low: Finding, high: Finding, count: int, jnd: float | None) -> Verdict:
    if count < 2:
        return Verdict.NOT_COMPARABLE
    apart = abs(_apart(low, high))
    if apart <= math.hypot(low.uncertainty or 0.0, high.uncertainty or 0.0):
        return Verdict.NOT_MEASURED
    if jnd is None:
        return Verdict.NO_THRESHOLD
    return Verdict.HARDLY if apart < jnd else Verdict.HEARD


def days_of(book: Book, shelved: Shelved) -> list[tuple[str, str]]:
    """(day as '5 Mar 2026', the last made_at of it) on which a filter was measured, newest first."""
    found: dict[str, str] = {}
    steps = {step.run_key for step in walk() if step.measures}
    query = "SELECT step, made_at FROM runs WHERE shown = 1 AND filter_id = ? ORDER BY id DESC"
    for row in book.raw(query, shelved.id):
        if row["step"] in steps:
            try:
                at = datetime.fromisoformat(row["made_at"]).astimezone()
            except (ValueError, TypeError):
                continue  # what cannot be dated is named where the book is opened
            found.setdefault(f"{at.day} {at:%b} {at.year}", row["made_at"])
    return list(found.items())


def line_json(line: Line) -> dict[str, object]:
    """In open form."""
    values = [None if one is None else {"value": one.value, "uncertainty": one.uncertainty} for one in line.values]
    return {"step": line.step, "quantity": line.quantity, "title": line.title, "unit": line.unit, "values": values,
            "difference": line.difference, "difference_uncertainty": line.uncertainty, "jnd": line.jnd,
            "jnd_source": line.jnd_source or None, "verdict": str(line.verdict)}


def cells_of(line: Line) -> tuple[str, ...]:
    """As a table shows it: title with unit, a value a column, difference, what of it."""
    title = f"{line.title}, {line.unit}" if line.unit else line.title
    values = ["–" if one is None else stated(one.value, one.uncertainty) for one in line.values]
    apart = "–" if line.difference is None else stated(line.difference, line.uncertainty)
    return (title, *values, f"+{apart}" if (line.difference or 0.0) > 0 else apart, str(line.verdict))
