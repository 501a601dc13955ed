"""Frequency response from stepped tones: one frequency after the other, each fitted where it is steady.

Between the tones stands what the network has there that fits them all; a dozen tones an octave are too few for splines
to follow a sharp peak or a notch."""

from __future__ import annotations

import numpy as np
from scipy.interpolate import CubicSpline

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.alignment import at_player_clock
from jiyuu.measurement.estimate import Estimate, FittedNetwork, network_of
from jiyuu.measurement.rational_fit import fit_rational, refit
from jiyuu.measurement.smoothing import POINTS_PER_OCTAVE
from jiyuu.measurement.uncertain import COVERAGE, Uncertain
from jiyuu.measurement.waveform_faults import rounded_v, step_of
from jiyuu.signals.transforms import irfft, next_fast_len, rfft

FEWEST_TONES = 12
SHORTEST_S = 0.05
SETTLING = 0.4  # share of a tone that is left for the filter to settle
SYSTEMATIC = 2e-6  # share by which ringing and neighbours may move a tone
FITS = 3.0  # standard deviations of the noise that a network may leave over and still be the one
BESIDE = 1.06  # how far beside a tone its absence is felt: half way to the next of a dozen an octave
LOUD = 0.2  # tones at least so loud re the loudest tell the clocks apart


def tones_of(stimulus_v: FloatArray, sample_rate_hz: float) -> list[slice]:
    """Where each tone of a stepped stimulus sounds; empty for any other stimulus."""
    loud = np.abs(stimulus_v) > 1e-3 * np.abs(stimulus_v).max()
    # A tone crosses zero: what is quiet for less than 10 ms is not a gap, and for low tones even 30 ms is not.
    places = np.flatnonzero(loud)
    gaps = np.flatnonzero(np.diff(places) > 0.01 * sample_rate_hz)
    starts = np.concatenate([[places[0]], places[gaps + 1]])
    stops = np.concatenate([places[gaps], [places[-1]]]) + 1
    found = [slice(int(a), int(b)) for a, b in zip(starts, stops, strict=True) if b - a >= SHORTEST_S * sample_rate_hz]
    if len(found) < FEWEST_TONES:
        return []
    # Tones have all of their power in one line; pieces of noise or sweep do not.
    for tone in (found[0], found[len(found) // 2], found[-1]):
        spectrum = np.abs(np.fft.rfft(stimulus_v[tone] * np.hanning(tone.stop - tone.start))) ** 2
        top = int(np.argmax(spectrum))
        if spectrum[max(top - 6, 0) : top + 7].sum() < 0.95 * spectrum.sum():
            return []
    return found


def estimate_by_tones(
    stimulus_v: FloatArray, recording_v: FloatArray, tones: list[slice], sample_rate_hz: float, *, draws: int
) -> tuple[int, Uncertain, Estimate, float, float]:
    """(samples that the recording lags, clock offset in ppm, gain, noise in dB re the recording, when in the recording
    the tones tell a delay, in s).

    Raises MeasurementError when the tones are not in the recording or span less than an octave."""
    record = recording_v - recording_v.mean()
    lag = _lag(stimulus_v, record)
    if tones[-1].stop + lag > record.size or tones[0].start + lag < 0:
        raise MeasurementError("The recording ends before the stimulus does; record until a second after it.")
    played = np.array([_pitch(stimulus_v[_steady(tone)], sample_rate_hz).value for tone in tones])
    ppm = _clock(record, tones, played, lag, sample_rate_hz)
    if abs(ppm.value) > 0.02:
        record = at_player_clock(record, ppm.value)
        lag = _lag(stimulus_v, record)
    order = np.argsort(played)
    if played[order[-1]] < 2 * played[order[0]] or (np.diff(played[order]) <= 0).any():
        raise MeasurementError("The tones must rise or fall over more than an octave, each played once.")
    gains, spreads, noises, signals, times = [], [], [], [], []
    unheard = unheard_tones(recording_v, tones, lag, ppm.value)
    known = [int(i) for i in order if i not in unheard]
    if len(known) < FEWEST_TONES or played[known[-1]] < 2 * played[known[0]]:
        raise MeasurementError("Where most tones should sound nothing is recorded; take the gate out, turn the input "
                               "up and record again.")
    step_v = step_of(recording_v) or 0.0
    for i in known:
        steady = _steady(tones[i])
        shifted = slice(steady.start + lag, steady.stop + lag)
        t = np.arange(steady.start, steady.stop) / sample_rate_hz
        into, _ = _fitted(stimulus_v[steady], t, played[i])
        out, noise = _fitted(record[shifted], t, played[i])
        gains.append(out / into)
        # Both parts together; a tone without noise is still not known without end.
        spread = np.hypot(2 * noise / np.sqrt(t.size) / abs(into), SYSTEMATIC * abs(out / into))
        spreads.append(float(np.hypot(spread, float(rounded_v(abs(out), noise, step_v)) / abs(into))))
        noises.append(noise)
        signals.append(abs(out))
        times.append(float(t.mean()))
    frequency_hz, gain = played[known], np.array(gains)
    lost = played[unheard]
    octave = np.log2(frequency_hz[0]) + np.arange(
        int(np.log2(frequency_hz[-1] / frequency_hz[0]) * POINTS_PER_OCTAVE) + 1
    ) / POINTS_PER_OCTAVE
    smooth, drawn, network = _filled_in(frequency_hz, gain, np.array(spreads), np.array(times), 2.0**octave, draws)
    deviation = np.sqrt(np.mean(np.abs(drawn - smooth) ** 2, axis=0))
    signal, floor = float(np.sqrt(np.mean(np.square(signals)) / 2)), float(np.median(noises))
    noise_db = float(20 * np.log10(max(floor, 1e-12) / max(signal, 1e-12)))
    hurt = tuple((hertz / BESIDE, hertz * BESIDE) for hertz in lost if frequency_hz[0] < hertz < frequency_hz[-1])
    told_s = float(np.mean(times)) + lag / sample_rate_hz  # what was not found of the clock turns about that moment
    found = Estimate(2.0**octave, smooth, deviation, drawn, 1, None, lag, network, hurt_hz=hurt)
    return lag, ppm, found, noise_db, told_s


def unheard_tones(recording_v: FloatArray, tones: list[slice], lag: int, ppm: float) -> list[int]:
    """Tones in whose place one value stands over and over: these are not infinitely soft, but unknown."""
    def silent(tone: slice) -> bool:
        steady = _steady(tone)
        start, stop = (max(round((at + lag) * (1 + 1e-6 * ppm)), 0) for at in (steady.start, steady.stop))
        return not np.ptp(recording_v[start:stop])

    return [i for i, tone in enumerate(tones) if silent(tone)]


def _filled_in(
    frequency_hz: FloatArray, gain: ComplexArray, spread: FloatArray, time_s: FloatArray, wanted_hz: FloatArray,
    draws: int,
) -> tuple[ComplexArray, ComplexArray, FittedNetwork | None]:
    """(gain (n,), as it might as well be (draws, n)) at wanted_hz (n,), from the tones: by the network that they tell
    of, or by splines where no network fits; and that network where it leaves no more than the noise."""
    generator = np.random.default_rng(22)  # fixed: the same files give the same uncertainty
    pair = generator.standard_normal((2, draws, gain.size)) / np.sqrt(2)
    noise = (pair[0] + 1j * pair[1]) * spread
    later = (time_s - time_s.mean()) / np.ptp(time_s)  # what of the clocks' difference was not found yet
    fit = fit_rational(frequency_hz, gain, spread, later)
    if fit.left < FITS:
        turns = 2j * np.pi * frequency_hz / (2 * np.pi * fit.unit_hz)
        together = gain * np.exp(turns * fit.delay[1] * later)  # all by one clock
        network = network_of(frequency_hz, together, np.ones(gain.size), spread**2, generator, draws)
        if network is not None:
            return (network.fit.at(wanted_hz), np.stack([one.at(wanted_hz) for one in network.drawn]), network)
        there = fit.at(frequency_hz)
        doubt = max(fit.left, 1.0)
        again = [refit(frequency_hz, there + doubt * one, spread, later, fit.poles, fit.delay) for one in noise]
        return fit.at(wanted_hz), np.stack([one.at(wanted_hz) for one in again]), None
    at, octave = np.log2(frequency_hz), np.log2(wanted_hz)
    # Every other tone foretells the ones between; with all of them the spline is off by a sixteenth of that.
    missed = np.abs(_between(at[::2], gain[::2], at) - gain) / 16
    wider = np.hypot(spread, np.maximum(missed, np.roll(missed, 1))) / spread
    return _between(at, gain, octave), np.stack([_between(at, one, octave) for one in gain + noise * wider]), None


def _lag(stimulus_v: FloatArray, record: FloatArray) -> int:
    size = next_fast_len(stimulus_v.size + record.size)
    spectrum = rfft(record, size)  # of a minute: one array after the other, each in the place of the one before
    spectrum *= np.conj(rfft(stimulus_v, size))
    correlation = irfft(spectrum, size)
    del spectrum
    np.abs(correlation, out=correlation)
    place = int(np.argmax(correlation))
    highest = correlation[place]
    if not highest > 20 * np.median(correlation, overwrite_input=True):
        raise MeasurementError("The tones are not to be found in the recording; check that the files belong together.")
    return place if place < record.size else place - size


def _steady(tone: slice) -> slice:
    length = tone.stop - tone.start
    return slice(tone.start + int(SETTLING * length), tone.stop - length // 12)


def _pitch(record: FloatArray, sample_rate_hz: float, near_hz: float | None = None) -> Uncertain:
    """Frequency of a tone by a four-parameter sine fit (IEEE 1057), ± two standard deviations, Hz."""
    t = (np.arange(record.size) - record.size / 2) / sample_rate_hz
    if near_hz is None:
        size = next_fast_len(8 * record.size)
        near_hz = float(np.argmax(np.abs(rfft(record * np.hanning(record.size), size)))) * sample_rate_hz / size
    omega, a, b = 2 * np.pi * near_hz, 0.0, 0.0
    for step in range(6):
        parts = [np.cos(omega * t), np.sin(omega * t), np.ones_like(t)]
        if step:
            parts.append(t * (b * parts[0] - a * parts[1]))
        design = np.stack(parts, axis=1)
        answer = np.linalg.lstsq(design, record, rcond=None)[0]
        a, b = float(answer[0]), float(answer[1])
        omega += float(answer[3]) if step else 0.0
    left = float(np.sqrt(np.mean((record - design @ answer) ** 2)))
    span_s = record.size / sample_rate_hz
    spread = np.sqrt(6 / record.size) * left / (np.pi * max(float(np.hypot(a, b)), 1e-15) * span_s)
    return Uncertain(omega / (2 * np.pi), COVERAGE * float(spread))


def _clock(
    record: FloatArray, tones: list[slice], played_hz: FloatArray, lag: int, sample_rate_hz: float
) -> Uncertain:
    """Recorder against player from the pitch of the loud tones: a fast recorder hears them flat."""
    levels = np.array([np.std(record[tone.start + lag : tone.stop + lag]) for tone in tones])
    loud = [i for i in np.argsort(-levels * played_hz)[:16] if levels[i] > LOUD * levels.max()]
    offsets, weights = [], []
    for i in loud:
        steady = _steady(tones[i])
        found = _pitch(record[steady.start + lag : steady.stop + lag], sample_rate_hz, float(played_hz[i]))
        offsets.append(1e6 * (played_hz[i] / found.value - 1))
        weights.append((found.value / max(found.uncertainty, 1e-12)) ** 2)
    total = float(np.sum(weights))
    return Uncertain(float(np.dot(offsets, weights)) / total, COVERAGE * 0.5e6 / float(np.sqrt(total)))


def _fitted(record: FloatArray, t: FloatArray, hertz: float) -> tuple[complex, float]:
    """(complex amplitude, RMS of what is left over): sine, cosine, offset and two harmonics by least squares."""
    angle = 2 * np.pi * hertz * t
    parts = [np.ones_like(t)]
    for harmonic in (1, 2, 3):
        parts += [np.cos(harmonic * angle), np.sin(harmonic * angle)]
    design = np.stack(parts, axis=1)
    answer = np.linalg.lstsq(design, record, rcond=None)[0]
    left = record - design @ answer
    return complex(answer[1], -answer[2]), float(np.sqrt(np.sum(left**2) / max(t.size - len(parts), 1)))


def _between(at: FloatArray, gain: ComplexArray, octave: FloatArray) -> ComplexArray:
    """Level in dB and unwound phase between the tones, by cubic splines over octaves."""
    level = CubicSpline(at, np.log(np.maximum(np.abs(gain), 1e-15)))(octave)
    phase = CubicSpline(at, np.unwrap(np.angle(gain)))(octave)
    return np.asarray(np.exp(level + 1j * phase))
