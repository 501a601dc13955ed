"""What the character of a unit is read from: the source played through it, soft sweeps with and without resonance,
loud ones, and a tone."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.measurement.drive import MeasuredDrive, measure_drive
from jiyuu.measurement.notice import Notice
from jiyuu.measurement.response import MeasuredResponse, measure_response
from jiyuu.measurement.tone import MeasuredTone, measure_tone
from jiyuu.progress import Progress
from jiyuu.rig.drive_run import SHORTEST_S
from jiyuu.rig.onset_search import impulses_grow
from jiyuu.rig.oscillation_run import SMALL_V, TONE_S, settled_tones
from jiyuu.rig.protocol import PanelSettings, Rig
from jiyuu.signals.drive_steps import DriveSteps
from jiyuu.signals.source import Source
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from jiyuu.stopping import side_by_side

LOOKS, LOOK_S = 6, 1.0  # at the sound, seconds each: what they scatter by is not known
WAIT_S = 1.0  # that a source sounds before it is looked at, at least
LONGEST_WAIT_S = 4.0
SETTLED_T60 = 1.5
SWEEP_S, LOUD_SWEEP_S, SILENCE_S = 2.5, 1.0, 0.35


@dataclass(frozen=True, slots=True)
class CharacterRequest:
    """Everything a run needs. source: as it is played, its level the one that arrives; soft_v: peak of sweeps that bend
    nothing; loud_v: peaks of those that tell what level does, rising; tone_hz, tone_v: what harmonics are read from."""

    panel: PanelSettings
    mode: str
    source: Source
    soft_v: float
    loud_v: tuple[float, ...]
    tone_hz: float
    tone_v: float


@dataclass(frozen=True, slots=True, eq=False)
class Sounded:
    """What was played and what came of it while it was looked at, (n,) volts each."""

    stimulus_v: FloatArray
    recording_v: FloatArray


@dataclass(frozen=True, slots=True, eq=False)
class CharacterRun:
    """sound: LOOKS looks of LOOK_S at the source. whistle: of a unit that whistles as it is set, and then nothing else;
    rest, open: small-signal responses as set and without resonance; loud: one a level of loud_v; tone: harmonics."""

    sample_rate_hz: float
    sound: Sounded
    whistle: MeasuredTone | None = None
    rest: MeasuredResponse | None = None
    open: MeasuredResponse | None = None
    loud: tuple[MeasuredResponse, ...] = ()
    tone: MeasuredDrive | None = None

    @property
    def notices(self) -> tuple[Notice, ...]:
        return () if self.rest is None else self.rest.notices


def run_character(request: CharacterRequest, rig: Rig) -> Iterator[Progress | CharacterRun]:
    """Yields progress, then the run. Raises MeasurementError where a sweep cannot be measured."""
    rate, panel, mode = rig.sample_rate_hz, request.panel, request.mode
    yield Progress("Does it whistle?", 0.02)
    if impulses_grow(rig, [panel], mode, level_v=SMALL_V)[0]:
        tone_v = settled_tones(rig, [panel], mode, SMALL_V)[0]
        whistle = measure_tone(tone_v[-round(TONE_S * rate) :], rate)
        yield Progress("Playing the source", 0.4)
        yield CharacterRun(rate, _sounded(request, rig, LONGEST_WAIT_S), whistle)
        return
    yield Progress("Playing soft sweeps", 0.08)
    plan = SweepPlan(level_v=request.soft_v, sweep_s=SWEEP_S)
    soft_v = sweep_stimulus(plan, sample_rate_hz=rate)
    at_rest, without = rig.play_each(soft_v, [panel, replace(panel, resonance_percent=0.0)], [mode])[:, 0]
    yield Progress("Playing loud sweeps", 0.2)
    played = []
    for level_v in request.loud_v:
        loud_v = sweep_stimulus(SweepPlan(level_v=level_v, sweep_s=LOUD_SWEEP_S, silence_s=SILENCE_S),
                                sample_rate_hz=rate)
        played.append((loud_v, rig.play(loud_v, panel, [mode])[0], True))
    yield Progress("Measuring the sweeps", 0.45)

    def measured(job: tuple[FloatArray, FloatArray, bool]) -> MeasuredResponse:
        return measure_response(job[0], job[1], rate, quickly=job[2])

    rest, opened, *loud = side_by_side(measured, [(soft_v, at_rest, False), (soft_v, without, True), *played])
    yield Progress("Playing a tone", 0.7)
    steps = DriveSteps(request.tone_hz, (request.tone_v / 2, request.tone_v), SHORTEST_S)  # two tell where they begin
    tone = measure_drive(rig.play(steps.record_v(rate), panel, [mode])[0], rate, steps)
    yield Progress("Playing the source", 0.75)
    sound = _sounded(request, rig, _ring_s(rest))
    yield Progress("Listening", 0.85)
    yield CharacterRun(rate, sound, None, rest, opened, tuple(loud), tone)


def _ring_s(rest: MeasuredResponse) -> float:
    if rest.network is None:
        return LONGEST_WAIT_S
    slowest = float(np.abs(rest.network.fit.poles.real).min())
    return float(np.clip(SETTLED_T60 * np.log(1000) / slowest, WAIT_S, LONGEST_WAIT_S))


def _sounded(request: CharacterRequest, rig: Rig, wait_s: float) -> Sounded:
    rate = rig.sample_rate_hz
    first, kept = round(wait_s * rate), round(LOOKS * LOOK_S * rate)
    stimulus = request.source.drawn(duration_s=(first + kept) / rate, sample_rate_hz=rate)
    recording = rig.play(stimulus, request.panel, [request.mode])[0]
    return Sounded(np.asarray(stimulus[first : first + kept]), np.asarray(recording[first : first + kept]))
