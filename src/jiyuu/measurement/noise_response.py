"""Frequency response from noise: cross-spectrum over auto-spectrum, with the coherence (Bendat and Piersol 2010, Random
Data).

The stimulus stands between silences, so that the recording holds the whole of what the filter made of it and the
ratio of the spectra has no leakage. Around every frequency a polynomial is fitted to the complex gain, weighted by the
power of the stimulus; what it leaves over is the noise.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.alignment import Passages
from jiyuu.measurement.estimate import Estimate, network_of
from jiyuu.measurement.made_ready import Ready
from jiyuu.measurement.smoothing import POINTS_PER_OCTAVE
from jiyuu.stopping import checkpoint

HALF_WIDTH = 0.02  # of a fit window, re its frequency
FEWEST_BINS = 20
DEGREE = 4
FITTED_EVERY = 2  # points of the grid
LEAST_SHARE = 2e-6  # of a bin's gain: what clocks and interpolation leave
RING_S = 0.3  # how long a filter may ring after the stimulus


def estimate_by_noise(
    ready: Ready, passages: Passages, *, band_hz: tuple[float, float], sample_rate_hz: float,
    draws: int,
) -> Estimate:
    """From the sound passages of a recording.

    Raises MeasurementError when no passage is wholly in the recording."""
    record, place = ready.record_v, ready.place
    length = passages.passage_v.size
    room = passages.period - length if passages.period else record.size - place - length
    lead = min(round(0.01 * sample_rate_hz), place + ready.sound[0] * passages.period)
    tail = min(max(room - lead, 0), round(RING_S * sample_rate_hz))
    size = 1 << int(np.ceil(np.log2(length + lead + tail)))
    stimulus = np.fft.rfft(passages.passage_v, size)
    spectra = []
    for i in ready.sound:
        checkpoint()
        begin = place + i * passages.period - lead
        piece = record[begin : begin + lead + length + tail]
        if piece.size >= lead + length:
            spectra.append(np.fft.rfft(piece, size))
    if not spectra:
        raise MeasurementError("The recording ends before the stimulus does; record until a second after it has ended.")
    bins_hz: FloatArray = np.asarray(np.fft.rfftfreq(size, 1 / sample_rate_hz), dtype=np.float64)
    output = np.mean(spectra, axis=0) * np.exp(2j * np.pi * bins_hz * lead / sample_rate_hz)
    independent = (lead + length + tail) / size  # padding makes neighbouring bins share what they know of the noise
    count = int(np.floor(np.log2(band_hz[1] / band_hz[0]) * POINTS_PER_OCTAVE)) + 1
    grid_hz = band_hz[0] * 2 ** (np.arange(count) / POINTS_PER_OCTAVE)
    fitted_hz = grid_hz[::FITTED_EVERY]
    windows = [_Window.of(bins_hz, stimulus, float(hertz), independent) for hertz in fitted_hz]
    fits = [_fit(window, output, independent) for window in windows]
    generator = np.random.default_rng(21)  # fixed: the same files give the same uncertainty
    inside = (bins_hz >= grid_hz[0]) & (bins_hz <= grid_hz[-1])
    power = np.abs(stimulus[inside]) ** 2
    noise = np.exp(np.interp(bins_hz[inside], fitted_hz, np.log([max(fit.noise, 1e-300) for fit in fits])))
    ratio = output[inside] / np.where(power > 0, stimulus[inside], 1.0)
    variance = noise / np.maximum(power, 1e-12 * power.max()) + (LEAST_SHARE * np.abs(ratio)) ** 2
    network = network_of(bins_hz[inside], ratio, power, variance, generator, draws)
    octave, fitted = np.log2(grid_hz), np.log2(fitted_hz)
    expected = np.zeros(grid_hz.size, dtype=complex)
    if network is not None:
        # Less what the network explains there is no resonance left that is sharper than a window.
        coherences = [fit.coherence for fit in fits]
        # Windows about the ends of the band reach beyond it.
        reached = slice(windows[0].first, windows[-1].first + windows[-1].x.size)
        model = np.zeros(bins_hz.size, dtype=complex)
        model[reached] = network.fit.at(bins_hz[reached])
        left = output - model * stimulus
        fits = [replace(_fit(window, left, independent), coherence=own)
                for window, own in zip(windows, coherences, strict=True)]
        expected = network.fit.at(grid_hz)
    gain, deviation = np.array([fit.gain for fit in fits]), np.array([fit.deviation for fit in fits])
    coherence = np.array([fit.coherence for fit in fits])
    from scipy.interpolate import CubicSpline

    smooth = np.asarray(CubicSpline(fitted, gain)(octave)) + expected
    spread = np.interp(octave, fitted, deviation)
    white = generator.standard_normal((2, fitted.size, draws)) / np.sqrt(2)
    drawn = (_shared(fits) @ (white[0] + 1j * white[1])) * deviation[:, np.newaxis]
    draws_of_gain = smooth + np.asarray(CubicSpline(fitted, drawn)(octave)).T
    shared = np.interp(octave, fitted, coherence)
    return Estimate(grid_hz, smooth, spread, draws_of_gain, len(spectra), shared, place, network)


@dataclass(frozen=True, slots=True, eq=False)
class _Window:
    """The bins from `first` on about one frequency: what was played there, x (m,), powers (m, DEGREE + 1) of their
    places, and the matrix whose first row makes the gain of what came out; sharpness: its variance for unit noise."""

    first: int
    x: ComplexArray
    powers: FloatArray
    solving: ComplexArray
    sharpness: float

    @classmethod
    def of(cls, bins_hz: FloatArray, stimulus: ComplexArray, hertz: float, independent: float) -> _Window:
        step = bins_hz[1]
        half = max(HALF_WIDTH * hertz, FEWEST_BINS * step / independent / 2)
        first, last = max(int((hertz - half) / step), 1), min(int((hertz + half) / step) + 2, bins_hz.size)
        place, x = np.log2(bins_hz[first:last] / hertz), stimulus[first:last]
        powers = np.vander(place / np.abs(place).max(), DEGREE + 1, increasing=True)
        # What is played weighs the real powers: the normal equations are real.
        normal = np.linalg.inv((powers.T * (x.real**2 + x.imag**2)) @ powers)
        return cls(first, x, powers, np.asarray((normal @ powers.T) * np.conj(x)), float(normal[0, 0]))


@dataclass(frozen=True, slots=True, eq=False)
class _Fit:
    """gain, its standard deviation, noise (mean square of a bin), coherence at one frequency; weights (m,) of the
    bins from `first` on, of which the gain is the sum."""

    gain: complex
    deviation: float
    noise: float
    coherence: float
    first: int
    weights: ComplexArray


def _fit(window: _Window, output: ComplexArray, independent: float) -> _Fit:
    y = output[window.first : window.first + window.x.size]
    answer = window.solving @ y
    left = _power(y - window.x * (window.powers @ answer))
    free = max(y.size * independent - DEGREE - 1, 1.0)
    noise = left * independent / free
    coherence = min(max(1 - left / max(_power(y), 1e-300), 0.0), 1.0)
    deviation = float(np.sqrt(noise * window.sharpness / independent))
    return _Fit(complex(answer[0]), deviation, noise / independent, coherence, window.first, window.solving[0])


def _power(spectrum: ComplexArray) -> float:
    return float(np.vdot(spectrum, spectrum).real)


def _shared(fits: list[_Fit]) -> ComplexArray:
    """(n, n) lower triangle that turns white noise into that of the fits, each of unit strength: fits whose windows
    overlap share the noise of the bins they both use."""
    from scipy.sparse import csr_array

    ends = np.cumsum([0, *(fit.weights.size for fit in fits)])
    columns = np.concatenate([fit.first + np.arange(fit.weights.size) for fit in fits])
    values = np.concatenate([fit.weights / np.linalg.norm(fit.weights) for fit in fits])
    rows = csr_array((values, columns, ends))
    alike = (rows @ rows.conj().T).toarray()
    return np.asarray(np.linalg.cholesky(alike + 1e-9 * np.eye(len(fits))))
