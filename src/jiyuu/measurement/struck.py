"""Where a pulse is heard in a recording, where it begins, and how far its first extremum goes."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.uncertain import COVERAGE, Uncertain
from jiyuu.signals.pings import Pings
from jiyuu.signals.resampling import interpolated

LATEST_S = 1.0  # that an interface may be late
HEARD = 12.0  # of the noise's power
JUMP = 0.5  # of a peak, from one sample to the next: it is an edge
CORNER = 2.0  # of the noise: what a smooth curve through a peak may leave


def first_heard(recording_v: FloatArray, sample_rate_hz: float, pings: Pings) -> int:
    """Sample at which the first pulse is heard, to a few: where what comes behind all of them is loudest against what
    comes before. Raises MeasurementError where nothing does."""
    hop = max(round(0.001 * sample_rate_hz), 1)
    count = recording_v.size // hop
    blocks = recording_v[: count * hop].reshape(count, hop)
    energy = blocks.var(axis=1) + (blocks.mean(axis=1) - np.median(recording_v)) ** 2
    places = np.array([round(at * sample_rate_hz / hop) for at in pings.at_s])
    window = max(round(0.02 * sample_rate_hz / hop), 3)
    smooth = np.convolve(energy, np.ones(window), "full")
    best, found = 0.0, -1
    for lag in range(-20, round(LATEST_S * sample_rate_hz / hop)):
        at = places + lag
        at = at[(at - 2 >= 0) & (at + window < count)]
        if not at.size:
            continue
        after = smooth[at + window - 1]
        before = np.where(at - window - 1 >= 0, smooth[np.maximum(at - 2, 0)], after * 1e-12)
        rise = float(np.sum(after - before))
        if rise > best * 1.0000001:
            best, found = rise, int(places[0] + lag)
    floor = float(np.median(energy)) * window
    if found < 0 or (best < 4 * floor * 0.25 and best < 1e-20):
        raise MeasurementError("Nothing of the pulses is heard in the recording; check cables, channel and level.")
    # What is loudest may be the pulse's end: from there back to where anything is heard first.
    low = max(found - round((pings.length_s + 0.03) * sample_rate_hz / hop), 0)
    before = energy[: max(low - 1, 1)] if low > 20 else energy[np.argsort(energy)[: max(count // 10, 1)]]
    heard = energy[low : found + window] > max(HEARD * float(np.median(before)), 1e-6 * float(energy.max()))
    return (low + int(np.argmax(heard)) if heard.any() else found) * hop


def smoothed(record_v: FloatArray, half: int) -> FloatArray:
    """By a raised cosine over 2·half + 1 samples: it never goes past what it is given, so that a jump has no echo of
    the other sign."""
    if half < 2:
        return record_v
    shape = np.hanning(2 * half + 3)[1:-1]
    return np.convolve(np.pad(record_v, half, mode="edge"), shape / shape.sum(), "valid")


def extremum(record_v: FloatArray, top: int, half: int, noise_v: float) -> Uncertain:
    """Of a polynomial of fourth order through the samples around it; of the sample itself where it is a corner."""
    wide = half
    while wide >= 3:
        first, last = max(top - wide, 0), min(top + wide + 1, record_v.size)
        place = (np.arange(first, last) - top) / wide
        order = min(4, place.size - 3)
        columns = np.polynomial.polynomial.polyvander(place, order)
        found, *_ = np.linalg.lstsq(columns, record_v[first:last], rcond=None)
        left = record_v[first:last] - columns @ found
        if np.sqrt(left @ left / (place.size - order - 1)) < CORNER * noise_v:
            fine = np.linspace(-0.6, 0.6, 241)
            values = np.polynomial.polynomial.polyval(fine, found)
            at = int(np.argmax(np.sign(record_v[top]) * values))
            row = np.polynomial.polynomial.polyvander(fine[[at]], order)[0]
            spread = float(np.sqrt(row @ np.linalg.pinv(columns.T @ columns) @ row))
            return Uncertain(float(values[at]), COVERAGE * noise_v * spread)
        wide //= 2
    jump = float(np.abs(np.diff(record_v[max(top - 6, 0) : top + 7])).max(initial=0.0))
    if 8 < top < record_v.size - 8 and jump < JUMP * abs(record_v[top]):
        between = interpolated(record_v, 8, top - 1, top + 2)  # of few samples a period: the peak lies between two
        peak = float(between[int(np.argmax(np.sign(record_v[top]) * between))])
        # Whether it is as smooth as that between two samples, or a corner, they do not tell.
        return Uncertain(peak, COVERAGE * noise_v + 0.5 * abs(peak - float(record_v[top])))
    return Uncertain(float(record_v[top]), COVERAGE * noise_v)


def onset(rising: FloatArray, first: int, top: int) -> float:
    """Sample at which a rise to its first peak began: c·(t − t0)^m through its lower part, whatever m fits."""
    start = max(first - 1, 0)
    while start > 0 and rising[start - 1] < rising[start] and rising[start] > 0:
        start -= 1
    height = rising[top]
    part = np.arange(start, top + 1)
    chosen = part[(rising[part] > 0.06 * height) & (rising[part] < 0.45 * height)]
    if chosen.size < 3:
        return float(first)
    best, found = np.inf, float(first)
    for power in (1.0, 2.0, 3.0, 4.0):
        line = np.polynomial.polynomial.polyfit(chosen, rising[chosen] ** (1 / power), 1)
        if line[1] <= 0:
            continue
        fitted = np.polynomial.polynomial.polyval(chosen, line) ** power
        left = float(np.sum((fitted - rising[chosen]) ** 2))
        if left < best:
            best, found = left, float(-line[0] / line[1])
    return found
