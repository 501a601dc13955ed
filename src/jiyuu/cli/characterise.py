"""The unattended walk on the simulated rig, into a folder.

Each mode's results are written when they are there; a second call with the same settings goes on with the rest.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.progress import Progress as Bar

from jiyuu import __version__
from jiyuu.book.report import html_report, pdf_report
from jiyuu.cli.measure import curve_csv
from jiyuu.cli.options import Chosen
from jiyuu.errors import JiyuuError
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.wording import sentence
from jiyuu.rig.response_run import Progress, ResponseRequest, ResponseRun, run_response
from jiyuu.rig.simulated import SimulatedRig
from jiyuu.whole_file import write_text, written_whole


def characterise(chosen: Chosen, *, seed: int, folder: Path, only_mode: bool) -> dict[str, Any]:
    """Measures every mode (or the chosen one); writes findings.json, response-MODE.csv, report.html, report.pdf."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise JiyuuError(f"{folder} cannot be made: {error.strerror}; choose another place.") from error
    document = chosen.document
    resonance = document.percent_at(chosen.gain)
    identity = {
        "filter": json.loads(document.model_dump_json()), "seed": seed, "cutoff_hz": chosen.cutoff_hz,
        "resonance_percent": resonance, "version": __version__,
    }
    modes = (chosen.mode,) if only_mode else document.entry.modes
    done = _already_done(folder, identity, modes)
    missing = tuple(mode for mode in modes if mode not in done)
    with Bar(console=Console(file=sys.stderr), transient=True) as bar:
        task = bar.add_task("Response", total=1.0)
        if missing:
            request = ResponseRequest(document, chosen.cutoff_hz, resonance, missing)
            for step in run_response(request, SimulatedRig(document, seed=seed)):
                if isinstance(step, Progress):
                    bar.update(task, completed=step.share, description=step.text)
                    continue
                done[step.mode] = _as_json(step)
                write_text(folder / f"response-{step.mode}.csv", curve_csv(step.response))
                _write_findings(folder, identity, {mode: done[mode] for mode in modes if mode in done})
    summary = _write_findings(folder, identity, {mode: done[mode] for mode in modes})
    curves = {mode: folder / f"response-{mode}.csv" for mode in modes}
    write_text(folder / "report.html", html_report(document, summary, curves))
    with written_whole(folder / "report.pdf") as temporary:
        pdf_report(document, summary, curves, temporary)
    return summary


def _write_findings(folder: Path, identity: dict[str, Any], modes: dict[str, Any]) -> dict[str, Any]:
    summary = {**identity, "steps": {"response": {"modes": modes}}}
    write_text(folder / "findings.json", json.dumps(summary, indent=2, ensure_ascii=False, allow_nan=False) + "\n")
    return summary


def _already_done(folder: Path, identity: dict[str, Any], modes: tuple[str, ...]) -> dict[str, Any]:
    try:
        before = json.loads((folder / "findings.json").read_text(encoding="utf-8"))
        if {key: before[key] for key in identity} != identity:
            return {}
        found: dict[str, Any] = before["steps"]["response"]["modes"]
    except (OSError, ValueError, KeyError, TypeError):
        return {}
    return {m: found[m] for m in modes if m in found and (folder / f"response-{m}.csv").is_file()}


def _as_json(run: ResponseRun) -> dict[str, Any]:
    return {"kind": run.read.reading.kind.value, "findings": [_finding(f) for f in run.findings]}


def _finding(finding: Finding) -> dict[str, Any]:
    limits = finding.tolerance
    return {
        "quantity": finding.quantity, "value": finding.value, "unit": finding.unit,
        "uncertainty": finding.uncertainty, "verdict": finding.verdict.value,
        "tolerance": None if limits is None else {"low": limits.low, "high": limits.high},
        "sentence": sentence(finding),
    }
