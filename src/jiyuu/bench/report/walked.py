"""The report of a whole walk into a folder: every step with its figures, mode by mode."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from jiyuu.bench.report.figures import Columns, columns_of, pictures_of
from jiyuu.bench.report.sheet import Part, Row, Sheet
from jiyuu.bench.standing import Standing
from jiyuu.bench.walk import walk
from jiyuu.measurement.finding import Verdict
from jiyuu.quantities import shown_hz


def walk_sheet(standing: Standing, summary: Mapping[str, Any], tables: Mapping[str, Path]) -> Sheet:
    """summary: what findings.json holds; tables: CSV files by name."""
    document = standing.document
    lines = [f"{document.entry.title}. Cutoff {shown_hz(standing.cutoff_hz)}, resonance "
             f"{summary['resonance_percent']:.0f} %. Measured on the simulated rig, build {summary['seed']}, version "
             f"{summary['version']}."]
    parts = [Part("Circuit", diagram=document.entry.diagram)]
    for step in walk():
        found = summary["steps"].get(step.key)
        if found is None:
            continue
        why = (found["why"],) if found.get("why") else ()
        parts.append(Part(step.name, why, pictures=pictures_of(_kinds(found, tables))))
        for mode, run in found.get("modes", {}).items():
            parts.append(Part(
                mode, warnings=tuple(warning["sentence"] for warning in run.get("warnings", ())), under=True,
                rows=tuple(Row((one["sentence"],), Verdict(one["verdict"])) for one in run["findings"])))
    return Sheet(document.name, (*lines, *([document.notes] if document.notes else [])), tuple(parts))


def _kinds(found: Mapping[str, Any], tables: Mapping[str, Path]) -> dict[str, dict[str, Columns]]:
    """Tables of one name in several modes share a figure."""
    kinds: dict[str, dict[str, Columns]] = {}
    for mode, run in found.get("modes", {}).items():
        for name in run.get("tables", ()):
            kind = name.removesuffix(".csv").removesuffix(f"-{mode}")
            kinds.setdefault(kind, {})[mode] = columns_of(tables[name])
    return kinds
