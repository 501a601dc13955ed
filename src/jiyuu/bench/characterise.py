"""The whole walk on a rig into a folder of open files; what an earlier call with the same settings finished stays."""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Iterator, Mapping
from functools import partial
from pathlib import Path
from typing import Any

from jiyuu import __version__
from jiyuu.bench.report.printed import html_text, write_pdf
from jiyuu.bench.report.sheet import Sheet
from jiyuu.bench.report.walked import walk_sheet
from jiyuu.bench.run import Run
from jiyuu.bench.setting import Setting
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.bench.walk import measured, setting_of, walk
from jiyuu.book.table import Table
from jiyuu.errors import JiyuuError
from jiyuu.measurement.finding import Finding
from jiyuu.processes import as_they_come
from jiyuu.progress import Progress
from jiyuu.rig.protocol import Rig
from jiyuu.whole_file import apart_from, write_text, written_whole
from jiyuu.wording.findings import sentence

FINDINGS, HTML, PDF = "findings.json", "report.html", "report.pdf"
ASKED = "asked"  # in the JSON, where steps were asked something unusual
SHORT = 64  # rows up to which a table stands in the JSON too


def characterise(
    standing: Standing, rig: Callable[[], Rig], *, seed: int, folder: Path, only_mode: bool,
    asked: Mapping[str, Mapping[str, object]] | None = None, inputs: tuple[Path, ...] = (),
) -> Iterator[Progress | dict[str, object]]:
    """Yields progress, then what stands in findings.json. Writes it, a CSV for every table, and the reports; every mode
    is measured where a step has such a choice, unless only_mode. asked: settings of steps that are not as usual.
    inputs: files that must not be written onto. Raises JiyuuError where the folder holds another filter's results or
    cannot be written to."""
    asked = asked or {}
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise JiyuuError(f"{folder} cannot be made: {error.strerror}; choose another place.") from error
    for name in (FINDINGS, HTML, PDF):
        apart_from(folder / name, inputs)
    identity = {
        "filter": json.loads(standing.filter.model_dump_json()), "seed": seed, "cutoff_hz": standing.cutoff_hz,
        "resonance_percent": standing.resonance_percent, "version": __version__,
        **({ASKED: {step: dict(values) for step, values in asked.items()}} if asked else {}),
    }
    done = _done_before(folder, identity)
    steps = [step for step in walk() if step.measures]
    missing: list[tuple[Step, Setting]] = []
    for step in steps:
        setting = setting_of(step, asked) if only_mode else step.thorough(setting_of(step, asked))
        if not _is_done(folder, step.modes(standing, setting), done.get(step.key)):
            missing.append((step, setting))
    # What takes longest first: begun last, it would be done alone while other cores have nothing left.
    missing.sort(key=lambda one: one[0].takes * len(one[0].modes(standing, one[1])), reverse=True)
    # Each has a rig of its own.
    works = [partial(_one, step, standing, setting, rig(), folder, inputs) for step, setting in missing]
    shares = dict.fromkeys(range(len(works)), 0.0)
    for number, told in as_they_come(works):
        if isinstance(told, dict):
            done[missing[number][0].key] = told
            _write(folder, identity, done)
            continue
        shares[number] = 1.0 if told is None else told.share
        if told is not None:
            share = (len(steps) - len(works) + sum(shares.values())) / len(steps)
            yield Progress(f"{missing[number][0].name}: {told.text}", share)
    summary = _write(folder, identity, done)
    tables = {name: folder / name for found in done.values() for name in _files_of(found)}
    sheet = walk_sheet(standing, summary, tables)
    for _, begun in as_they_come([partial(write, sheet, folder, inputs) for write in (_write_page, _write_sheets)]):
        if begun is not None:
            yield begun
    yield summary


def _write_page(sheet: Sheet, folder: Path, inputs: tuple[Path, ...]) -> Iterator[Progress]:
    yield Progress("Writing the report", 0.98)
    write_text(folder / HTML, html_text(sheet), inputs=inputs)


def _write_sheets(sheet: Sheet, folder: Path, inputs: tuple[Path, ...]) -> Iterator[Progress]:
    yield Progress("Writing the report to print", 0.99)
    with written_whole(folder / PDF, inputs=inputs) as temporary:
        write_pdf(sheet, temporary)


def _one(
    step: Step, standing: Standing, setting: Setting, rig: Rig, folder: Path, inputs: tuple[Path, ...]
) -> Iterator[Progress | dict[str, object]]:
    """Progress and, after every run, what the step has come to; what cannot be measured says why and does not stop the
    others."""
    modes: dict[str, Any] = {}
    try:
        for told in measured(step, standing, setting, rig):
            if isinstance(told, Progress):
                yield told
                continue
            for table in told.tables:
                write_text(folder / file_name(table, told.mode), table.as_csv(), inputs=inputs)
            modes[told.mode] = as_json(told)
            yield {"mode": standing.mode, **modes.get(standing.mode, {}), "modes": dict(modes)}
    except JiyuuError as error:
        yield {"mode": standing.mode, "findings": [], "modes": dict(modes), "why": str(error)}


def file_name(table: Table, mode: str) -> str:
    """'response-lowpass-24.csv'; 'tracking.csv' for a table that is not of one mode."""
    return f"{table.name}-{mode}.csv" if table.of_mode else f"{table.name}.csv"


def as_json(run: Run) -> dict[str, object]:
    """A run in open form: facts, findings, short tables as rows (as a list where there is one column)."""
    tables = {table.name: _rows(table) for table in run.tables if 0 < table.length <= SHORT}
    single = {name: table.columns[name] for table in run.tables for name in table.columns
              if len(table.columns) == 1 and table.length <= SHORT}
    return {
        "mode": run.mode, **run.facts, **tables, **{name: [_number(v) for v in column] for name, column in
                                                    single.items()},
        "findings": [finding_json(finding) for finding in run.findings],
        "tables": [file_name(table, run.mode) for table in run.tables],
    }


def _rows(table: Table) -> list[dict[str, float | None]]:
    return [{name: _number(column[i]) for name, column in table.columns.items()} for i in range(table.length)]


def _number(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None


def finding_json(finding: Finding) -> dict[str, object]:
    """A finding in open form."""
    limits = finding.tolerance
    return {
        "quantity": finding.quantity, "value": finding.value, "unit": finding.unit,
        "uncertainty": finding.uncertainty, "verdict": finding.verdict.value,
        "tolerance": None if limits is None else {"low": limits.low, "high": limits.high},
        "sentence": sentence(finding),
    }


def _write(folder: Path, identity: Mapping[str, object], done: Mapping[str, Any]) -> dict[str, object]:
    done = {step.key: done[step.key] for step in walk() if step.key in done}
    runs = [run for found in done.values() for run in found.get("modes", {}).values()]
    warnings = [{**entry, "mode": run.get("mode")} for run in runs for entry in run.get("warnings", ())]
    summary = {**identity, "steps": done, "warnings": warnings}
    write_text(folder / FINDINGS, json.dumps(summary, indent=2, ensure_ascii=False, allow_nan=False) + "\n")
    return summary


def _done_before(folder: Path, identity: Mapping[str, object]) -> dict[str, Any]:
    """Steps that an earlier call with the same settings has finished. Raises JiyuuError where the folder holds the
    results of something else: they are not replaced without a word."""
    kept = folder / FINDINGS
    if not kept.exists():
        return {}
    try:
        before = json.loads(kept.read_text(encoding="utf-8"))
        steps = before["steps"]
        differs = [name for name in (*identity, ASKED) if before.get(name) != identity.get(name)]
    except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise JiyuuError(f"{kept} is not what a characterisation leaves behind; choose an empty folder.") from error
    if differs:
        raise JiyuuError(f"{folder} holds the results of another {_named(differs[0])}; choose another folder, or "
                         "remove that one.")
    return dict(steps) if isinstance(steps, dict) else {}


def _named(name: str) -> str:
    return {ASKED: "length or number of sweeps",
            "seed": "unit (seed)", "cutoff_hz": "cutoff", "resonance_percent": "resonance"}.get(name, name)


def _files_of(found: Mapping[str, Any]) -> list[str]:
    return [name for run in found.get("modes", {}).values() for name in run.get("tables", ())]


def _is_done(folder: Path, wanted: tuple[str, ...], found: object) -> bool:
    if not isinstance(found, dict) or found.get("mode") != wanted[-1]:
        return False
    modes = found.get("modes", {})
    return "why" in found or (all(mode in modes for mode in wanted)
                              and all((folder / name).is_file() for name in _files_of(found)))
