"""Do stated uncertainties hold the truth? Many noisy recordings of known filters."""

from concurrent.futures import ProcessPoolExecutor

import numpy as np

from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.linear import complex_gain
from jiyuu.measurement.curve_reading import read_curve
from jiyuu.measurement.findings import READ_FROM_CURVE, read_response
from jiyuu.measurement.response import measure_response
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from tests.measurement.test_response import through

CASES = (
    ("transistor-ladder", "lowpass-24", 820.0, 2.0), ("state-variable", "bandpass", 1200.0, 1.6),
    ("pole-mixer", "notch", 700.0, 0.0), ("state-variable", "highpass", 300.0, 1.8),
    ("diode-ladder", "lowpass-24", 900.0, 10.0), ("sallen-key-lowpass", "lowpass-12", 1500.0, 1.9),
)
TRIALS = 300
RATE = 48_000


def _case(job: tuple[tuple[str, str, float, float], int]) -> list[str]:
    (circuit_id, mode, cutoff_hz, gain), trials = job
    stimulus = sweep_stimulus(SweepPlan(level_v=1.0, sweep_s=3.0), sample_rate_hz=RATE)
    clean = through(stimulus, circuit_id, mode, cutoff_hz=cutoff_hz, gain=gain, delay_s=0.0123, ppm=40.0)
    loud = clean[: stimulus.size][stimulus != 0]
    noise_v = np.sqrt(np.mean(loud**2)) * 1e-3
    fine_hz = 10.0 * 2 ** (np.arange(768 * 11 + 1) / 768)
    exact = complex_gain(circuit(circuit_id).network(), fine_hz, cutoff_hz=cutoff_hz, gain=gain, modes=[mode])[0]
    truth = read_curve(fine_hz, 20 * np.log10(np.abs(exact)))
    errors: dict[str, list[tuple[float, float]]] = {}
    for seed in range(trials):
        noise = np.random.default_rng(seed).normal(0, noise_v, clean.size)
        read = read_response(measure_response(stimulus, clean + noise, RATE))
        for name, _ in READ_FROM_CURVE:
            if name in read.uncertainty and getattr(truth, name) is not None and name != "notch_depth_db":
                error = getattr(read.reading, name) - getattr(truth, name)
                errors.setdefault(name, []).append((error, read.uncertainty[name]))
    lines = []
    for name, pairs in errors.items():
        error, stated = np.array(pairs).T
        lines.append(
            f"{circuit_id:18} {mode:11} {name:24} held in {100 * np.mean(np.abs(error) <= stated):5.1f} % of {trials}, "
            f"error {error.mean():+.2g} ± {error.std():.2g}, truth {getattr(truth, name):.5g}"
        )
    return lines


def main(trials: int = TRIALS) -> None:
    """Share of trials whose 95 % interval holds the truth, and the spread of the readings."""
    with ProcessPoolExecutor(2) as pool:
        for lines in pool.map(_case, [(case, trials) for case in CASES]):
            print("\n".join(lines), flush=True)
