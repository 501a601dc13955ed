"""Frequency response from a played sweep, noise or stepped tones, and the recording.

The recording is aligned (place, polarity, clock), deconvolved by the sweep, and the impulse response cut out of its
surroundings, which leaves the harmonics of distortion and most of the noise behind (Farina 2000, AES 108th
Convention; Novak et al. 2015, JAES). The complex gain is then smoothed as far as the data allow. The noise comes from
the difference between two equal passages, or from the silence after a single one.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import product

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.alignment import ClockOffset, Passages, find_passages, impulse_response
from jiyuu.measurement.chirp import at_clock, hurt_bands_hz, sounding_s
from jiyuu.measurement.estimate import Estimate, FittedNetwork, fitted_network
from jiyuu.measurement.made_ready import Ready, first_alone, made_ready
from jiyuu.measurement.minimum_phase import Continuation, minimum_phase_rad
from jiyuu.measurement.noise_response import estimate_by_noise
from jiyuu.measurement.notice import Notice
from jiyuu.measurement.smoothing import (
    POINTS_PER_OCTAVE,
    WINDOWS,
    FineGrid,
    Gate,
    NoiseLike,
    bias_of,
    chosen_windows,
    pick,
    smoothed,
)
from jiyuu.measurement.tones_response import estimate_by_tones, tones_of
from jiyuu.measurement.uncertain import COVERAGE, Uncertain
from jiyuu.stopping import checkpoint

DRAWS = 96
SYSTEMATIC = 3e-7  # share of the gain by which gate, interpolation and clock may be off; found on noiseless records
GATE_BEFORE_S, GATE_AFTER_S = 0.25, 1.5
FAR_FROM_PLACE = 4  # samples
SURE_PPM = 25.0  # clocks of usual interfaces differ by less
COARSE_ERROR = 3.0  # re that of rounding noise: of few steps the error is no noise
ROUNDED_S = 2e-8  # what arithmetic may move a latency by


@dataclass(frozen=True, slots=True, eq=False)
class MeasuredResponse:
    """Gain of recording over stimulus, latency taken out, polarity left in.

    frequency_hz (n,) at POINTS_PER_OCTAVE; gain (n,) V/V; deviation (n,) standard uncertainty of the gain;
    draws (DRAWS, n): the gain with noise as it might as well have been, for the uncertainty of what is read from it."""

    frequency_hz: FloatArray
    gain: ComplexArray
    deviation: FloatArray
    draws: ComplexArray
    latency_s: Uncertain
    polarity: int
    clock_offset_ppm: Uncertain | None
    noise_floor_db: float
    passages: int
    coherence: FloatArray | None = None  # (n,) share of the output that the input explains; measured with noise
    network: FittedNetwork | None = None
    notices: tuple[Notice, ...] = ()
    hurt_hz: tuple[tuple[float, float], ...] = ()  # bands in which the recording is not to be trusted

    @property
    def level_db(self) -> FloatArray:
        return np.asarray(20 * np.log10(np.maximum(np.abs(self.gain), 1e-20)))

    @property
    def snr_db(self) -> FloatArray:
        """Of the smoothed gain."""
        return np.asarray(20 * np.log10(np.maximum(np.abs(self.gain), 1e-20) / np.maximum(self.deviation, 1e-20)))

    @property
    def level_uncertainty_db(self) -> FloatArray:
        """95 % uncertainty of the level."""
        share = COVERAGE / np.sqrt(2) * self.deviation / np.maximum(np.abs(self.gain), 1e-20)
        return np.asarray(20 * np.log10(1 + share))

    @property
    def phase_deg(self) -> FloatArray:
        return np.asarray(np.rad2deg(np.unwrap(np.angle(self.gain))))


def measure_response(stimulus_v: FloatArray, recording_v: FloatArray, sample_rate_hz: float) -> MeasuredResponse:
    """Both (n,) volts at the same nominal rate. Raises MeasurementError saying what to do."""
    for name, record in (("stimulus", stimulus_v), ("recording", recording_v)):
        if record.size < 0.1 * sample_rate_hz:
            raise MeasurementError(f"The {name} is only {record.size} samples long; give at least 0.1 s.")
        if not np.isfinite(record).all():
            raise MeasurementError(f"The {name} holds samples that are not numbers; export it again.")
        if not record.any():
            raise MeasurementError(f"The {name} is silent; check cable and level.")
    tones = tones_of(stimulus_v, sample_rate_hz)
    if tones:
        return _by_tones(stimulus_v, recording_v, tones, sample_rate_hz)
    # Offsets of unit and converter lie outside the sweep's band, where deconvolution would only raise them.
    stimulus_v = stimulus_v - _resting(stimulus_v)
    passages = find_passages(stimulus_v)
    ready = made_ready(recording_v, passages, sample_rate_hz)
    found = (_by_noise if passages.noisy else _by_sweep)(ready, stimulus_v, passages, sample_rate_hz)
    if found.network is None and not passages.noisy and ready.offset and abs(ready.offset.ppm) > SURE_PPM:
        # Clocks hardly differ so much: samples may be missing between the passages. Then each alone keeps its time.
        alone = first_alone(recording_v, passages, ready, sample_rate_hz)
        other = _by_sweep(alone, stimulus_v, passages, sample_rate_hz)
        if other.network is not None:
            ready, found = alone, other
    place = found.place + ready.late - passages.start
    if found.clock_ppm is not None:  # until the passage began the clocks had run apart already
        place -= 1e-6 * found.clock_ppm.value * (found.place + ready.sound[0] * passages.period)
    return _stated_response(
        found, place / sample_rate_hz,
        found.clock_ppm if ready.offset is None else _stated(ready.offset), _noise_floor_db(ready, passages), sample_rate_hz,
        (0.5 * passages.passage_v.size + 0.5 * (passages.count - 1) * passages.period) / sample_rate_hz,
        ready.notices,
    )


def _by_tones(
    stimulus_v: FloatArray, recording_v: FloatArray, tones: list[slice], sample_rate_hz: float
) -> MeasuredResponse:
    place, ppm, found, noise_db = estimate_by_tones(stimulus_v, recording_v, tones, sample_rate_hz, draws=DRAWS)
    offset = Uncertain(ppm.value, max(ppm.uncertainty, 0.01))
    middle_s = 0.5 * (tones[0].start + tones[-1].stop) / sample_rate_hz
    return _stated_response(found, place / sample_rate_hz, offset, noise_db, sample_rate_hz, middle_s)


def _stated_response(
    found: Estimate, place_s: float, offset: Uncertain | None, noise_db: float, sample_rate_hz: float, middle_s: float,
    notices: tuple[Notice, ...] = (),
) -> MeasuredResponse:
    """With its delay taken out: all of it that the network, or else the minimum phase, does not account for. middle_s:
    of the stimulus, re its beginning, where the delay is found and from which the clocks have run apart since."""
    delay_s, polarity, doubt_s = excess_delay(found.frequency_hz, found.gain, found.deviation, sample_rate_hz)
    if found.network is not None:
        delay_s = found.network.fit.delay_s
        doubt_s = COVERAGE * found.network.fit.delay_deviation_s + ROUNDED_S
    if offset is not None:
        doubt_s = float(np.hypot(doubt_s, 1e-6 * offset.uncertainty * middle_s))
    turn = np.exp(2j * np.pi * found.frequency_hz * delay_s)
    return MeasuredResponse(
        frequency_hz=found.frequency_hz, gain=found.gain * turn, deviation=found.deviation, draws=found.draws * turn,
        latency_s=Uncertain(place_s + delay_s, doubt_s), polarity=polarity, clock_offset_ppm=offset,
        noise_floor_db=noise_db, passages=found.passages, coherence=found.coherence, network=found.network,
        notices=notices, hurt_hz=found.hurt_hz,
    )


def _by_noise(
    ready: Ready, stimulus_v: FloatArray, passages: Passages, sample_rate_hz: float
) -> Estimate:
    return estimate_by_noise(
        ready, passages, band_hz=_band_hz(passages, sample_rate_hz), sample_rate_hz=sample_rate_hz, draws=DRAWS
    )


def _by_sweep(
    ready: Ready, stimulus_v: FloatArray, passages: Passages, sample_rate_hz: float
) -> Estimate:
    record, place = ready.record_v, ready.place
    impulses, gate = _gated(record, passages, place, sample_rate_hz, ready.sound)
    grid = _grid(passages, sample_rate_hz, gate)
    # A wire measured in the same way: what gate and regularisation do to it they do to the filter, so it divides out.
    wire = _gated(stimulus_v, passages, passages.start, sample_rate_hz, (0,))[0][0][0]
    flat = grid.sampled(wire)
    for rounds in range(2):
        signal = np.mean([impulse for impulse, _ in impulses], axis=0)
        raw = grid.sampled(signal) / flat
        if len(impulses) > 1:
            apart = (impulses[0][0] - impulses[1][0]) / np.sqrt(2 * len(impulses))
        elif ready.silence_v.size > 0.1 * sample_rate_hz:
            apart = _gated(_like(ready.silence_v, record.size), passages, place, sample_rate_hz, ready.sound)[0][0][0]
        else:
            apart = impulses[0][1]
        if ready.step_v:
            # Two passages may be rounded alike, and then do not tell how much was lost by it.
            rounding = _rounding(record.size, ready) / np.sqrt(len(impulses))
            apart = apart + _gated(rounding, passages, place, sample_rate_hz, ready.sound)[0][0][0]
        noise = grid.sampled(apart)
        like = NoiseLike.of(noise, grid)
        # A ring is loudest long after it begins; from its beginning on it is a network with hardly any delay.
        delay_s = excess_delay(grid.frequency_hz, smoothed(raw, WINDOWS[1]), like.deviations[1], sample_rate_hz)[0]
        shift = round(delay_s * sample_rate_hz)
        if rounds or abs(shift) <= FAR_FROM_PLACE or place + ready.sound[0] * passages.period + shift <= 0:
            break
        place += shift
        impulses, gate = _gated(record, passages, place, sample_rate_hz, ready.sound)
    generator = np.random.default_rng(int(np.abs(noise).sum() / np.abs(raw).sum() * 1e12) % 2**32)
    cut = gate.cut(passages.period, len(impulses), sample_rate_hz)
    bins = grid.bins(signal)
    hurt = hurt_bands_hz(ready.flat, passages, place, ready.sound, sample_rate_hz)
    # One passage alone tells its clock by this: what comes late in the sweep comes later still.
    alone = len(ready.sound) == 1 and ready.offset is None
    sounds_s = sounding_s(grid.bins_hz, passages, sample_rate_hz) if alone else None
    network = fitted_network(
        bins, grid.bins(wire), grid.bins(apart), grid, cut, generator, DRAWS, hurt, sounds_s
    )
    ppm = None if network is None else network.fit.clock_ppm
    if ppm is not None:
        raw = raw * at_clock(grid.frequency_hz, ppm.value, passages, sample_rate_hz)
    expected = 0.0 if network is None else grid.seen(network.fit, cut)
    # Less what the network explains hardly anything is left that a wide window could flatten.
    estimates = [smoothed(raw - expected, window) for window in WINDOWS]
    chosen = chosen_windows(estimates, like.deviations)
    gain = pick(estimates, chosen) + (0.0 if network is None else network.fit.at(grid.frequency_hz))
    spread = np.sqrt(
        np.choose(chosen, like.deviations) ** 2 + bias_of(estimates, chosen, like.deviations) ** 2
        + (SYSTEMATIC * np.abs(gain)) ** 2
    )
    # As if the curve found were the true one and had been measured again, smoothed by the same windows. What is
    # systematic leans the same way along the whole curve.
    lean = 1 + SYSTEMATIC * generator.standard_normal((DRAWS, 1))
    again = gain + like.drawn(chosen, DRAWS, generator)
    if network is not None:
        moved = np.stack([one.at(grid.frequency_hz) for one in network.drawn]) - network.fit.at(grid.frequency_hz)
        lost = moved - pick([smoothed(moved, window) for window in WINDOWS], np.broadcast_to(chosen, moved.shape))
        again = again + lost
        spread = np.hypot(spread, np.sqrt(np.mean(np.abs(lost) ** 2, axis=0)))
    return Estimate(grid.frequency_hz, gain, spread, again * lean, len(impulses), None, place, network, ppm, hurt)


def _resting(stimulus_v: FloatArray) -> float:
    """Level of the silence around a stimulus, 0 unless its file carries an offset."""
    return float(np.median(stimulus_v[: max(stimulus_v.size // 100, 1)])) if abs(stimulus_v[0]) > 0 else 0.0


def _like(silence_v: FloatArray, count: int) -> FloatArray:
    """Noise of the spectrum that a silence has, (count,)."""
    from scipy.signal import welch

    places, power = welch(silence_v, nperseg=min(silence_v.size, 4096))
    white = np.fft.rfft(np.random.default_rng(24).standard_normal(count))
    shape = np.sqrt(np.interp(np.fft.rfftfreq(count), places, power) / 2)
    return np.asarray(np.fft.irfft(white * shape, count))


def _rounding(count: int, ready: Ready) -> FloatArray:
    """What rounding to steps may have left: noise of its own, more of it where the steps are felt."""
    share = COARSE_ERROR if ready.coarse else 1.0
    return np.asarray(share * ready.step_v * (np.random.default_rng(23).random(count) - 0.5))


def _stated(offset: ClockOffset) -> Uncertain:
    return Uncertain(offset.ppm, max(COVERAGE * offset.standard_ppm, 0.01))


def _gated(
    record: FloatArray, passages: Passages, place: int, sample_rate_hz: float, sound: tuple[int, ...]
) -> tuple[list[tuple[FloatArray, FloatArray]], Gate]:
    """Of every sound passage the impulse response from gate.before samples before its peak, tapered, and an
    equally long piece of what lies after it (noise only)."""
    period = passages.period or (record.size - place)
    room = passages.period - passages.passage_v.size if passages.period else record.size - place
    before = int(min(GATE_BEFORE_S * sample_rate_hz, passages.passage_v.size / 25))
    longest = min(GATE_AFTER_S * sample_rate_hz, 0.4 * passages.passage_v.size)
    after = int(max(min(longest, period), 64, min(room, longest)))
    gate = Gate(before, after)
    window = gate.window
    impulses = []
    for i in sound:
        checkpoint()
        begin = place + i * passages.period - before
        end = begin + before + period
        piece = np.zeros(before + period)
        low, high = max(begin, 0), min(end, record.size)
        if high - low < passages.passage_v.size * 0.98:
            continue  # this passage is not wholly in the recording
        piece[low - begin : high - begin] = record[low:high]
        response = impulse_response(piece, passages)
        quiet = response[before + after : 2 * (before + after)]
        if quiet.size < window.size:
            quiet = np.resize(quiet, window.size) if quiet.size else np.zeros(window.size)
        impulses.append((response[: before + after] * window, quiet * window))
    if not impulses:
        raise MeasurementError(
            "The recording ends before the stimulus does; record until a second after the stimulus has ended."
        )
    return impulses, gate


def _band_hz(passages: Passages, sample_rate_hz: float) -> tuple[float, float]:
    """The band in which the stimulus has its level: within 10 dB of its middle, energy per octave or per hertz."""
    size = 1 << int(np.ceil(np.log2(passages.passage_v.size)))
    power = np.abs(np.fft.rfft(passages.passage_v, size)) ** 2
    frequency = np.fft.rfftfreq(size, 1 / sample_rate_hz)
    candidates = 8.0 * 2 ** np.arange(0, 13.5, 1 / 24)
    candidates = candidates[candidates < 0.49 * sample_rate_hz]
    index = np.searchsorted(frequency, candidates)
    sums = np.concatenate([[0.0], np.cumsum(power)])
    width = np.maximum((candidates * 0.03 * size / sample_rate_hz).astype(int), 2)
    low, high = np.maximum(index - width, 0), np.minimum(index + width, power.size)
    density = (sums[high] - sums[low]) / (high - low)
    for shape in (density * candidates, density):  # exponential sweep; white
        middle = np.median(shape[(candidates > 100) & (candidates < 0.3 * sample_rate_hz)])
        inside = np.flatnonzero(shape > 0.1 * middle)
        if inside.size and np.ptp(10 * np.log10(shape[inside])) < 14:
            break
    if inside.size < 24:
        raise MeasurementError("The stimulus covers less than an octave; use a sweep, such as 'jiyuu stimulus sweep'.")
    return float(candidates[inside[0]] * 1.03), float(candidates[inside[-1]] * 0.99)


def _grid(passages: Passages, sample_rate_hz: float, gate: Gate) -> FineGrid:
    first, last = _band_hz(passages, sample_rate_hz)
    count = int(np.floor(np.log2(last / first) * POINTS_PER_OCTAVE)) + 1
    return FineGrid(first, count, 1 << int(np.ceil(np.log2(gate.before + gate.after))) + 2, sample_rate_hz, gate)


def excess_delay(
    frequency_hz: FloatArray, gain: ComplexArray, deviation: FloatArray, sample_rate_hz: float
) -> tuple[float, int, float]:
    """Delay and sign that the minimum phase of the level does not account for: (s, ±1, 95 % uncertainty in s).

    frequency_hz, gain (V/V) and deviation (its standard uncertainty), each (n,). Raises MeasurementError where fewer
    than 24 points stand above the noise."""
    level = 20 * np.log10(np.maximum(np.abs(gain), 1e-20))
    snr = np.abs(gain) / np.maximum(deviation, 1e-20)
    good = np.flatnonzero((snr > 10) & (level > level.max() - 70))
    if good.size < 24:
        raise MeasurementError("The recording is too noisy to find the filter in it; raise the level of the stimulus.")
    low, high = int(good[0]), int(good[-1]) + 1
    f, h, shown = frequency_hz[low:high], gain[low:high], level[low:high]
    edge = min(POINTS_PER_OCTAVE // 2, f.size // 3)
    octave = np.arange(edge) / POINTS_PER_OCTAVE
    # A straight line through half an octave gives the slope a quarter of an octave inside the end.
    slope_low = float(np.polyfit(octave, shown[:edge], 1)[0])
    slope_high = float(np.polyfit(octave, shown[-edge:], 1)[0])
    weight = np.minimum(snr[low:high], 300.0) ** 2
    weight = weight / f  # equal weight per hertz would let the top octave decide alone
    # Near the ends the minimum phase leans on how the level is continued beyond them.
    place = np.arange(f.size) / POINTS_PER_OCTAVE
    weight = weight * np.minimum(1.0, np.minimum(place, place[::-1]) + 1e-3) ** 2
    best: tuple[float, float, int] | None = None
    for asymptote_low, asymptote_high in product(_asymptotes(slope_low), _asymptotes(slope_high)):
        expected = minimum_phase_rad(
            shown, points_per_octave=POINTS_PER_OCTAVE,
            low=_continued(slope_low, asymptote_low), high=_continued(slope_high, asymptote_high),
        )
        excess = np.unwrap(np.angle(h * np.exp(-1j * expected)))
        # Where the phase hardly tells two asymptotes apart, the one nearer to the slope seen.
        far = (abs(asymptote_low - slope_low) + abs(asymptote_high - slope_high)) / 6.0206
        for polarity, turns in product((1, -1), range(-3, 4)):
            target = excess - (0.0 if polarity == 1 else np.pi) - 2 * np.pi * turns
            delay = -float(np.sum(weight * f * target) / np.sum(weight * f * f)) / (2 * np.pi)
            misfit = float(np.sum(weight * (target + 2 * np.pi * f * delay) ** 2) / np.sum(weight))
            if best is None or misfit * (1 + far) < best[0]:
                best = (misfit * (1 + far), delay, polarity)
    assert best is not None
    misfit, delay, polarity = best
    leverage = np.sqrt(np.sum(weight * f * f) / np.sum(weight))
    # The misfit is smooth along the grid, so it does not average out: take all of it as the error of the slope.
    return delay, polarity, float(COVERAGE * np.sqrt(misfit) / (2 * np.pi * leverage)) + 0.02 / sample_rate_hz


def _asymptotes(slope: float) -> tuple[float, float]:
    """Whole multiples of 6.02 dB per octave around a slope: networks of this kind end on one of them, and the phase
    tells which."""
    below = 6.0206 * np.floor(slope / 6.0206)
    return float(below), float(below + 6.0206)


def _continued(slope_inside: float, asymptote: float) -> Continuation:
    return Continuation(asymptote + (slope_inside - asymptote) * 4**-0.25, asymptote)


def _noise_floor_db(ready: Ready, passages: Passages) -> float:
    """RMS of the noise re RMS of the recording while the stimulus sounds, dB."""
    length, record = passages.passage_v.size, ready.record_v
    begins = [ready.place + i * passages.period for i in ready.sound]
    first = record[max(begins[0], 0) : begins[0] + length]
    if len(begins) > 1 and begins[0] >= 0 and begins[1] + length <= record.size:
        second = record[begins[1] : begins[1] + length]
        noise = float(np.sqrt(np.mean((first - second) ** 2) / 2))
    else:
        lead = record[: max(ready.place - length // 50, 0)]
        noise = float(np.sqrt(np.mean(lead**2))) if lead.size > 100 else 0.0
    signal = float(np.sqrt(np.mean(first**2)))
    return float(20 * np.log10(max(noise, 1e-12) / max(signal, 1e-12)))
