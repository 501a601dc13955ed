"""Complex gain on a fine logarithmic grid, smoothed by as much as the data allow.

At every frequency a polynomial of fourth degree is fitted to the complex gain over windows of rising width (Savitzky
and Golay 1964); the widest one that agrees with all narrower ones within their noise is taken (Lepski 1990). A sharp
resonance keeps its shape, a plain slope gets the noise of a third of an octave averaged out.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import minimum_filter1d, uniform_filter1d
from scipy.signal import savgol_coeffs

from jiyuu.circuits.linear import ComplexArray
from jiyuu.circuits.network import FloatArray

POINTS_PER_OCTAVE = 192
WINDOWS = (1, 9, 17, 33, 65, 129)
DEGREE = 4
AGREEMENT = 2.2  # standard deviations of the narrower estimate


@dataclass(frozen=True, slots=True, eq=False)
class FineGrid:
    """How bins of a gated spectrum map to POINTS_PER_OCTAVE: frequency_hz (n,), and the noise model of each point."""

    frequency_hz: FloatArray
    size: int  # length of the zero-padded transform
    sample_rate_hz: float
    gate_s: float

    def sampled(self, impulse: FloatArray, before: int) -> ComplexArray:
        """Spectrum of a gated impulse response whose t = 0 stands at index `before`: means over the bins of each
        point's width, interpolated where the points stand closer than the bins."""
        # t = 0 first, or the phase would turn within a point and the mean with it.
        turned = np.zeros(self.size)
        turned[: impulse.size - before] = impulse[before:]
        turned[self.size - before :] = impulse[:before]
        spectrum = np.fft.rfft(turned)
        edges = self._edges()
        bins = np.arange(spectrum.size)
        # Whole bins would move a point's centre by up to half a bin; shares of bins at both edges keep it.
        total = np.concatenate([[0], np.cumsum(spectrum)])
        borders = np.arange(total.size) - 0.5
        at_edges = np.interp(edges, borders, total.real) + 1j * np.interp(edges, borders, total.imag)
        count = np.diff(edges)
        mean = np.diff(at_edges) / count
        position = self.frequency_hz * self.size / self.sample_rate_hz
        sparse = count < 4
        mean[sparse] = np.interp(position[sparse], bins, spectrum.real) + 1j * np.interp(
            position[sparse], bins, spectrum.imag
        )
        # A mean over a point's width flattens a sharp peak: take the curvature out again.
        corrected = mean.copy()
        corrected[1:-1] -= (mean[2:] - 2 * mean[1:-1] + mean[:-2]) / 24
        return np.where(sparse, mean, corrected)

    def _edges(self) -> FloatArray:
        half = 2 ** (0.5 / POINTS_PER_OCTAVE)
        edges = np.append(self.frequency_hz / half, self.frequency_hz[-1] * half)
        return np.minimum(edges * self.size / self.sample_rate_hz, self.size // 2)

    def independent_bins(self) -> FloatArray:
        """(n,) how many independent values of the gated spectrum fall into each point; below 1 points share one."""
        return np.asarray(self.frequency_hz * np.log(2) / POINTS_PER_OCTAVE * self.gate_s)

    def draw_noise(self, deviation: FloatArray, draws: int, generator: np.random.Generator) -> ComplexArray:
        """(draws, n) complex noise with the standard deviation (n,) per independent bin and the grid's correlation."""

        def white(*shape: int) -> ComplexArray:
            pair = generator.standard_normal((2, *shape)) / np.sqrt(2)
            return np.asarray(pair[0] + 1j * pair[1])

        own = self.independent_bins()
        drawn = white(draws, self.frequency_hz.size) / np.sqrt(np.maximum(own, 1.0))
        low = own < 1
        if low.any():
            place = self.frequency_hz[low] * self.gate_s
            bins = np.arange(int(place.max()) + 12)
            drawn[:, low] = white(draws, bins.size) @ np.sinc(place[np.newaxis, :] - bins[:, np.newaxis])
        return np.asarray(drawn * deviation)


def smoothed(values: ComplexArray, window: int) -> ComplexArray:
    """The last axis fitted locally over `window` points; the ends are fitted one-sidedly."""
    if window == 1:
        return values
    half = window // 2
    centre = savgol_coeffs(window, DEGREE)
    length = values.shape[-1]
    padded_size = length + window
    spectrum = np.fft.fft(values, padded_size, axis=-1) * np.fft.fft(centre, padded_size)
    result = np.fft.ifft(spectrum, axis=-1)[..., half : half + length]
    t = np.linspace(-1, 1, window)
    basis = np.vander(t, DEGREE + 1)
    onto = basis @ np.linalg.pinv(basis)
    result[..., :half] = values[..., :window] @ onto[:half].T
    result[..., -half:] = values[..., -window:] @ onto[-half:].T
    return np.asarray(result)


def chosen_windows(estimates: list[ComplexArray], deviations: list[FloatArray]) -> NDArray[np.int64]:
    """(…, n) index into WINDOWS of the widest window that agrees with every narrower one.

    estimates: for each window the smoothed values (…, n); deviations: for each the noise it leaves (n,)."""
    chosen = np.zeros(estimates[0].shape, dtype=np.int64)
    alive = np.ones(chosen.shape, dtype=bool)
    for wide in range(1, len(WINDOWS)):
        for narrow in range(wide):
            gap = np.abs(estimates[wide] - estimates[narrow])
            alive &= gap <= AGREEMENT * deviations[narrow]
        chosen[alive] = wide
    # One window for a neighbourhood: a single lucky point in a sharp peak must not be smoothed away.
    level = minimum_filter1d(chosen, 9, axis=-1, mode="nearest")
    # The widest that agrees leans by about as much as its noise; the next narrower one's lean is far below it.
    return np.asarray(np.maximum(level - 1, 0))


def bias_of(
    estimates: list[ComplexArray], chosen: NDArray[np.int64], deviations: list[FloatArray]
) -> FloatArray:
    """(n,) how far the chosen window may lean: what it differs from the next narrower one beyond their noise, RMS
    over the neighbourhood. Without it the stated uncertainty would be that of the noise alone."""
    narrower = np.maximum(chosen - 1, 0)
    gap = np.abs(pick(estimates, chosen) - pick(estimates, narrower)) ** 2
    noise = np.choose(narrower, deviations) ** 2 - np.choose(chosen, deviations) ** 2
    excess = uniform_filter1d(gap - noise, 33, mode="nearest")
    return np.asarray(np.sqrt(np.maximum(excess, 0.0)))


def pick(by_window: list[ComplexArray], chosen: NDArray[np.int64]) -> ComplexArray:
    """For every point the estimate of its chosen window; arrays (…, n)."""
    return np.asarray(np.choose(chosen, by_window))
