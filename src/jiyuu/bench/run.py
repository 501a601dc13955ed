"""A finished run of a step, and the one way in which a book keeps it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from jiyuu.arrays import FloatArray
from jiyuu.bench.setting import Setting
from jiyuu.bench.standing import Standing
from jiyuu.book.store import Book
from jiyuu.book.table import Table
from jiyuu.measurement.finding import Finding

SIMULATED = "simulated rig"


@dataclass(frozen=True, slots=True, eq=False)
class Run:
    """step: its key. standing: the filter as it stood; setting: what the step was asked. records: raw volts (n,) with
    their rate by name. facts: single values that are neither table nor finding, as JSON holds them. source: what was
    measured, in words."""

    step: str
    standing: Standing
    setting: Setting
    findings: tuple[Finding, ...]
    tables: tuple[Table, ...] = ()
    records: Mapping[str, tuple[FloatArray, float]] = field(default_factory=dict)
    facts: Mapping[str, Any] = field(default_factory=dict)
    source: str = SIMULATED

    @property
    def mode(self) -> str:
        return self.standing.mode

    def table(self, name: str) -> Table:
        """Raises KeyError where the run has none of that name."""
        return {table.name: table for table in self.tables}[name]

    def taken_from(self, source: str) -> Run:
        """The same, with another word for what was measured."""
        return replace(self, source=source)


def keep(book: Book, filter_id: int, run: Run) -> list[int]:
    """Everything of a run into the book, in one transaction; returns the rows of its findings."""
    _, rows = book.add_run(
        filter_id, run.step, run.mode, standing=run.standing.as_json(), setting=run.setting.model_dump(mode="json"),
        facts=run.facts, source=run.source, records=run.records, tables=run.tables, findings=run.findings,
    )
    return rows
