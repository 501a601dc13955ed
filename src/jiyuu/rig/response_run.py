"""The Response step on a rig: play the sweep, measure each mode, read the curve, fit the circuit."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.network import FloatArray
from jiyuu.circuits.trims import Trims
from jiyuu.measurement.circuit_fit import CircuitFit, fit_circuit
from jiyuu.measurement.finding import Finding, Tolerance
from jiyuu.measurement.findings import ReadResponse, read_response, response_findings
from jiyuu.measurement.response import MeasuredResponse, measure_response
from jiyuu.rig.protocol import PanelSettings, Rig
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus

SMALL_SIGNAL_V = 0.05  # a twentieth of the usual stage headroom: at a peak of +8 dB it compresses by under 0.1 dB


@dataclass(frozen=True, slots=True, eq=False)
class ResponseRun:
    """One measured mode: the settings, the raw record, the curve and what it says."""

    mode: str
    settings: Mapping[str, Any]
    stimulus_v: FloatArray
    recording_v: FloatArray
    sample_rate_hz: float
    response: MeasuredResponse
    read: ReadResponse
    fit: CircuitFit | None
    findings: tuple[Finding, ...]


@dataclass(frozen=True, slots=True)
class Progress:
    """What is being done and the share of the whole that is behind."""

    text: str
    share: float


@dataclass(frozen=True, slots=True)
class ResponseRequest:
    """Everything a run needs, frozen when it is asked for."""

    document: Filter
    cutoff_hz: float
    resonance_percent: float
    modes: tuple[str, ...]
    plan: SweepPlan = field(default_factory=lambda: SweepPlan(level_v=SMALL_SIGNAL_V))
    tolerances: Mapping[str, Tolerance] = field(default_factory=dict)
    trims: Trims = field(default_factory=Trims)


def expected_tolerances(cutoff_hz: float) -> dict[str, Tolerance]:
    """What a well-trimmed build keeps: the pole within 50 cents of the setting, the rig's own polarity."""
    span = 2 ** (50 / 1200)
    return {"pole_hz": Tolerance(round(cutoff_hz / span, 1), round(cutoff_hz * span, 1))}


def run_response(request: ResponseRequest, rig: Rig) -> Iterator[Progress | ResponseRun]:
    """Yields progress and, for every mode asked for, a ResponseRun. Stop iterating to cancel."""
    yield Progress("Playing the sweep", 0.02)
    stimulus_v = sweep_stimulus(request.plan, sample_rate_hz=rig.sample_rate_hz)
    panel = PanelSettings(request.cutoff_hz, request.resonance_percent, request.trims)
    recordings_v = rig.play(stimulus_v, panel, request.modes)
    rate = rig.sample_rate_hz

    def measured(job: tuple[str, FloatArray]) -> ResponseRun:
        mode, recording_v = job
        return evaluate(
            request.document, mode, stimulus_v, recording_v, rate, cutoff_hz=request.cutoff_hz,
            resonance_percent=request.resonance_percent, level_v=request.plan.level_v, tolerances=request.tolerances,
            more={"trims": request.trims.as_json()},
        )

    # Two at a time: nearly all of it is transforms, which leave the interpreter free.
    with ThreadPoolExecutor(2) as pool:
        runs = pool.map(measured, zip(request.modes, recordings_v, strict=True))
        for i, mode in enumerate(request.modes):
            yield Progress(f"Measuring {mode}", 0.4 + 0.6 * i / len(request.modes))
            yield next(runs)


def evaluate(
    document: Filter,
    mode: str,
    stimulus_v: FloatArray,
    recording_v: FloatArray,
    sample_rate_hz: float,
    *,
    cutoff_hz: float,
    resonance_percent: float,
    level_v: float | None = None,
    tolerances: Mapping[str, Tolerance] | None = None,
    more: Mapping[str, Any] | None = None,
) -> ResponseRun:
    """Measure a record that is there already, from a rig or from files. more: settings besides these."""
    settings = {
        "circuit": document.circuit, "mode": mode, "cutoff_hz": cutoff_hz,
        "parameters": dict(document.parameters), "control": document.control,
        "resonance_percent": resonance_percent,
        "resonance_gain": document.gain_at(resonance_percent),
        "level_v": float(np.abs(stimulus_v).max()) if level_v is None else level_v, **(more or {}),
    }
    response = measure_response(stimulus_v, recording_v, sample_rate_hz)
    read = read_response(response)
    fit = fit_circuit(
        response, document.network(), mode, cutoff_hz=cutoff_hz, gain=document.gain_at(resonance_percent)
    )
    found = list(response_findings(response, read, settings))
    if fit is not None:
        pole = Finding("pole_hz", fit.pole_hz.value, "Hz", fit.pole_hz.uncertainty, settings=settings)
        found.insert(1, pole)
    limits = tolerances or {}
    judged = tuple(
        Finding(f.quantity, f.value, f.unit, f.uncertainty, limits.get(f.quantity), f.settings) for f in found
    )
    return ResponseRun(mode, settings, stimulus_v, recording_v, sample_rate_hz, response, read, fit, judged)
