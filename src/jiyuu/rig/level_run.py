"""The Setup step on a rig: the source as set through the unit, and the volts that come out."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.network import FloatArray
from jiyuu.circuits.trims import Trims
from jiyuu.measurement.finding import Finding, Tolerance
from jiyuu.measurement.levels import Levels, measure_levels
from jiyuu.rig.protocol import PanelSettings, Rig
from jiyuu.rig.response_run import Progress
from jiyuu.signals.source import Source, mixed_record

FULL_SCALE_V = 10.0


@dataclass(frozen=True, slots=True)
class LevelRequest:
    """Everything a run needs."""

    document: Filter
    cutoff_hz: float  # where the cutoff stands, with everything that moves it
    resonance_percent: float
    mode: str
    sources: Sequence[Source] = field(default_factory=lambda: (Source(),))
    drive_db: float = 0.0
    limit_v: float = 5.0
    duration_s: float = 1.0
    knob_hz: float | None = None  # where its knob stands, when that is not the same
    trims: Trims = field(default_factory=Trims)


@dataclass(frozen=True, slots=True, eq=False)
class LevelRun:
    """What was played (n,), what came out (m,), its levels, and what is said of them."""

    settings: Mapping[str, Any]
    source_v: FloatArray
    recording_v: FloatArray
    sample_rate_hz: float
    levels: Levels
    findings: tuple[Finding, ...]


def run_levels(request: LevelRequest, rig: Rig) -> Iterator[Progress | LevelRun]:
    """Yields progress, then the run."""
    yield Progress("Playing the source", 0.1)
    rate = rig.sample_rate_hz
    played = mixed_record(request.sources, duration_s=request.duration_s, sample_rate_hz=rate)
    played = played * 10 ** (request.drive_db / 20)
    panel = PanelSettings(request.cutoff_hz, request.resonance_percent, request.trims)
    recording = rig.play(played, panel, [request.mode])[0]
    # The first tenth holds the rig's delay and the filter's start.
    steady = recording[round(0.1 * rate) : played.size]
    levels = measure_levels(steady, rate, limit_v=request.limit_v, full_scale_v=FULL_SCALE_V)
    name = " + ".join(source.kind.value for source in request.sources)
    settings = {
        "circuit": request.document.circuit, "mode": request.mode,
        "cutoff_hz": request.cutoff_hz if request.knob_hz is None else request.knob_hz,
        "standing_hz": request.cutoff_hz,
        "parameters": dict(request.document.parameters), "resonance_percent": request.resonance_percent,
        "source": f"the {name}", "level_v": float(np.abs(played).max()), "limit_v": request.limit_v,
        "full_scale_v": FULL_SCALE_V, "drive_db": request.drive_db, "trims": request.trims.as_json(),
    }
    findings = [
        Finding("output_peak_v", levels.peak_v, "V", tolerance=Tolerance(0.0, request.limit_v), settings=settings),
        Finding("output_margin_db", levels.headroom_db, "dB", settings=settings),
    ]
    if levels.loudness_lufs is not None:
        findings.append(Finding("output_loudness_lufs", levels.loudness_lufs, "LUFS", settings=settings))
    yield LevelRun(settings, played, recording, rate, levels, tuple(findings))
