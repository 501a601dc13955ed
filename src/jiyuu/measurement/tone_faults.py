"""What is wrong with the recording of a steady tone: flat tops, gaps, changes of level, hum, sway."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.step_jump import without_jump
from jiyuu.measurement.step_lines import divided
from jiyuu.measurement.step_pitch import without_vibrato
from jiyuu.measurement.step_tone import StepTone
from jiyuu.measurement.tone import MeasuredTone
from jiyuu.measurement.waveform_faults import clipping, quantisation, sounding_part
from jiyuu.signals.transforms import rfft

PIECE_PERIODS = 4
CHANGED_DB = 0.3
GONE = 0.3
HUM_CENTS = 12.0
STRONG_HUM = 1e-3  # re the tone


def tone_faults(recording_v: FloatArray, sample_rate_hz: float, tone: MeasuredTone) -> list[Notice]:
    """recording_v (n,) that gave this tone."""
    found = []
    clipped, _ = clipping(recording_v)
    if clipped is not None:
        found.append(clipped)
    _, coarse = quantisation(recording_v, slice(0, recording_v.size))
    if coarse is not None:
        found.append(coarse)
    part = sounding_part(recording_v, sample_rate_hz)
    recording_v, begins_s = recording_v[part], part.start / sample_rate_hz
    found += [replace(notice, at_s=None if notice.at_s is None else notice.at_s + begins_s)
              for notice in _levels(recording_v, sample_rate_hz, tone)]
    hum = _hum(recording_v, sample_rate_hz, tone)
    if hum is not None:
        found.append(hum)
    length_s = recording_v.size / sample_rate_hz
    if divided(recording_v, sample_rate_hz, 0.0, length_s, tone.frequency_hz.value).divisor > 1:
        found.append(Notice(Fault.OCTAVE_UNCERTAIN, begins_s))
    step = StepTone(0.0, length_s, tone.frequency_hz, tone.amplitude_peak_v, 0.0)
    sway = without_vibrato(recording_v, sample_rate_hz, step)[1]
    if sway is None:
        sway = without_jump(recording_v, sample_rate_hz, step)[1]
    if sway is not None:
        found.append(replace(sway, at_s=None if sway.at_s is None else sway.at_s + begins_s))
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
