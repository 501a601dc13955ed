"""What a sound's own loudness makes of a control: a band of it rectified, behind a pole that goes up by one time
constant and down by another."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import FloatArray

ORDER = 2  # of either end of the band
OPEN = 0.49  # of the rate: an upper end past this is none


def followed(
    record_v: FloatArray, sample_rate_hz: float, *, low_hz: float, high_hz: float, attack_s: float, release_s: float,
    gain: float,
) -> FloatArray:
    """(n,) at every sample of record_v (n,): 0 before it, volts × gain."""
    from scipy.signal import butter, sosfilt

    banded = record_v
    if low_hz > 0:
        banded = sosfilt(butter(ORDER, low_hz, "highpass", fs=sample_rate_hz, output="sos"), banded)
    if high_hz < OPEN * sample_rate_hz:
        banded = sosfilt(butter(ORDER, high_hz, "lowpass", fs=sample_rate_hz, output="sos"), banded)
    return gain * up_and_down(banded, sample_rate_hz, attack_s=attack_s, release_s=release_s)


def up_and_down(record_v: FloatArray, sample_rate_hz: float, *, attack_s: float, release_s: float) -> FloatArray:
    """(n,) record_v (n,) rectified, behind one pole upwards and another downwards."""
    up, down = (float(np.exp(-1 / (max(tau, 1e-9) * sample_rate_hz))) for tau in (attack_s, release_s))
    from jiyuu.signals.controls.follower_kernel import follow

    return np.asarray(follow(np.abs(record_v), up, down))
