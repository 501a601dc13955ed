"""Which step of a recording belongs to which control voltage; what is missing or too much is said, never shifted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import combinations
from math import comb

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.steady_pieces import NO_TONE, Piece, find_pieces
from jiyuu.measurement.step_jump import without_jump
from jiyuu.measurement.step_lines import Divided, divided
from jiyuu.measurement.step_pitch import on_one_harmonic, swaying_steps, without_vibrato
from jiyuu.measurement.step_tone import StepTone, step_tone
from jiyuu.measurement.waveform_faults import clipping
from jiyuu.quantities import shown_hz

STRAY_SHARE = 0.25  # of the usual duration: what is shorter is a pause for breath in a glide, not a step
SPLIT_SHARE = 1.6  # two pieces of one pitch that together last no longer than this were one step with a dropout
SAME_CENTS = 5.0
MOST_PLACES = 20_000
PLACED_OCTAVES = 0.2  # how far a unit's steps may lie from a straight line, re the smallest step between them
CLEARLY = 3.0  # how much worse the next best place must be
ROOM_EDGE = 0.15
DRIFT_SAID_CENTS = 1.0  # on either side of a step's middle
EDGE_S = 0.1  # how far the first and last tone may reach past their pieces


@dataclass(frozen=True, slots=True)
class Staircase:
    """The steps found and the volts they belong to; volts that are not in the recording; remarks about what was put
    together or left out."""

    tones: tuple[StepTone, ...]
    volts: tuple[float, ...]
    missing_volts: tuple[float, ...] = ()
    remarks: tuple[str, ...] = ()
    notices: tuple[Notice, ...] = ()


def checked_volts(volts: Sequence[float]) -> FloatArray:
    """Volts (m,) of a staircase. Raises MeasurementError where they cannot be ones."""
    found = np.asarray(volts, dtype=float)
    if found.size < 2:
        raise MeasurementError("At least two steps are needed; give their volts in order, for example 0,1,2,3.")
    if not np.isfinite(found).all() or np.abs(found).max() > 100:
        raise MeasurementError("Volts of steps must be finite numbers within ±100 V.")
    if not np.ptp(found):
        raise MeasurementError("All steps have the same volts, so there is nothing to track; give different ones.")
    return found


def measure_staircase(
    recording_v: FloatArray, sample_rate_hz: float, volts: Sequence[float], *, harmonic: int | None = None
) -> Staircase:
    """recording_v (n,) with one steady tone for each of volts (m,), in that order -> the steps at their volts.
    harmonic: which one sounds loudest, found from the partials when not given.

    Raises MeasurementError when the numbers differ and it is not certain which step is missing, or when there are more
    steps than volts."""
    wanted = checked_volts(volts)
    notices = []
    clipped, _ = clipping(recording_v)
    if clipped is not None:
        notices.append(clipped)
    tones, remarks, places = _steps(recording_v, sample_rate_hz, wanted, notices)
    reaches = _reaches(tones)
    settled = [_calmed(recording_v, sample_rate_hz, tone, reach)
               for tone, reach in zip(tones, reaches, strict=True)]
    tones = [tone for tone, _ in settled]
    notices += [notice for _, notice in settled if notice is not None]
    notices += _drifting([tone for tone, notice in settled if notice is None])
    found = [_divided(recording_v, sample_rate_hz, tone) for tone in tones]
    divisors = on_one_harmonic(tones, found, wanted[list(places)])
    if harmonic is not None:
        divisors = [harmonic] * len(tones)
    elif any(divisor > 1 for divisor in divisors):
        first = next(i for i, divisor in enumerate(divisors) if divisor > 1)
        notices.append(Notice(Fault.OCTAVE_UNCERTAIN, tones[first].start_s))
    tones = [_divided_by(tone, divisor) for tone, divisor in zip(tones, divisors, strict=True)]
    missing = tuple(float(v) for i, v in enumerate(wanted) if i not in places)
    if missing:
        said = ", ".join(f"{v:g} V" for v in missing)
        remarks = [*remarks, f"No step was found at {said}; the jump there leaves no doubt which ones are missing."]
    volts_there = tuple(float(wanted[i]) for i in places)
    return Staircase(tuple(tones), volts_there, missing, tuple(remarks), tuple(notices))


def _steps(
    recording_v: FloatArray, sample_rate_hz: float, wanted: FloatArray, notices: list[Notice]
) -> tuple[list[StepTone], list[str], tuple[int, ...]]:
    """(steps, remarks, their volts); where steady ones are not so many, those whose pitch sways or jumps by octaves."""
    tones: list[StepTone] = []
    remarks: list[str] = []
    problem: MeasurementError | None = None
    try:
        tones, remarks = _as_steps(_tones(recording_v, sample_rate_hz, find_pieces(recording_v, sample_rate_hz)))
        places = _places(_octaves(tones), wanted)
        if places is None:
            places = _places(_pitches(recording_v, sample_rate_hz, tones), wanted)
        if places is not None and len(places) == wanted.size:
            return tones, remarks, places
    except MeasurementError as error:
        problem, places = error, None
    other = swaying_steps(recording_v, sample_rate_hz, wanted.size)
    if other is not None and (_follows(_octaves(other[0]), wanted)
                              or _follows(_pitches(recording_v, sample_rate_hz, other[0]), wanted)):
        notices += other[1]
        return other[0], [], tuple(range(wanted.size))
    if problem is not None:
        raise problem
    if places is None:
        raise MeasurementError(_differs(tones, wanted))
    return tones, remarks, places


def _reaches(tones: Sequence[StepTone]) -> list[tuple[float, float] | None]:
    """How far the sound of each step may reach: of those whose steady part is much shorter than the others' room, all
    of that room but its edges; a pitch that sways has no long steady part."""
    found: list[tuple[float, float] | None] = []
    for i, tone in enumerate(tones):
        low = tones[i - 1].stop_s if i else tone.start_s
        high = tones[i + 1].start_s if i + 1 < len(tones) else tone.stop_s
        room = (low + ROOM_EDGE * (high - low), high - ROOM_EDGE * (high - low))
        short = tone.stop_s - tone.start_s < 0.7 * (room[1] - room[0])
        found.append((min(room[0], tone.start_s), max(room[1], tone.stop_s)) if short else None)
    return found


def _calmed(
    recording_v: FloatArray, sample_rate_hz: float, tone: StepTone, reach_s: tuple[float, float] | None
) -> tuple[StepTone, Notice | None]:
    """The step about the centre of its vibrato, or past the gap that samples left in it."""
    found, notice = without_vibrato(recording_v, sample_rate_hz, tone, reach_s)
    return (found, notice) if notice is not None else without_jump(recording_v, sample_rate_hz, tone)


def _drifting(tones: Sequence[StepTone]) -> list[Notice]:
    """The step that drifts farthest, if that is worth a sentence."""
    ways = [0.5 * tone.drift_cents_per_s * (tone.stop_s - tone.start_s) for tone in tones]
    if not ways or max(map(abs, ways)) < DRIFT_SAID_CENTS:
        return []
    cents, tone = max(zip(map(abs, ways), tones, strict=True), key=lambda pair: pair[0])
    return [Notice(Fault.PITCH_UNSTEADY, tone.start_s, {"cents": cents, "cents_per_s": tone.drift_cents_per_s})]


def _divided(recording_v: FloatArray, sample_rate_hz: float, tone: StepTone) -> Divided:
    return divided(recording_v, sample_rate_hz, tone.start_s, tone.stop_s, tone.frequency_hz.value)


def _pitches(recording_v: FloatArray, sample_rate_hz: float, tones: Sequence[StepTone]) -> FloatArray:
    """(n,) octaves of the fundamentals: the loudest partial need not be the same one everywhere."""
    return _octaves(tones) - np.log2([_divided(recording_v, sample_rate_hz, tone).divisor for tone in tones])


def _divided_by(tone: StepTone, divisor: int) -> StepTone:
    hertz = tone.frequency_hz
    return tone if divisor == 1 else replace(
        tone, frequency_hz=replace(hertz, value=hertz.value / divisor, uncertainty=hertz.uncertainty / divisor))


def _tones(recording_v: FloatArray, sample_rate_hz: float, pieces: list[Piece]) -> list[StepTone]:
    found = []
    for i, piece in enumerate(pieces):
        low = pieces[i - 1].stop_s if i else max(0.0, piece.start_s - EDGE_S)
        high = pieces[i + 1].start_s if i + 1 < len(pieces) else piece.stop_s + EDGE_S
        tone = step_tone(recording_v, sample_rate_hz, piece, from_s=low, to_s=high)
        if tone is not None:
            found.append(tone)
    if not found:
        raise MeasurementError(NO_TONE)
    return found


def _as_steps(tones: list[StepTone]) -> tuple[list[StepTone], list[str]]:
    """Without strays, and with the two parts of a step that a dropout has cut in two put together."""
    remarks = []
    usual_s = _usual_span_s(tones)
    joined: list[StepTone] = []
    for tone in tones:
        before = joined[-1] if joined else None
        if before is not None:
            apart = abs(1200 * np.log2(tone.frequency_hz.value / before.frequency_hz.value))
            if apart < SAME_CENTS and tone.stop_s - before.start_s < SPLIT_SHARE * usual_s:
                joined[-1] = _together(before, tone)
                remarks.append(f"The step at {before.start_s:.2f} s has a dropout; its parts were put together.")
                continue
        joined.append(tone)
    kept = []
    for tone in joined:
        if tone.stop_s - tone.start_s < STRAY_SHARE * usual_s:
            remarks.append(f"A tone of {1e3 * (tone.stop_s - tone.start_s):.0f} ms at {tone.start_s:.2f} s "
                           f"({shown_hz(tone.frequency_hz.value)}) was left out: too short for a step.")
        else:
            kept.append(tone)
    return kept, remarks


def _usual_span_s(tones: list[StepTone]) -> float:
    """A full step's length: the upper middle, so that halves of broken ones do not count."""
    return float(np.quantile([t.stop_s - t.start_s for t in tones], 0.7))


def _together(one: StepTone, other: StepTone) -> StepTone:
    """The mean of two parts, by weight of their length."""
    first, second = one.stop_s - one.start_s, other.stop_s - other.start_s
    share = first / (first + second)
    hertz = share * one.frequency_hz.value + (1 - share) * other.frequency_hz.value
    doubt = float(np.hypot(share * one.frequency_hz.uncertainty, (1 - share) * other.frequency_hz.uncertainty))
    return replace(
        one, stop_s=other.stop_s, frequency_hz=replace(one.frequency_hz, value=hertz, uncertainty=doubt),
        amplitude_peak_v=share * one.amplitude_peak_v + (1 - share) * other.amplitude_peak_v,
        drift_cents_per_s=share * one.drift_cents_per_s + (1 - share) * other.drift_cents_per_s,
    )


def _octaves(tones: Sequence[StepTone]) -> FloatArray:
    return np.log2([tone.frequency_hz.value for tone in tones])


def _places(octaves: FloatArray, volts: FloatArray) -> tuple[int, ...] | None:
    """Which of the volts each step has; None where that is not certain."""
    count, wanted = octaves.size, volts.size
    if count == wanted:
        return tuple(range(count)) if _follows(octaves, volts) else None
    if count > wanted or count < 3 or comb(wanted, count) > MOST_PLACES:
        return None
    unit = float(np.abs(np.diff(volts))[np.diff(volts) != 0].min())
    fits = sorted((_worst(octaves, volts[list(chosen)]), chosen) for chosen in combinations(range(wanted), count))
    best, next_best = fits[0], fits[1]
    if best[0] > PLACED_OCTAVES * unit or next_best[0] < CLEARLY * max(best[0], 0.05 * unit):
        return None
    return best[1]


def _worst(octaves: FloatArray, volts: FloatArray) -> float:
    """Largest distance from the straight line through the steps, in octaves; a line that does not rise is none."""
    if not np.ptp(volts):
        return np.inf
    slope, start = np.polyfit(volts, octaves, 1)
    return float(np.abs(octaves - start - slope * volts).max()) if slope > 0.05 else np.inf


def _follows(octaves: FloatArray, volts: FloatArray) -> bool:
    """Whether as many steps as volts can be those volts: a unit may lag behind at its ends, but a jump half as large
    again as its usual step says that one is missing there (and that another is too much)."""
    moved, asked = np.diff(octaves), np.diff(volts)
    steps = asked != 0
    if steps.sum() < 2:
        return True
    scale = float(np.median(moved[steps] / asked[steps]))
    if scale <= 0.05:
        return True  # it does not track at all, and the table will show it
    return bool((moved[steps] / asked[steps] < 1.5 * scale).all())


def _differs(tones: Sequence[StepTone], volts: FloatArray) -> str:
    found = ", ".join(f"{shown_hz(t.frequency_hz.value)} at {t.start_s:.1f} s" for t in tones[:20])
    if len(tones) == volts.size:
        return (f"{len(tones)} steps were found for {volts.size} volts, but they do not follow them: one step is too "
                f"many and another missing ({found}). Give the volts of these steps, or record again.")
    return (f"{len(tones)} steps were found, but {volts.size} volts given ({found}). "
            "Give the volts of just these steps, or record again.")
