"""Do stated uncertainties hold the truth? Many noisy recordings of known filters."""

import sys

import numpy as np

from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.linear import complex_gain
from jiyuu.measurement.curve_reading import read_curve
from jiyuu.measurement.findings import read_response
from jiyuu.measurement.response import measure_response
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from tests.measurement.test_response import through

CASES = (
    ("transistor-ladder", "lowpass-24", 820.0, 2.0, ("passband_db", "cutoff_3db_hz", "slope_db_per_octave", "peak_db")),
    ("state-variable", "bandpass", 1200.0, 1.6, ("passband_db", "peak_hz", "q", "low_3db_hz", "high_3db_hz")),
    ("pole-mixer", "notch", 700.0, 0.0, ("notch_hz", "passband_db")),
)
TRIALS = 300


def main(trials: int = TRIALS) -> None:
    """Share of trials whose 95 % interval holds the truth, and the spread of the readings."""
    rate = 48_000
    fine_hz = 10.0 * 2 ** (np.arange(768 * 11 + 1) / 768)
    for circuit_id, mode, cutoff_hz, gain, names in CASES:
        stimulus = sweep_stimulus(SweepPlan(level_v=1.0, sweep_s=2.0), sample_rate_hz=rate)
        clean = through(stimulus, circuit_id, mode, cutoff_hz=cutoff_hz, gain=gain)
        loud = clean[rate // 2 : rate * 5 // 2]
        noise_v = np.sqrt(np.mean(loud**2)) * 1e-3
        exact = complex_gain(circuit(circuit_id).network(), fine_hz, cutoff_hz=cutoff_hz, gain=gain, modes=[mode])[0]
        truth = read_curve(fine_hz, 20 * np.log10(np.abs(exact)))
        held = dict.fromkeys(names, 0)
        errors: dict[str, list[float]] = {name: [] for name in names}
        for seed in range(trials):
            noise = np.random.default_rng(seed).normal(0, noise_v, clean.size)
            read = read_response(measure_response(stimulus, clean + noise, rate))
            for name in names:
                error = getattr(read.reading, name) - getattr(truth, name)
                errors[name].append(error)
                held[name] += abs(error) <= read.uncertainty[name]
        for name in names:
            print(f"{circuit_id:18} {mode:11} {name:20} held in {100 * held[name] / trials:5.1f} % of {trials}, "
                  f"error {np.mean(errors[name]):+.2g} ± {np.std(errors[name]):.2g}, truth {getattr(truth, name):.5g}")
    sys.stdout.flush()
