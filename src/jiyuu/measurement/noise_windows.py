"""Gains of noise in windows about one frequency after the other, and what they leave of it.

In each a polynomial is fitted to the complex gain, weighted by the power of the stimulus; what it leaves over is the
noise."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.bin_groups import Spectrum
from jiyuu.measurement.network_fit import NetworkFit
from jiyuu.measurement.noise_heard import Heard

HALF_WIDTH = 0.02  # of a fit window, re its frequency
FEWEST_BINS = 20
DEGREE = 4
LEAST_SHARE = 2e-6  # of a bin's gain: what clocks and interpolation leave


@dataclass(frozen=True, slots=True, eq=False)
class Window:
    """The bins from `first` on about one frequency: what was played there, x (m,), powers (m, DEGREE + 1) of their
    places, and the matrix whose first row makes the gain of what came out; sharpness: its variance for unit noise."""

    hertz: float
    first: int
    x: ComplexArray
    powers: FloatArray
    solving: ComplexArray
    sharpness: float

    @classmethod
    def of(cls, bins_hz: FloatArray, stimulus: ComplexArray, hertz: float, independent: float) -> Window:
        step = bins_hz[1]
        half = max(HALF_WIDTH * hertz, FEWEST_BINS * step / independent / 2)
        first, last = max(int((hertz - half) / step), 1), min(int((hertz + half) / step) + 2, bins_hz.size)
        place, x = np.log2(bins_hz[first:last] / hertz), stimulus[first:last]
        powers = np.vander(place / np.abs(place).max(), DEGREE + 1, increasing=True)
        # What is played weighs the real powers: the normal equations are real.
        normal = np.linalg.inv((powers.T * (x.real**2 + x.imag**2)) @ powers)
        return cls(hertz, first, x, powers, np.asarray((normal @ powers.T) * np.conj(x)), float(normal[0, 0]))


@dataclass(frozen=True, slots=True, eq=False)
class Fit:
    """gain, its standard deviation, noise (mean square of a bin), coherence at one frequency; weights (m,) of the
    bins from `first` on, of which the gain is the sum."""

    gain: complex
    deviation: float
    noise: float
    coherence: float
    first: int
    weights: ComplexArray


def fit_in(window: Window, output: ComplexArray, independent: float, *, of: ComplexArray | None = None) -> Fit:
    """of: what came out, where output (m,) is what of it a network has not explained yet."""
    place = slice(window.first, window.first + window.x.size)
    y = output[place]
    answer = window.solving @ y
    left = _power(y - window.x * (window.powers @ answer))
    free = max(y.size * independent - DEGREE - 1, 1.0)
    noise = left * independent / free
    coherence = min(max(1 - left / max(_power(y if of is None else of[place]), 1e-300), 0.0), 1.0)
    deviation = float(np.sqrt(noise * window.sharpness / independent))
    return Fit(complex(answer[0]), deviation, noise / independent, coherence, window.first, window.solving[0])


def spectrum_of(heard: Heard, fitted_hz: FloatArray, fits: list[Fit]) -> Spectrum:
    """Of all bins in the band, each as well known as the noise that fits (n,) about fitted_hz (n,) leave lets it be."""
    inside = (heard.bins_hz >= fitted_hz[0]) & (heard.bins_hz <= fitted_hz[-1])
    hertz, played = heard.bins_hz[inside], heard.stimulus[inside]
    power = np.abs(played) ** 2
    noise = np.exp(np.interp(hertz, fitted_hz, np.log([max(fit.noise, 1e-300) for fit in fits])))
    ratio = heard.output[inside] / np.where(power > 0, played, 1.0)
    variance = noise / np.maximum(power, 1e-12 * power.max()) + (LEAST_SHARE * np.abs(ratio)) ** 2
    return Spectrum(hertz, ratio, power, variance)


def less_network(network: NetworkFit, heard: Heard, windows: list[Window]) -> list[Fit]:
    """What the windows find of the gain that a network leaves."""
    reached = _reached(windows)
    model = np.zeros(heard.bins_hz.size, dtype=complex)
    model[reached] = network.at(heard.bins_hz[reached])
    left = heard.output - model * heard.stimulus
    return [fit_in(window, left, heard.independent, of=heard.output) for window in windows]


def _reached(windows: list[Window]) -> slice:
    """The bins that windows use: those about the ends of the band reach beyond it."""
    return slice(windows[0].first, windows[-1].first + windows[-1].x.size)


def told_by_bins(spectrum: Spectrum, hertz: FloatArray) -> FloatArray:
    """(n,) the variance that a gain at every hertz (n,) would have if it were known by the bins nearest to it alone."""
    edges = np.sqrt(np.concatenate([hertz[:1], hertz]) * np.concatenate([hertz, hertz[-1:]]))
    step = float(spectrum.bins_hz[1] - spectrum.bins_hz[0])
    told = np.concatenate([[0.0], np.cumsum(1 / spectrum.variance)])
    below = np.interp(edges, np.append(spectrum.bins_hz - 0.5 * step, spectrum.bins_hz[-1] + 0.5 * step), told)
    return np.asarray(1 / np.maximum(np.diff(below), 1e-12 * told[-1]))


def lost_between(network: NetworkFit, windows: list[Window], bins_hz: FloatArray) -> ComplexArray:
    """(n, v) what the windows do not give back of a network that moves by a standard deviation each way: about a
    resonance as sharp as they are wide a good part of it."""
    reached = _reached(windows)
    slopes = network.slopes(bins_hz[reached])
    kept = np.stack([slopes[:, w.first - reached.start : w.first - reached.start + w.x.size] @ (w.solving[0] * w.x)
                     for w in windows])
    centres = np.array([w.hertz for w in windows])
    return np.asarray(network.slopes(centres).T - kept)


def _power(spectrum: ComplexArray) -> float:
    return float(np.vdot(spectrum, spectrum).real)


def shared_noise(fits: list[Fit]) -> ComplexArray:
    """(n, n) lower triangle that turns white noise into that of the fits, each of unit strength: fits whose windows
    overlap share the noise of the bins they both use."""
    from scipy.sparse import csr_array

    ends = np.cumsum([0, *(fit.weights.size for fit in fits)])
    columns = np.concatenate([fit.first + np.arange(fit.weights.size) for fit in fits])
    values = np.concatenate([fit.weights / np.linalg.norm(fit.weights) for fit in fits])
    rows = csr_array((values, columns, ends))
    alike = (rows @ rows.conj().T).toarray()
    return np.asarray(np.linalg.cholesky(alike + 1e-9 * np.eye(len(fits))))
