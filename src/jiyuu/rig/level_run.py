"""The Setup step on a rig: the source as set through the unit, and the volts that come out."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from jiyuu.arrays import FloatArray
from jiyuu.measurement.levels import Levels, measure_levels
from jiyuu.progress import Progress
from jiyuu.rig.protocol import PanelSettings, Rig
from jiyuu.signals.source import Source, mixed_record
from jiyuu.stopping import checkpoint

FULL_SCALE_V = 10.0


@dataclass(frozen=True, slots=True)
class LevelRequest:
    """Everything a run needs."""

    panel: PanelSettings
    mode: str
    sources: Sequence[Source] = field(default_factory=lambda: (Source(),))
    drive_db: float = 0.0
    limit_v: float = 5.0
    duration_s: float = 1.0


@dataclass(frozen=True, slots=True, eq=False)
class LevelRun:
    """What was played (n,), what came out (m,), and its levels."""

    source_v: FloatArray
    recording_v: FloatArray
    sample_rate_hz: float
    levels: Levels


def run_levels(request: LevelRequest, rig: Rig) -> Iterator[Progress | LevelRun]:
    """Yields progress, then the run."""
    yield Progress("Playing the source", 0.1)
    rate = rig.sample_rate_hz
    played = mixed_record(request.sources, duration_s=request.duration_s, sample_rate_hz=rate)
    played = played * 10 ** (request.drive_db / 20)
    checkpoint()
    recording = rig.play(played, request.panel, [request.mode])[0]
    # The first tenth holds the rig's delay and the filter's start.
    steady = recording[round(0.1 * rate) : played.size]
    levels = measure_levels(steady, rate, limit_v=request.limit_v, full_scale_v=FULL_SCALE_V)
    yield LevelRun(played, recording, rate, levels)
