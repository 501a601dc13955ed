"""Controls that listen: to a source of the patch, whose sound is known beforehand, at any instant."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.patch.controls import FollowerControl, SignalControl
from jiyuu.signals.controls.follower import followed
from jiyuu.signals.long_record import Record
from jiyuu.signals.resampling import HALF_LENGTH, interpolated

Values = Callable[[FloatArray], FloatArray]
SILENCE = 64  # samples of it behind a record
BEYOND = 16  # samples on either side, from where a cubic forgets how it ends
FINE = 8  # times the record's own rate, between which a cubic is as good as the band limit


@dataclass(frozen=True, slots=True, eq=False)
class HeardRecord:
    """Volts of a source at sample_rate_hz, from t = 0."""

    record: Record
    sample_rate_hz: float


def listening(control: FollowerControl | SignalControl, heard: HeardRecord) -> Values:
    """Its value at any times; before and after the record, silence."""
    rate = heard.sample_rate_hz
    if isinstance(control, FollowerControl):
        values = followed(heard.record, rate, low_hz=control.low_hz, high_hz=control.high_hz,
                          attack_s=control.attack_s, release_s=control.release_s, gain=10 ** (control.gain_db / 20))
        return lambda t: between_samples(values, rate, t)
    return lambda t: control.per_v * _band_limited(heard, np.asarray(t, dtype=float))


def between_samples(values: Record, sample_rate_hz: float, times_s: FloatArray) -> FloatArray:
    """Along straight lines from sample to sample; 0 before the first, the last after the last."""
    if not values.size or not np.size(times_s):
        return np.zeros(np.shape(times_s))
    places = np.asarray(times_s, dtype=float) * sample_rate_hz
    first, last = (int(np.clip(np.floor(end), 0, values.size - 1)) for end in (places.min(), places.max()))
    near = values.read(first, min(last + 2, values.size))
    return np.interp(places, first + np.arange(near.size), near, left=0.0)


def _band_limited(heard: HeardRecord, times_s: FloatArray) -> FloatArray:
    """The record's own band-limited course, read where it is asked."""
    from scipy.interpolate import CubicSpline

    # Past the end the cubic would run away: some silence lies behind.
    end = heard.record.size + SILENCE - 1
    places = times_s * heard.sample_rate_hz
    inside = (places >= 0) & (places <= end)
    if not inside.any():
        return np.zeros(places.shape)
    first = max(math.floor(places[inside].min()) - BEYOND, 0)
    last = min(math.ceil(places[inside].max()) + BEYOND, end)
    near = heard.record.read(first - HALF_LENGTH - 1, last + HALF_LENGTH + 2)
    fine = interpolated(near, FINE, HALF_LENGTH + 1, HALF_LENGTH + 1 + last - first)
    curve = CubicSpline(first + np.arange(fine.size) / FINE, fine)
    return np.where(inside, curve(np.clip(places, first, last)), 0.0)
