"""Do stated uncertainties hold the truth? Many noisy recordings of filters whose curves are known in closed form."""

from concurrent.futures import ProcessPoolExecutor

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.findings import READ_FROM_CURVE, read_response
from jiyuu.measurement.response import measure_response
from jiyuu.signals.stimuli import noise_stimulus, tones_stimulus
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from tests.truths import Made, exact, recorded

RATE = 48_000
SHORT, USUAL, NOISE, TONES = "short sweep", "sweep", "noise", "tones"
WHITE, PINK, HUM = "white", "pink", "white and hum"
MAINS_HZ, HARMONICS, HUMS = 50.0, (1, 2, 3, 5), 2.0  # as loud as twice the noise, the harmonics less
Case = tuple[Made, str, float, str]  # filter, stimulus, clock in ppm, colour of the noise

CASES: tuple[Case, ...] = (
    (Made("transistor-ladder", "lowpass-24", 820.0, 2.0), SHORT, 40.0, WHITE),
    (Made("transistor-ladder", "lowpass-24", 400.0, 3.8), USUAL, 80.0, WHITE),
    (Made("transistor-ladder", "lowpass-24", 1000.0, 3.92), SHORT, 0.0, WHITE),
    (Made("transistor-ladder", "lowpass-24", 3000.0, 3.96), USUAL, -30.0, WHITE),
    (Made("transistor-ladder", "lowpass-24", 20.0, 0.0), USUAL, 0.0, WHITE),
    (Made("transistor-ladder", "lowpass-24", 40.0, 3.0), USUAL, 20.0, WHITE),
    (Made("transistor-ladder", "lowpass-24", 16000.0, 1.0), SHORT, 10.0, WHITE),
    (Made("transistor-ladder", "lowpass-24", 12000.0, 3.6), SHORT, 10.0, WHITE),
    (Made("transistor-ladder", "lowpass-12", 700.0, 1.0), SHORT, 5.0, WHITE),
    (Made("transistor-ladder", "highpass-24", 500.0, 1.0), USUAL, 80.0, WHITE),
    (Made("transistor-ladder", "highpass-24", 3000.0, 3.0), SHORT, 0.0, WHITE),
    (Made("transistor-ladder", "highpass-12", 120.0, 0.5), SHORT, 0.0, WHITE),
    (Made("transistor-ladder", "bandpass-24", 900.0, 2.5), SHORT, 30.0, WHITE),
    (Made("state-variable", "lowpass", 2500.0, 1.9), USUAL, -30.0, WHITE),
    (Made("state-variable", "lowpass", 60.0, 1.0), SHORT, 0.0, PINK),
    (Made("state-variable", "lowpass", 5000.0, 1.98), SHORT, 0.0, WHITE),
    (Made("state-variable", "bandpass", 1200.0, 1.6), SHORT, 40.0, WHITE),
    (Made("state-variable", "bandpass", 100.0, 1.98), USUAL, 0.0, WHITE),
    (Made("state-variable", "highpass", 300.0, 1.8), SHORT, 40.0, WHITE),
    (Made("state-variable", "highpass", 14000.0, 1.0), SHORT, 0.0, WHITE),
    (Made("state-variable", "notch", 1500.0, 0.0), SHORT, 0.0, WHITE),
    (Made("state-variable", "notch", 400.0, 1.0), USUAL, 20.0, WHITE),
    (Made("diode-ladder", "lowpass-24", 900.0, 10.0), SHORT, 40.0, WHITE),
    (Made("diode-ladder", "lowpass-24", 600.0, 16.5), SHORT, 0.0, WHITE),
    (Made("transistor-ladder", "lowpass-24", 820.0, 2.0), USUAL, 0.0, PINK),
    (Made("transistor-ladder", "lowpass-24", 820.0, 2.0), NOISE, 20.0, WHITE),
    (Made("state-variable", "bandpass", 1200.0, 1.6), NOISE, 20.0, WHITE),
    (Made("state-variable", "lowpass", 800.0, 1.95), NOISE, 0.0, WHITE),
    (Made("state-variable", "notch", 700.0, 0.0), NOISE, 20.0, WHITE),
    (Made("transistor-ladder", "lowpass-24", 820.0, 2.0), TONES, 20.0, WHITE),
    (Made("state-variable", "highpass", 300.0, 1.2), TONES, 20.0, WHITE),
    (Made("state-variable", "notch", 700.0, 0.0), TONES, 20.0, WHITE),
    # Between stages of a ladder two zeros nearly undo two poles while little is fed back.
    (Made("transistor-ladder", "lowpass-12", 300.0, 0.1), SHORT, 20.0, WHITE),
    (Made("transistor-ladder", "highpass-12", 9334.0, 0.054), NOISE, 20.0, WHITE),
    (Made("transistor-ladder", "lowpass-24", 1000.0, 3.92), NOISE, 0.0, WHITE),
    (Made("state-variable", "bandpass", 500.0, 1.96), NOISE, 20.0, WHITE),
    (Made("transistor-ladder", "lowpass-24", 200.0, 3.9), NOISE, 20.0, WHITE),
    (Made("transistor-ladder", "lowpass-24", 1000.0, 3.92), TONES, 20.0, WHITE),
    (Made("state-variable", "bandpass", 500.0, 1.96), TONES, -30.0, WHITE),
    (Made("transistor-ladder", "lowpass-24", 820.0, 2.0), USUAL, 0.0, HUM),
    (Made("state-variable", "bandpass", 1200.0, 1.6), SHORT, 40.0, HUM),
    (Made("transistor-ladder", "highpass-24", 500.0, 1.0), USUAL, 20.0, HUM),
)
TRIALS = 300
SHARES = (90.0, 99.0)  # of 95 % intervals, with the scatter of so many trials
DELAY_S = 0.0123


def stimulus_of(kind: str) -> FloatArray:
    if kind == NOISE:
        return noise_stimulus(level_v=0.3, sample_rate_hz=RATE, duration_s=4.0, pink=True)
    if kind == TONES:
        return tones_stimulus(level_v=1.0, sample_rate_hz=RATE)
    plan = SweepPlan(level_v=1.0, sweep_s=2.0) if kind == SHORT else SweepPlan(level_v=5.0)
    return sweep_stimulus(plan, sample_rate_hz=RATE)


def noise_of(colour: str, count: int, level_v: float, generator: np.random.Generator) -> FloatArray:
    white = generator.normal(0, level_v, count)
    if colour == WHITE:
        return white
    if colour == HUM:
        turns = 2 * np.pi * MAINS_HZ * np.arange(count) / RATE
        phases = generator.uniform(0, 2 * np.pi, len(HARMONICS))
        hum = np.sum([np.sin(n * turns + phase) / n for n, phase in zip(HARMONICS, phases, strict=True)], axis=0)
        return np.asarray(white + HUMS * level_v * hum / hum.std())
    spectrum = np.fft.rfft(white)
    spectrum[1:] /= np.sqrt(np.arange(1, spectrum.size) / 1000)  # as strong as white noise in the thousandth bin
    pink = np.fft.irfft(spectrum, count)
    return np.asarray(pink * level_v / pink.std())


def trials_of(case: Case, seeds: range, share: float = 1e-3) -> dict[str, list[tuple[float, float]]]:
    """Error and stated uncertainty of every quantity, by its name. share: of the recording that is noise."""
    made, kind, ppm, colour = case
    stimulus = stimulus_of(kind)
    clean = recorded(made, stimulus, RATE, delay_s=DELAY_S, ppm=ppm)
    loud = clean[: stimulus.size][stimulus != 0]
    found: dict[str, list[tuple[float, float]]] = {}
    for seed in seeds:
        noise = noise_of(colour, clean.size, float(np.sqrt(np.mean(loud**2))) * share, np.random.default_rng(seed))
        try:
            response = measure_response(stimulus, clean + noise, RATE)
            read = read_response(response)
        except MeasurementError as error:
            found.setdefault(f"refused: {error}", []).append((1.0, 0.0))
            continue
        truth = exact(made, (response.frequency_hz[0], response.frequency_hz[-1]))
        if read.reading.kind.value != made.mode.split("-")[0]:
            found.setdefault(f"taken for {read.reading.kind.value}", []).append((1.0, 0.0))
            continue
        for name, _ in READ_FROM_CURVE:
            if name in read.uncertainty and name in truth:
                error = getattr(read.reading, name) - truth[name]
                found.setdefault(name, []).append((error, read.uncertainty[name]))
        late = response.latency_s
        found.setdefault("latency_samples", []).append(((late.value - DELAY_S) * RATE, late.uncertainty * RATE))
    return found


def seeds_of(place: int, trials: int) -> range:
    """Other noise for every set-up: what one noise does by chance would be found in all of them."""
    return range(place * TRIALS, place * TRIALS + trials)


def _lines(job: tuple[int, int]) -> list[tuple[str, float]]:
    place, trials = job
    made, kind, _, colour = CASES[place]
    lines = []
    for name, pairs in trials_of(CASES[place], seeds_of(place, trials)).items():
        error, stated = np.array(pairs).T
        held = 100 * float(np.mean(np.abs(error) <= stated))
        lines.append((
            f"{made.circuit:17} {made.mode:11} {made.cutoff_hz:6.0f} Hz k {made.gain:5.2f} {kind:11} {colour:5} "
            f"{name:22} held in {held:5.1f} % of {len(pairs)}, error {error.mean():+.2g} ± {error.std():.2g}, "
            f"stated {np.median(stated):.2g}", held,
        ))
    return lines


def main(trials: int = TRIALS) -> None:
    """Share of trials whose 95 % interval holds the truth, and the spread of the readings."""
    shares = []
    with ProcessPoolExecutor(2) as pool:
        for lines in pool.map(_lines, [(place, trials) for place in range(len(CASES))]):
            for line, held in lines:
                print(line, flush=True)
                shares.append(held)
    outside = sum(not SHARES[0] <= held <= SHARES[1] for held in shares)
    print(f"{len(shares)} quantities, {min(shares):.1f} to {max(shares):.1f} %, {outside} outside "
          f"{SHARES[0]:.0f} to {SHARES[1]:.0f} %")
