"""The unattended walk on the simulated rig, into a folder.

Each mode's results are written when they are there; a second call with the same settings goes on with the rest.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from rich.console import Console
from rich.progress import Progress as Bar

from jiyuu import __version__
from jiyuu.book.report import html_report, pdf_report
from jiyuu.cli.measure import curve_csv
from jiyuu.cli.options import Chosen, uncertain
from jiyuu.cli.tracking import readings_csv
from jiyuu.errors import JiyuuError, MeasurementError
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.wording import sentence
from jiyuu.rig.level_run import LevelRequest, run_levels
from jiyuu.rig.oscillation_run import OscillationRequest, run_oscillation
from jiyuu.rig.resonance_run import ResonanceRequest, ResonanceRun, run_resonance
from jiyuu.rig.response_run import Progress, ResponseRequest, ResponseRun, run_response
from jiyuu.rig.simulated import SimulatedRig
from jiyuu.rig.tracking_request import tracking_request
from jiyuu.rig.tracking_run import possible_request, run_tracking
from jiyuu.whole_file import write_text, written_whole

OTHER_STEPS = ("setup", "resonance", "self_oscillation", "tracking")
TRACKING_CSV = "tracking.csv"


def characterise(chosen: Chosen, *, seed: int, folder: Path, only_mode: bool) -> dict[str, Any]:
    """Measures levels, every mode (or the chosen one), and resonance, self-oscillation and tracking of the chosen one;
    writes findings.json, response-MODE.csv, resonance-MODE.csv, tracking.csv, report.html, report.pdf."""
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
    before = _steps_done(folder, identity)
    rig = SimulatedRig(document, seed=seed)
    with Bar(console=Console(file=sys.stderr), transient=True) as bar:
        task = bar.add_task("Setup", total=5.0)

        def went(step: Progress, behind: float) -> None:
            bar.update(task, completed=behind + step.share, description=step.text)

        def written() -> dict[str, Any]:
            return _write_findings(folder, identity, {mode: done[mode] for mode in modes if mode in done}, before)

        if "setup" not in before:
            for step in run_levels(LevelRequest(document, chosen.cutoff_hz, resonance, chosen.mode), rig):
                if isinstance(step, Progress):
                    went(step, 0.0)
                else:
                    before["setup"] = {"findings": [_finding(f) for f in step.findings]}
            written()
        if missing:
            request = ResponseRequest(document, chosen.cutoff_hz, resonance, missing)
            for run in run_response(request, rig):
                if isinstance(run, Progress):
                    went(run, 1.0)
                    continue
                done[run.mode] = _as_json(run)
                write_text(folder / f"response-{run.mode}.csv", curve_csv(run.response))
                written()
        if before.get("resonance", {}).get("mode") != chosen.mode or not (
            folder / f"resonance-{chosen.mode}.csv"
        ).is_file():
            before["resonance"] = _resonance(chosen, resonance, rig, folder, lambda step: went(step, 2.0))
            written()
        if before.get("self_oscillation", {}).get("mode") != chosen.mode:
            before["self_oscillation"] = _oscillation(chosen, resonance, rig, lambda step: went(step, 3.0))
            written()
        if before.get("tracking", {}).get("mode") != chosen.mode or not (folder / TRACKING_CSV).is_file():
            before["tracking"] = _tracking(chosen, rig, folder, lambda step: went(step, 4.0))
        summary = written()
    curves = {mode: folder / f"response-{mode}.csv" for mode in modes}
    table = folder / TRACKING_CSV
    tracked = table if table.is_file() and before["tracking"].get("findings") else None
    write_text(folder / "report.html", html_report(document, summary, curves, tracked))
    with written_whole(folder / "report.pdf") as temporary:
        pdf_report(document, summary, curves, temporary, tracked)
    return summary


def _oscillation(
    chosen: Chosen, percent: float, rig: SimulatedRig, went: Callable[[Progress], None]
) -> dict[str, Any]:
    """The Self-oscillation step; a filter that does not whistle says so."""
    request = OscillationRequest(chosen.document, chosen.cutoff_hz, chosen.mode, percent)
    try:
        for step in run_oscillation(request, rig):
            if isinstance(step, Progress):
                went(step)
                continue
            return {
                "mode": chosen.mode, "findings": [_finding(f) for f in step.findings],
                "onset_percent": uncertain(step.onset_percent.value, step.onset_percent.uncertainty),
                "tone_percent": step.tone_percent, "harmonics_db": list(step.tone.harmonics_db),
                "pull": [
                    {"position_percent": float(p), "frequency_hz": float(f), "cents": float(c), "amplitude_v": float(v)}
                    for p, f, c, v in zip(step.position_percent, step.pull_hz, step.pull_cents, step.pull_v,
                                          strict=True)
                ],
            }
    except MeasurementError as error:
        return {"mode": chosen.mode, "findings": [], "why": str(error)}
    return {}


def _tracking(chosen: Chosen, rig: SimulatedRig, folder: Path, went: Callable[[Progress], None]) -> dict[str, Any]:
    """The Tracking step, by the tone or, where there is none, by sweeps."""
    request = possible_request(tracking_request(chosen.document, chosen.mode), rig)
    try:
        for step in run_tracking(request, rig):
            if isinstance(step, Progress):
                went(step)
                continue
            write_text(folder / TRACKING_CSV, readings_csv(step.tracking))
            return {
                "mode": chosen.mode, "findings": [_finding(f) for f in step.findings], "by_sweeps": request.by_sweeps,
                "start_hz": request.start_hz, "advice": list(step.advice.sentences),
            }
    except MeasurementError as error:
        return {"mode": chosen.mode, "findings": [], "why": str(error)}
    return {}


def _resonance(
    chosen: Chosen, percent: float, rig: SimulatedRig, folder: Path, went: Callable[[Progress], None]
) -> dict[str, Any]:
    """The Resonance step; what cannot be measured says why in the summary and does not stop the rest."""
    request = ResonanceRequest(chosen.document, chosen.cutoff_hz, chosen.mode)
    try:
        for step in run_resonance(request, rig, resonance_percent=percent):
            if isinstance(step, Progress):
                went(step)
                continue
            write_text(folder / f"resonance-{chosen.mode}.csv", resonance_csv(step))
            return {
                "mode": chosen.mode, "findings": [_finding(f) for f in step.findings],
                "onset_percent": None if step.onset_percent is None else uncertain(
                    step.onset_percent, step.onset_uncertainty
                ),
                "why_no_taper": step.why_no_taper or None,
            }
    except MeasurementError as error:
        return {"mode": chosen.mode, "findings": [], "why": str(error)}
    return {}


def resonance_csv(run: ResonanceRun) -> str:
    """A row a position: what resonance does there; empty where there is no such thing."""
    curves = run.curves
    columns = (curves.position_percent, curves.body_db, curves.peak_db, curves.peak_hz, curves.q, curves.highest_db)
    rows = ["position_percent,body_db,peak_db,peak_hz,q,highest_db"]
    rows += [",".join("" if np.isnan(v) else f"{v:.9g}" for v in row) for row in zip(*columns, strict=True)]
    return "\n".join(rows) + "\n"


def _write_findings(
    folder: Path, identity: dict[str, Any], modes: dict[str, Any], others: dict[str, Any]
) -> dict[str, Any]:
    summary = {**identity, "steps": {**others, "response": {"modes": modes}}}
    write_text(folder / "findings.json", json.dumps(summary, indent=2, ensure_ascii=False, allow_nan=False) + "\n")
    return summary


def _steps_done(folder: Path, identity: dict[str, Any]) -> dict[str, Any]:
    """Steps besides the response that an earlier call with the same settings has finished."""
    try:
        before = json.loads((folder / "findings.json").read_text(encoding="utf-8"))
        if {key: before[key] for key in identity} != identity:
            return {}
        return {step: before["steps"][step] for step in OTHER_STEPS if step in before["steps"]}
    except (OSError, ValueError, KeyError, TypeError):
        return {}


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
