"""Gains of noise in windows about one frequency after the other, and what they leave of it.

In each a polynomial is fitted to the complex gain, weighted by the power of the stimulus; what it leaves over is the
noise."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import scipy

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.bin_groups import Spectrum
from jiyuu.measurement.network_fit import NetworkFit, evened
from jiyuu.measurement.noise_heard import Heard

if TYPE_CHECKING:
    from scipy.sparse import csr_array

HALF_WIDTH = 0.02  # of a fit window, re its frequency
FEWEST_BINS = 20
DEGREE = 4
ROUNDED, FAINTEST = 1e-9, 1e-30  # shares of what windows have in common, and of the noise
AT_ONCE = 128  # windows, of whose bins all slopes of a network are known together
LEAST_SHARE = 2e-6  # of a bin's gain: what clocks and interpolation leave


@dataclass(frozen=True, slots=True, eq=False)
class Window:
    """The bins from `first` on about one frequency: what was played there, x (m,), powers (m, DEGREE + 1) of their
    places, and the inverse of the normal equations (DEGREE + 1, DEGREE + 1), the gain being the first of what they
    solve; sharpness: its variance for unit noise."""

    hertz: float
    first: int
    x: ComplexArray
    powers: FloatArray
    normal: FloatArray

    @property
    def sharpness(self) -> float:
        return float(self.normal[0, 0])

    @property
    def weights(self) -> ComplexArray:
        """(m,) that make the gain of what came out."""
        return np.asarray((self.powers @ self.normal[0]) * np.conj(self.x))

    def solved(self, y: ComplexArray) -> ComplexArray:
        """(DEGREE + 1,) the polynomial of the gain by which y (m,) came out. Parts side by side: a product of real and
        complex would turn all that is real into complex first."""
        along = self.powers.T @ _parts(np.conj(self.x) * y)
        return np.ascontiguousarray(self.normal @ along).view(complex)[:, 0]

    def at_bins(self, polynomial: ComplexArray) -> ComplexArray:
        """(m,) what came out if the gain is that (DEGREE + 1,)."""
        return np.asarray(self.x * (self.powers @ _parts(polynomial)).view(complex)[:, 0])

    @classmethod
    def of(cls, bins_hz: FloatArray, stimulus: ComplexArray, hertz: float, independent: float) -> Window:
        step = bins_hz[1]
        half = max(HALF_WIDTH * hertz, FEWEST_BINS * step / independent / 2)
        first, last = max(int((hertz - half) / step), 1), min(int((hertz + half) / step) + 2, bins_hz.size)
        place, x = np.log2(bins_hz[first:last] / hertz), stimulus[first:last]
        powers = np.vander(place / np.abs(place).max(), DEGREE + 1, increasing=True)
        # What is played weighs the real powers: the normal equations are real.
        normal = np.asarray(np.linalg.inv((powers.T * (x.real**2 + x.imag**2)) @ powers), dtype=float)
        return cls(hertz, first, x, powers, normal)


@dataclass(frozen=True, slots=True, eq=False)
class Fit:
    """gain, its standard deviation, noise (mean square of a bin), coherence at one frequency."""

    gain: complex
    deviation: float
    noise: float
    coherence: float


def fit_in(window: Window, output: ComplexArray, independent: float, *, of: ComplexArray | None = None) -> Fit:
    """of: what came out, where output (m,) is what of it a network has not explained yet."""
    place = slice(window.first, window.first + window.x.size)
    y = output[place]
    answer = window.solved(y)
    left = _power(y - window.at_bins(answer))
    free = max(y.size * independent - DEGREE - 1, 1.0)
    noise = left * independent / free
    coherence = min(max(1 - left / max(_power(y if of is None else of[place]), 1e-300), 0.0), 1.0)
    deviation = float(np.sqrt(noise * window.sharpness / independent))
    return Fit(complex(answer[0]), deviation, noise / independent, coherence)


def spectrum_of(heard: Heard, fitted_hz: FloatArray, fits: list[Fit]) -> Spectrum:
    """Of all bins in the band, each as well known as the noise that fits (n,) about fitted_hz (n,) leave lets it be."""
    inside = (heard.bins_hz >= fitted_hz[0]) & (heard.bins_hz <= fitted_hz[-1])
    hertz, played = heard.bins_hz[inside], heard.stimulus[inside]
    power = np.abs(played) ** 2
    ratio = heard.output[inside] / np.where(power > 0, played, 1.0)
    variance = _noise(hertz, fitted_hz, fits) / np.maximum(power, 1e-12 * power.max())
    return Spectrum(hertz, ratio, power, variance + (LEAST_SHARE * np.abs(ratio)) ** 2)


def _noise(hertz: FloatArray, fitted_hz: FloatArray, fits: list[Fit]) -> FloatArray:
    """(m,) mean square in a bin at every hertz (m,)."""
    return np.asarray(np.exp(np.interp(hertz, fitted_hz, np.log([max(fit.noise, 1e-300) for fit in fits]))))


def less_network(network: NetworkFit, heard: Heard, windows: list[Window]) -> list[Fit]:
    """What the windows find of the gain that a network leaves."""
    reached = _reached(windows)
    model = np.zeros(heard.bins_hz.size, dtype=complex)
    model[reached] = network.at(heard.bins_hz[reached])
    left = heard.output - model * heard.stimulus
    return [fit_in(window, left, heard.independent, of=heard.output) for window in windows]


@dataclass(frozen=True, slots=True, eq=False)
class FoundInNoise:
    """gains (n, draws): what windows would find of gains with other noise; ways (draws, v): by how many standard
    deviations a network would have moved each way, what windows find of that taken out of gains; kept (n,): its mean
    square."""

    gains: ComplexArray
    ways: FloatArray
    kept: FloatArray


def _reached(windows: list[Window]) -> slice:
    """The bins that windows use: those about the ends of the band reach beyond it."""
    return slice(windows[0].first, windows[-1].first + windows[-1].x.size)


def found_in_noise(
    heard: Heard, windows: list[Window], fits: list[Fit], network: NetworkFit | None, draws: int,
    generator: np.random.Generator,
) -> FoundInNoise:
    """Both from the same noise of the bins: a network takes to itself what of it looks like a network, and windows
    about a resonance as sharp as they are wide give a part of that back only."""
    reached, fitted_hz = _reached(windows), np.array([window.hertz for window in windows])
    power = _noise(heard.bins_hz[reached], fitted_hz, fits) + (LEAST_SHARE * np.abs(heard.output[reached])) ** 2
    noise = _gains_of(windows)
    noise.data *= np.sqrt(np.maximum(power, FAINTEST * power.max()))[noise.indices]
    alike = (noise @ noise.conj().T).toarray()  # windows that overlap share the noise of the bins they both use
    del noise
    strength = np.sqrt(np.diag(alike).real)
    root = np.linalg.cholesky(alike / np.outer(strength, strength) + ROUNDED * np.eye(strength.size))
    parts = generator.standard_normal((2, strength.size, draws)) / np.sqrt(2)
    white = parts[0] + 1j * parts[1]
    in_windows = strength[:, np.newaxis] * (root @ white)
    if network is None:
        return FoundInNoise(in_windows, np.zeros((draws, 0)), np.zeros(fitted_hz.size))
    # Of a weighted sum of bins and of least squares through all of them the covariance is what the sum gives back.
    kept = np.concatenate([_covariance(windows[i : i + AT_ONCE], heard, network)
                           for i in range(0, len(windows), AT_ONCE)])
    told = scipy.linalg.solve_triangular(root, kept / strength[:, np.newaxis], lower=True)
    ways = _ways_along(told, white, generator)
    return FoundInNoise(np.asarray(in_windows - kept @ ways.T), evened(ways), np.sum(np.abs(kept) ** 2, axis=1))


def _covariance(windows: list[Window], heard: Heard, network: NetworkFit) -> ComplexArray:
    """(n, v) of what some windows find and the ways a network moves."""
    reached = _reached(windows)
    return np.asarray(_gains_of(windows) @ (network.slopes(heard.bins_hz[reached]) * heard.stimulus[reached]).T)


def _ways_along(told: ComplexArray, white: ComplexArray, generator: np.random.Generator) -> FloatArray:
    """(d, v) by how many standard deviations a network moves each way with white noise (n, d), E|z|² = 1; told (n, v):
    the covariance of both. What the noise does not tell of it is drawn."""
    share, turned = np.linalg.eigh(2 * (np.conj(told).T @ told).real)
    share = np.maximum(share, 0.0)
    along = 2 * (white.T @ np.conj(told)).real @ turned / np.sqrt(np.maximum(share, 1.0))
    rest = generator.standard_normal(along.shape) * np.sqrt(np.maximum(1 - share, 0.0))
    return np.asarray((along + rest) @ turned.T)


def _gains_of(windows: list[Window]) -> csr_array:
    """(n, bins that windows reach) what turns those of an output into the gains of the windows."""
    from scipy.sparse import csr_array

    ends = np.cumsum([0, *(window.x.size for window in windows)])
    columns = np.concatenate([window.first - windows[0].first + np.arange(window.x.size) for window in windows])
    return csr_array((np.concatenate([window.weights for window in windows]), columns, ends))


def _power(spectrum: ComplexArray) -> float:
    return float(np.vdot(spectrum, spectrum).real)


def _parts(values: ComplexArray) -> FloatArray:
    """(m, 2) real and imaginary."""
    return values.view(float).reshape(-1, 2)
