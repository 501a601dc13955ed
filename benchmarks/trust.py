"""Do stated uncertainties hold the truth? Many noisy recordings of known filters."""

from concurrent.futures import ProcessPoolExecutor

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.linear import complex_gain
from jiyuu.measurement.curve_reading import CurveReading, read_curve
from jiyuu.measurement.findings import READ_FROM_CURVE, read_response
from jiyuu.measurement.response import measure_response
from jiyuu.measurement.smoothing import POINTS_PER_OCTAVE
from jiyuu.signals.stimuli import noise_stimulus, tones_stimulus
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from tests.measurement.test_response import through

Case = tuple[str, str, float, float, str, float]  # circuit, mode, cutoff in Hz, gain, stimulus, clock in ppm
RATE = 48_000
SHORT, USUAL, NOISE, TONES = "short sweep", "sweep", "noise", "tones"


def _stimulus(kind: str) -> FloatArray:
    if kind == NOISE:
        return noise_stimulus(level_v=0.3, sample_rate_hz=RATE, duration_s=4.0, pink=True)
    if kind == TONES:
        return tones_stimulus(level_v=1.0, sample_rate_hz=RATE)
    plan = SweepPlan(level_v=1.0, sweep_s=3.0) if kind == SHORT else SweepPlan(level_v=5.0)
    return sweep_stimulus(plan, sample_rate_hz=RATE)


CASES: tuple[Case, ...] = (
    ("transistor-ladder", "lowpass-24", 820.0, 2.0, SHORT, 40.0),
    ("state-variable", "bandpass", 1200.0, 1.6, SHORT, 40.0),
    ("pole-mixer", "notch", 700.0, 0.0, SHORT, 40.0),
    ("state-variable", "highpass", 300.0, 1.8, SHORT, 40.0),
    ("diode-ladder", "lowpass-24", 900.0, 10.0, SHORT, 40.0),
    ("sallen-key-lowpass", "lowpass-12", 1500.0, 1.9, SHORT, 40.0),
    ("transistor-ladder", "lowpass-24", 400.0, 3.5, USUAL, 80.0),
    ("state-variable", "lowpass", 2500.0, 1.9, USUAL, -30.0),
    ("transistor-ladder", "highpass-24", 500.0, 1.0, USUAL, 80.0),
    ("sallen-key-highpass", "highpass-12", 200.0, 1.5, USUAL, 0.0),
    ("ota-cascade", "lowpass-24", 1000.0, 0.0, USUAL, 20.0),
    ("pole-mixer", "notch", 1500.0, 0.0, USUAL, 0.0),
    ("transistor-ladder", "lowpass-24", 820.0, 2.0, NOISE, 20.0),
    ("state-variable", "bandpass", 1200.0, 1.6, NOISE, 20.0),
    ("pole-mixer", "notch", 700.0, 0.0, NOISE, 20.0),
    ("transistor-ladder", "lowpass-24", 820.0, 2.0, TONES, 20.0),
    ("state-variable", "highpass", 300.0, 1.2, TONES, 20.0),
    ("pole-mixer", "notch", 700.0, 0.0, TONES, 20.0),
)
TRIALS = 300
SHARES = (90.0, 99.0)  # of 95 % intervals, with the scatter of so many trials


def _case(job: tuple[Case, int]) -> list[tuple[str, float]]:
    (circuit_id, mode, cutoff_hz, gain, kind, ppm), trials = job
    stimulus = _stimulus(kind)
    clean = through(stimulus, circuit_id, mode, cutoff_hz=cutoff_hz, gain=gain, delay_s=0.0123, ppm=ppm)
    loud = clean[: stimulus.size][stimulus != 0]
    noise_v = np.sqrt(np.mean(loud**2)) * 1e-3
    truth: CurveReading | None = None
    errors: dict[str, list[tuple[float, float]]] = {}
    for seed in range(trials):
        noise = np.random.default_rng(seed).normal(0, noise_v, clean.size)
        response = measure_response(stimulus, clean + noise, RATE)
        read = read_response(response)
        if truth is None:
            # Four times as fine, over the same band: a slope's window may end with it.
            f = response.frequency_hz
            fine_hz = f[0] * 2 ** (np.arange(4 * (f.size - 1) + 1) / (4 * POINTS_PER_OCTAVE))
            exact = complex_gain(circuit(circuit_id).network(), fine_hz, cutoff_hz=cutoff_hz, gain=gain, modes=[mode])
            truth = read_curve(fine_hz, 20 * np.log10(np.abs(exact[0])))
        for name, _ in READ_FROM_CURVE:
            if name in read.uncertainty and getattr(truth, name) is not None and name != "notch_depth_db":
                error = getattr(read.reading, name) - getattr(truth, name)
                errors.setdefault(name, []).append((error, read.uncertainty[name]))
    lines = []
    for name, pairs in errors.items():
        error, stated = np.array(pairs).T
        held = 100 * float(np.mean(np.abs(error) <= stated))
        lines.append((
            f"{circuit_id:20} {mode:12} {kind:12} {name:24} held in {held:5.1f} % of {len(pairs)}, "
            f"error {error.mean():+.2g} ± {error.std():.2g}, truth {getattr(truth, name):.5g}", held,
        ))
    return lines


def main(trials: int = TRIALS) -> None:
    """Share of trials whose 95 % interval holds the truth, and the spread of the readings."""
    shares = []
    with ProcessPoolExecutor(2) as pool:
        for lines in pool.map(_case, [(case, trials) for case in CASES]):
            for line, held in lines:
                print(line, flush=True)
                shares.append(held)
    outside = sum(not SHARES[0] <= held <= SHARES[1] for held in shares)
    print(f"{len(shares)} quantities, {min(shares):.1f} to {max(shares):.1f} %, {outside} outside "
          f"{SHARES[0]:.0f} to {SHARES[1]:.0f} %")
