"""What tells which circuit a unit is: sweeps at several levels, and its whistle where it has one."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from jiyuu.arrays import FloatArray
from jiyuu.measurement.notice import Notice
from jiyuu.measurement.response import MeasuredResponse, measure_response
from jiyuu.measurement.tone import MeasuredTone, measure_tone
from jiyuu.progress import Progress
from jiyuu.rig.onset_search import impulses_grow
from jiyuu.rig.oscillation_run import SMALL_V, TONE_S, settled_tones
from jiyuu.rig.protocol import PanelSettings, Rig
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from jiyuu.stopping import side_by_side

SWEEP_S = 2.5


@dataclass(frozen=True, slots=True)
class IdentityRequest:
    """Everything a run needs. levels_v: peaks of the sweeps, soft and loud."""

    panel: PanelSettings
    mode: str
    levels_v: tuple[float, ...]


@dataclass(frozen=True, slots=True, eq=False)
class Swept:
    """A sweep of one level and what came of it. notices: beside those of the response."""

    stimulus_v: FloatArray
    recording_v: FloatArray
    sample_rate_hz: float
    response: MeasuredResponse
    notices: tuple[Notice, ...] = ()


@dataclass(frozen=True, slots=True, eq=False)
class Whistled:
    """The settled self-oscillation at the end of the control, the cutoff where it stood."""

    recording_v: FloatArray
    sample_rate_hz: float
    tone: MeasuredTone


@dataclass(frozen=True, slots=True, eq=False)
class IdentityRun:
    """One Swept a level; whistled None where the unit does not whistle."""

    swept: tuple[Swept, ...]
    whistled: Whistled | None


def run_identity(request: IdentityRequest, rig: Rig) -> Iterator[Progress | IdentityRun]:
    """Yields progress, then the run. Raises MeasurementError where a sweep cannot be measured."""
    rate = rig.sample_rate_hz
    played: list[tuple[FloatArray, FloatArray]] = []
    for i, level_v in enumerate(request.levels_v):
        yield Progress(f"Playing the sweep of {level_v:g} V", 0.02 + 0.5 * i / len(request.levels_v))
        stimulus_v = sweep_stimulus(SweepPlan(level_v=level_v, sweep_s=SWEEP_S), sample_rate_hz=rate)
        played.append((stimulus_v, rig.play(stimulus_v, request.panel, [request.mode])[0]))
    yield Progress("Measuring the sweeps", 0.55)
    swept = tuple(side_by_side(lambda pair: swept_of(*pair, rate), played))
    yield Progress("Does it whistle?", 0.75)
    at_end = replace(request.panel, resonance_percent=100.0)
    whistled = None
    if impulses_grow(rig, [at_end], request.mode, level_v=SMALL_V)[0]:
        recording_v = settled_tones(rig, [at_end], request.mode, SMALL_V)[0]
        whistled = Whistled(recording_v, rate, measure_tone(recording_v[-round(TONE_S * rate) :], rate))
    yield IdentityRun(swept, whistled)


def swept_of(stimulus_v: FloatArray, recording_v: FloatArray, sample_rate_hz: float, *notices: Notice) -> Swept:
    """Measured as one of many: the network behind it is what is asked. Raises MeasurementError."""
    return Swept(stimulus_v, recording_v, sample_rate_hz,
                 measure_response(stimulus_v, recording_v, sample_rate_hz, quickly=True), notices)
