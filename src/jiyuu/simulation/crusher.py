"""Sample and hold with coarse steps: what it puts out is a staircase in continuous time, read through the same band
limit as every other output, so that its own images are there and those of the simulation are not."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.signals.resampling import DECIMATION_HALF_LENGTH, at_positions, interpolated, lowpass
from jiyuu.stopping import checkpoint

FINE = 8  # times the rate, between which six points tell what lies there
EDGES = 8192  # jumps at a time
PER_SAMPLE = 64  # points of the lowpass's step response


def held_values(
    record_v: FloatArray, sample_rate_hz: float, *, rate_hz: float, step_v: float, full_scale_v: float
) -> tuple[FloatArray, FloatArray]:
    """(times in samples (m,), volts (m,)) of record_v (n,), read at every n/rate_hz, rounded to whole steps, cut off at
    −full scale and one step under +full scale."""
    count = int(np.ceil(record_v.size * rate_hz / sample_rate_hz - 1e-9))
    position = np.arange(max(count, 1)) * (sample_rate_hz / rate_hz)
    fine = interpolated(record_v, FINE, 0, record_v.size)
    values = np.rint(at_positions(fine, position * FINE) / step_v) * step_v
    return np.asarray(position), np.clip(values, -full_scale_v, full_scale_v - step_v)


def crushed(
    record_v: FloatArray, sample_rate_hz: float, *, rate_hz: float, step_v: float, full_scale_v: float
) -> FloatArray:
    """(n,) volts: the staircase, silent before t = 0, through the lowpass of every output."""
    n, reach = record_v.size, DECIMATION_HALF_LENGTH
    if not n:
        return np.zeros(0)
    position, values = held_values(record_v, sample_rate_hz, rate_hz=rate_hz, step_v=step_v,
                                   full_scale_v=full_scale_v)
    stands = np.searchsorted(position, np.arange(n), side="right") - 1
    out = values[stands]
    jumps = np.diff(values, prepend=0.0)
    moved = np.flatnonzero(jumps)
    offsets = np.arange(-reach, reach)
    for start in range(0, moved.size, EDGES):
        checkpoint()
        which = moved[start : start + EDGES]
        places = np.ceil(position[which])[:, np.newaxis].astype(np.int64) + offsets
        late = places - position[which, np.newaxis]
        rest = jumps[which, np.newaxis] * (_step_response()(np.clip(late, -reach, reach)) - (late >= 0))
        inside = (places >= 0) & (places < n)
        out += np.bincount(places[inside], rest[inside], n)
    return np.asarray(out)


@lru_cache(maxsize=1)
def _step_response() -> Callable[[FloatArray], FloatArray]:
    """Of the lowpass, over samples."""
    from scipy.interpolate import CubicSpline

    reach = DECIMATION_HALF_LENGTH
    offset = np.arange(-reach * PER_SAMPLE, reach * PER_SAMPLE + 1) / PER_SAMPLE
    whole = CubicSpline(offset, lowpass(offset)).antiderivative()
    points = whole(offset)
    found: Callable[[FloatArray], FloatArray] = CubicSpline(offset, points / points[-1])
    return found
