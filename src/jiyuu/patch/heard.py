"""Controls that listen: to a source of the patch, whose sound is known beforehand, at any instant."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.patch.controls import FollowerControl, SignalControl
from jiyuu.signals.controls.follower import followed
from jiyuu.signals.resampling import interpolated

Values = Callable[[FloatArray], FloatArray]
FINE = 8  # times the record's own rate, between which a cubic is as good as the band limit


@dataclass(frozen=True, slots=True, eq=False)
class HeardRecord:
    """record_v (n,) volts of a source at sample_rate_hz, from t = 0."""

    record_v: FloatArray
    sample_rate_hz: float


def listening(control: FollowerControl | SignalControl, heard: HeardRecord) -> Values:
    """Its value at any times; before and after the record, silence."""
    rate = heard.sample_rate_hz
    if isinstance(control, FollowerControl):
        values = followed(heard.record_v, rate, low_hz=control.low_hz, high_hz=control.high_hz,
                          attack_s=control.attack_s, release_s=control.release_s, gain=10 ** (control.gain_db / 20))
        times = np.arange(values.size) / rate
        return lambda t: np.interp(t, times, values, left=0.0)
    from scipy.interpolate import CubicSpline

    # Past the end the cubic would run away: some silence lies behind.
    record = np.concatenate([heard.record_v, np.zeros(64)])
    fine = control.per_v * interpolated(record, FINE, 0, record.size - 1)
    curve = CubicSpline(np.arange(fine.size) / (FINE * rate), fine)
    last_s = (fine.size - 1) / (FINE * rate)
    return lambda t: np.where((t >= 0) & (t <= last_s), curve(np.clip(t, 0, last_s)), 0.0)
