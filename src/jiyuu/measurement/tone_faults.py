"""A tone, and what is wrong with its recording: flat tops, gaps, changes of level, hum, a pitch that does not stand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.step_lines import divided
from jiyuu.measurement.step_pitch import without_vibrato
from jiyuu.measurement.step_tone import StepTone
from jiyuu.measurement.tone import MeasuredTone, measure_tone
from jiyuu.measurement.tone_course import Course, course_of
from jiyuu.measurement.uncertain import Uncertain
from jiyuu.measurement.waveform_faults import clipping, quantisation, sounding_part
from jiyuu.quantities import A4_HZ
from jiyuu.signals.transforms import rfft

PIECE_PERIODS = 4
CHANGED_DB = 0.3
GONE = 0.3
STRONG_HUM = 1e-3  # re the tone
MOST_JUMPS = 4  # one after the other, each time of what is longer
BESIDE = 0.03  # of a recording, about a moment that is left out
OCTAVE_CENTS = 40.0  # about one


def read_tone(
    recording_v: FloatArray, sample_rate_hz: float, *, concert_a_hz: float = A4_HZ
) -> tuple[MeasuredTone, list[Notice]]:
    """A tone as measure_tone has it, of as much of a recording (n,) as its pitch stands in, and what is wrong with the
    recording; where the pitch never stands its interval holds all the way that it goes. Raises MeasurementError where
    there is no tone."""
    tone = measure_tone(recording_v, sample_rate_hz, concert_a_hz=concert_a_hz)
    part = sounding_part(recording_v, sample_rate_hz)
    heard_v, begins_s = recording_v[part], part.start / sample_rate_hz
    found = _waveform_faults(recording_v, heard_v, begins_s, sample_rate_hz, tone)
    step = StepTone(0.0, heard_v.size / sample_rate_hz, tone.frequency_hz, tone.amplitude_peak_v, 0.0)
    centre, sway = without_vibrato(heard_v, sample_rate_hz, step)
    if sway is not None:
        return tone.at(centre.frequency_hz, concert_a_hz), [*found, replace(sway, at_s=begins_s)]
    course = course_of(heard_v, sample_rate_hz, tone.frequency_hz.value / _divisor(heard_v, sample_rate_hz, tone))
    for _ in range(MOST_JUMPS):
        if course is None or course.at_s is None:
            break
        before, after = _sides(heard_v, course.at_s * sample_rate_hz)
        ahead = before.size >= after.size
        longer, shorter = (before, after) if ahead else (after, before)
        try:
            tone = measure_tone(longer, sample_rate_hz, concert_a_hz=concert_a_hz)
        except MeasurementError:  # too short for a tone of its own: the interval holds all of it
            break
        at_s, sign = begins_s + course.at_s, 1.0 if ahead else -1.0
        found.append(_jumped(course, tone, shorter, at_s, sample_rate_hz, sign=sign))
        begins_s += 0.0 if ahead else (heard_v.size - longer.size) / sample_rate_hz
        heard_v = longer
        course = course_of(heard_v, sample_rate_hz, tone.frequency_hz.value / _divisor(heard_v, sample_rate_hz, tone))
    hums = any(notice.fault is Fault.HUM for notice in found)
    if course is not None and not (hums and course.cause in ("sway", "wander")):  # which the hum may do
        doubt = float(np.hypot(tone.frequency_hz.uncertainty,
                               tone.frequency_hz.value * (2 ** (course.cents / 1200) - 1)))
        tone = tone.at(Uncertain(tone.frequency_hz.value, doubt), concert_a_hz)
        found.append(_unsteady(course, begins_s))
    return tone, found


def _unsteady(course: Course, begins_s: float) -> Notice:
    if course.cause == "sway":
        return Notice(Fault.VIBRATO, begins_s, {"rate_hz": course.rate_hz, "depth_cents": course.cents})
    if course.cause == "gone":
        return Notice(Fault.PITCH_UNSTEADY, begins_s + (course.at_s or 0.0), {"left": 1.0})
    per_s = {"cents_per_s": course.per_s} if course.cause == "drift" else {}
    return Notice(Fault.PITCH_UNSTEADY, None, {"cents": course.cents, **per_s})


def _divisor(heard_v: FloatArray, sample_rate_hz: float, tone: MeasuredTone) -> int:
    """Which partial of all that is heard a tone is."""
    return divided(heard_v, sample_rate_hz, 0.0, heard_v.size / sample_rate_hz, tone.frequency_hz.value).divisor


def _sides(heard_v: FloatArray, at: float) -> tuple[FloatArray, FloatArray]:
    """What lies well before a sample, and what lies well after it."""
    beside = BESIDE * heard_v.size
    return heard_v[: round(max(at - beside, 0.0))], heard_v[round(min(at + beside, heard_v.size)) :]


def _jumped(
    course: Course, tone: MeasuredTone, other_v: FloatArray, at_s: float, sample_rate_hz: float, *, sign: float
) -> Notice:
    """What a moment is called at which a tone's phase or its pitch jumps; sign: −1 where the tone lies behind it."""
    if course.cause == "step":
        return Notice(Fault.SAMPLES_LOST, at_s)
    try:
        there_hz = measure_tone(other_v, sample_rate_hz).frequency_hz.value
    except MeasurementError:  # too short, or no tone
        return Notice(Fault.PITCH_UNSTEADY, at_s, {"left": 1.0})
    cents = sign * 1200 * float(np.log2(there_hz / tone.frequency_hz.value))
    if abs(abs(cents) - 1200) < OCTAVE_CENTS:
        return Notice(Fault.OCTAVE_JUMP, at_s)
    return Notice(Fault.PITCH_UNSTEADY, at_s, {"jump_cents": cents})


def _waveform_faults(
    recording_v: FloatArray, heard_v: FloatArray, begins_s: float, sample_rate_hz: float, tone: MeasuredTone
) -> list[Notice]:
    """Of a recording that gave this tone, and of the part in which it sounds."""
    found = []
    clipped, _ = clipping(recording_v)
    if clipped is not None:
        found.append(clipped)
    _, coarse = quantisation(recording_v, slice(0, recording_v.size))
    if coarse is not None:
        found.append(coarse)
    found += [replace(notice, at_s=None if notice.at_s is None else notice.at_s + begins_s)
              for notice in _levels(heard_v, sample_rate_hz, tone)]
    hum = _hum(heard_v, sample_rate_hz, tone)
    if hum is not None:
        found.append(hum)
    if _divisor(heard_v, sample_rate_hz, tone) > 1:
        found.append(Notice(Fault.OCTAVE_UNCERTAIN, begins_s))
    return found


def _levels(recording_v: FloatArray, sample_rate_hz: float, tone: MeasuredTone) -> list[Notice]:
    period = sample_rate_hz / tone.frequency_hz.value
    size = max(round(PIECE_PERIODS * period), round(0.004 * sample_rate_hz))
    count = recording_v.size // size
    if count < 8:
        return []
    level = np.std(recording_v[: count * size].reshape(count, size), axis=1)
    usual = float(np.median(level))
    if not usual:
        return []
    gone = np.flatnonzero(level[1:-1] < GONE * usual) + 1
    if gone.size:
        return [Notice(Fault.DROPOUT, float(gone[0]) * size / sample_rate_hz,
                       {"ms": 1e3 * gone.size * size / sample_rate_hz})]
    first, last = (max(float(np.median(part)), 1e-12 * usual) for part in (level[: count // 4], level[-(count // 4) :]))
    change_db = 20 * np.log10(last / first)
    half = np.flatnonzero(np.abs(20 * np.log10(level / first)) > abs(change_db) / 2)
    sudden = half.size and np.abs(20 * np.log10(level[max(half[0] - 2, 0)] / first)) < abs(change_db) / 4
    if abs(change_db) > CHANGED_DB and sudden:
        return [Notice(Fault.GAIN_CHANGED, float(half[0]) * size / sample_rate_hz, {"db": float(change_db)})]
    return []


def _hum(recording_v: FloatArray, sample_rate_hz: float, tone: MeasuredTone) -> Notice | None:
    """A line at the mains' pitch that is no partial of the tone."""
    size = recording_v.size
    if size < 0.5 * sample_rate_hz:
        return None
    spectrum = np.abs(rfft((recording_v - recording_v.mean()) * np.blackman(size))) / size / 0.21
    per_bin = sample_rate_hz / size
    for mains in (50.0, 60.0):
        ratio = mains / tone.frequency_hz.value
        if abs(ratio - round(ratio)) < 0.03 and round(ratio) > 0:
            continue
        if abs(mains - tone.frequency_hz.value) < 8 * per_bin:
            continue
        at = round(mains / per_bin)
        near, around = spectrum[max(at - 3, 0) : at + 4], spectrum[max(at - 24, 1) : at + 25]
        if near.size and near.max() > 12 * np.median(around) and near.max() > STRONG_HUM * tone.amplitude_peak_v:
            db = 20 * np.log10(float(near.max()) / tone.amplitude_peak_v)
            return Notice(Fault.HUM, None, {"mains_hz": mains, "db": db})
    return None
