"""A comb whose delay, feedback and mix move while it plays: y = x + g·D·y(t − τ), D a pole, read band-limited between
the samples of its own past. One that stands still has an exact response and needs none of this."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from jiyuu.arrays import FloatArray
from jiyuu.signals.resampling import DECIMATION_HALF_LENGTH, decimated, interpolated
from jiyuu.stopping import checkpoint

REACH, PHASES = 16, 1024  # of reading between samples: on either side, and how finely
BETA = 8.0
LEAST_FACTOR, LEAST_DELAY = 2, REACH + 2  # fine samples of delay that reading needs


def fine_factor(highest_hz: float, sample_rate_hz: float) -> int:
    """How many times the rate the shortest delay needs."""
    needed = LEAST_DELAY * highest_hz / sample_rate_hz
    return max(LEAST_FACTOR, 2 ** math.ceil(math.log2(max(needed, 1.0))))


def through_comb(
    record_v: FloatArray, sample_rate_hz: float, factor: int, *, frequency_hz: FloatArray, feedback: FloatArray,
    mix: FloatArray, damping_hz: float | None,
) -> FloatArray:
    """(n,) volts from record_v (n,); what moves is given at every 1/factor of a sample, (n·factor + 1,)."""
    checkpoint()
    n = record_v.size
    fine = interpolated(record_v, factor, 0, n)
    wet = np.zeros(fine.size)
    step_s = 1 / (sample_rate_hz * factor)
    rate = 0.0 if damping_hz is None else 2 * np.pi * damping_hz * step_s
    _loop(fine, wet, np.ascontiguousarray(1 / (frequency_hz * step_s)), np.ascontiguousarray(feedback), rate, _taps())
    out = fine + mix * (wet - fine)
    half = DECIMATION_HALF_LENGTH * factor
    return decimated(np.pad(out[np.newaxis], ((0, 0), (half, half))), factor)[0, :n]


def _taps() -> FloatArray:
    """(PHASES + 1, 2·REACH) weights of the samples around for every fraction of one."""
    fraction = np.arange(PHASES + 1)[:, np.newaxis] / PHASES
    t = np.arange(-REACH + 1, REACH + 1)[np.newaxis, :] - fraction
    inside = np.clip(1 - (t / REACH) ** 2, 0, None)
    taps = np.sinc(t) * np.i0(BETA * np.sqrt(inside))
    return np.asarray(taps / taps.sum(axis=1, keepdims=True))


@njit(cache=True, nogil=True)
def _read(past: FloatArray, place: float, taps: FloatArray) -> float:
    base = math.floor(place)
    phase = (place - base) * PHASES
    row = int(phase)
    part = phase - row
    total = 0.0
    for k in range(2 * REACH):
        i = base - REACH + 1 + k
        if 0 <= i < past.size:
            total += past[i] * (taps[row, k] + part * (taps[min(row + 1, PHASES), k] - taps[row, k]))
    return total


@njit(cache=True, nogil=True)
def _loop(
    played: FloatArray, wet: FloatArray, delay: FloatArray, feedback: FloatArray, rate: float, taps: FloatArray
) -> None:
    """rate: of the damping pole, in radians a fine sample; 0 for none."""
    # z' = rate·(v − z), v a parabola through the two ends of a step and its middle, integrated exactly.
    keep = math.exp(-rate)
    first = middle = last = 0.0
    if rate > 0:
        # Moments of the exponential over a step of unit length, by quadrature of enough points.
        points = 64
        for i in range(points):
            s = (i + 0.5) / points
            weight = rate * math.exp(-rate * (1 - s)) / points
            first += weight * (2 * s - 1) * (s - 1)
            middle += weight * 4 * s * (1 - s)
            last += weight * s * (2 * s - 1)
        scale = (1 - keep) / (first + middle + last)
        first, middle, last = first * scale, middle * scale, last * scale
    damped = before = 0.0
    for n in range(played.size):
        now = _read(wet, n - delay[n], taps)
        if rate > 0:
            between = _read(wet, n - 0.5 - 0.5 * (delay[n] + delay[max(n - 1, 0)]), taps)
            damped = keep * damped + first * before + middle * between + last * now
            before = now
        else:
            damped = now
        wet[n] = played[n] + feedback[n] * damped
