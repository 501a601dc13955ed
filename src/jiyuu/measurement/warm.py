"""Compile ahead of time what measuring needs, by measuring something: python -m jiyuu.measurement.warm"""

from __future__ import annotations

import numpy as np
import scipy

from jiyuu.measurement.findings import read_response
from jiyuu.measurement.ping import measure_pings
from jiyuu.measurement.response import measure_response
from jiyuu.signals.pings import ping_stimulus, pings_in
from jiyuu.signals.resampling import taken_at
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus

RATE_HZ, SWEEP_S, LEVEL_V, NOISE_V, CLOCK_PPM, PULSE_S = 48_000, 1.0, 0.05, 1e-5, 30.0, 1e-3


def main() -> None:
    """A resonance, recorded by another clock, with noise, and struck: all of a measurement is gone through."""
    stimulus_v = sweep_stimulus(SweepPlan(level_v=LEVEL_V, sweep_s=SWEEP_S), sample_rate_hz=RATE_HZ)
    pole = 0.98 * np.exp(0.1j)
    resonance = [abs(1 - pole) ** 2], np.poly([pole, np.conj(pole)])
    heard_v = scipy.signal.lfilter(*resonance, stimulus_v)
    late_v = taken_at(heard_v, np.arange(heard_v.size - 100) * (1 + 1e-6 * CLOCK_PPM))
    noise_v = NOISE_V * np.random.default_rng(1).standard_normal(late_v.size)
    read_response(measure_response(stimulus_v, late_v + noise_v, RATE_HZ))
    pulse_v = ping_stimulus(length_s=PULSE_S, level_v=LEVEL_V, every_s=SWEEP_S, count=1, sample_rate_hz=RATE_HZ)
    rings_v = scipy.signal.lfilter(*resonance, pulse_v)
    measure_pings(rings_v + noise_v[: rings_v.size], RATE_HZ, pings_in(pulse_v, RATE_HZ))


if __name__ == "__main__":
    main()
