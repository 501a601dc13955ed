"""What was measured of several filters, or of one at several times, beside each other: every quantity of every step,
and whether it differs by more than is not known, and by more than is noticed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

import numpy as np

from jiyuu.bench.walk import walk
from jiyuu.book.store import Book
from jiyuu.book.stored import Shelved, StoredRun
from jiyuu.character.comparison import Verdict
from jiyuu.character.scales import LEVEL_1_DB, SCALE, Noticed
from jiyuu.measurement.finding import Finding
from jiyuu.wording.findings import QUANTITIES

# What is known of hearing a difference, by the quantity that a step measures.
NOTICED: Mapping[str, Noticed] = {
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
    have it; jnd about the middle, with its source."""

    step: str
    quantity: str
    title: str
    unit: str
    values: tuple[Finding | None, ...]
    difference: float | None
    jnd: float | None
    jnd_source: str
    verdict: Verdict


def measured(book: Book, shelved: Shelved, *, mode: str | None = None, until: datetime | None = None,
             name: str | None = None) -> Measured:
    """The newest run of every step, in a mode or in whichever; until: not later than that."""
    newest: dict[str, StoredRun] = {}
    for step in walk():
        if not step.measures:
            continue
        runs = [run for run in book.runs(shelved.id, step.key)
                if until is None or datetime.fromisoformat(run.made_at) <= until]
        there = [run for run in runs if run.mode == mode] or runs
        if there:
            newest[step.key] = there[0]
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
    difference = known[-1].value - known[0].value if len(known) > 1 else None
    low, high = (pick(known, key=lambda one: one.value) for pick in (min, max))
    jnd = None if noticed is None else noticed.at((low.value + high.value) / 2)
    return Line(step, quantity, title, known[0].unit, tuple(values), difference, jnd,
                "" if noticed is None else noticed.source, _verdict(low, high, len(known), jnd))


def _verdict(low: Finding, high: Finding, count: int, jnd: float | None) -> Verdict:
    if count < 2:
        return Verdict.NOT_COMPARABLE
    apart = high.value - low.value
    if apart <= float(np.hypot(low.uncertainty or 0.0, high.uncertainty or 0.0)):
        return Verdict.NOT_MEASURED
    if jnd is None:
        return Verdict.NO_THRESHOLD
    return Verdict.HARDLY if apart < jnd else Verdict.HEARD
