"""What the pitch of tones tells: which they are, and how much faster the recorder runs than the player."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.measurement.tones_heard import steady_part
from jiyuu.measurement.uncertain import COVERAGE, Uncertain
from jiyuu.signals.transforms import next_fast_len, rfft

RISING_S = 0.02  # ahead of the first tone, that is no silence any more
SETTLED = 1e-9  # share of a pitch by which a last round may move it: the next moves it by far less
LOUD, CLOCK_TONES = 1e-3, 16  # tones at least so loud re the loudest tell the clocks apart
MOST_PPM, SAME_PPM, APART = 2000.0, 0.1, 2.0  # what clocks may differ by; what of one tone may be off the others


def silent_v_of(silence_v: FloatArray) -> float:
    """RMS volts of the later half of a silence (n,), in which nothing of what was before it rings on; 0 where it is too
    short to tell."""
    return float(np.std(silence_v[silence_v.size // 2 :])) if silence_v.size > 1000 else 0.0


def pitch_of(record: FloatArray, sample_rate_hz: float, near_hz: float | None = None) -> Uncertain:
    """Frequency of a tone by a four-parameter sine fit (IEEE 1057), ± two standard deviations, Hz."""
    t = (np.arange(record.size) - record.size / 2) / sample_rate_hz
    if near_hz is None:
        size = next_fast_len(2 * record.size)
        spectrum = np.log(np.maximum(np.abs(rfft(record * np.hanning(record.size), size)), 1e-300))
        top = min(max(int(np.argmax(spectrum)), 1), spectrum.size - 2)
        low, middle, high = spectrum[top - 1 : top + 2]
        bend = low + high - 2 * middle
        near_hz = float(top + (0.5 * (low - high) / bend if bend < 0 else 0.0)) * sample_rate_hz / size
    omega, a, b = 2 * np.pi * near_hz, 0.0, 0.0
    for step in range(6):
        parts = [np.cos(omega * t), np.sin(omega * t), np.ones_like(t)]
        if step:
            parts.append(t * (b * parts[0] - a * parts[1]))
        design = np.stack(parts)
        scale = np.linalg.norm(design, axis=1)
        design /= np.maximum(scale, 1e-300)[:, np.newaxis]
        answer = np.linalg.lstsq(design @ design.T, design @ record, rcond=None)[0]
        weights = answer / np.maximum(scale, 1e-300)
        a, b = float(weights[0]), float(weights[1])
        omega += float(weights[3]) if step else 0.0
        if step and abs(weights[3]) < SETTLED * omega:
            break
    left = float(np.sqrt(np.mean((record - answer @ design) ** 2)))
    span_s = record.size / sample_rate_hz
    spread = np.sqrt(6 / record.size) * left / (np.pi * max(float(np.hypot(a, b)), 1e-15) * span_s)
    return Uncertain(omega / (2 * np.pi), COVERAGE * float(spread))


def clock_of(
    record: FloatArray, tones: list[slice], played_hz: FloatArray, lag: int, sample_rate_hz: float
) -> Uncertain:
    """Recorder against player from the pitch of the loud tones: a fast recorder hears them flat."""
    silent_v = silent_v_of(record[: max(tones[0].start + lag - round(RISING_S * sample_rate_hz), 0)])
    power = np.array([np.var(record[tone.start + lag : tone.stop + lag]) for tone in tones])
    levels = np.sqrt(np.maximum(power - min(4 * silent_v**2, 0.5 * float(power.max())), 0.0))
    loud = [i for i in np.argsort(-levels * played_hz) if levels[i] > LOUD * levels.max()][:CLOCK_TONES]
    offsets, own = np.zeros(len(loud)), np.zeros(len(loud))
    for place, i in enumerate(loud):
        steady = steady_part(tones[i])
        found = pitch_of(record[steady.start + lag : steady.stop + lag], sample_rate_hz, float(played_hz[i]))
        offsets[place] = 1e6 * (played_hz[i] / found.value - 1)
        own[place] = max(1e6 * found.uncertainty / found.value, 1e-6)
    # A tone beside a resonance that still rings is heard as that.
    kept = np.abs(offsets) < MOST_PPM
    if kept.any():
        offsets, own = offsets[kept], own[kept]
    order = np.argsort(offsets)
    weight = np.cumsum(own[order] ** -2.0)
    middle = offsets[order[np.searchsorted(weight, 0.5 * weight[-1])]]
    kept = np.abs(offsets - middle) <= APART * own + SAME_PPM
    offsets, own = offsets[kept], own[kept]
    total = float(np.sum(own**-2.0))
    scatter = max(float(np.sqrt(np.mean(((offsets - middle) / own) ** 2))), 0.5)  # own covers two deviations
    return Uncertain(float(np.dot(offsets, own**-2.0)) / total, 2 * scatter / float(np.sqrt(total)))
