"""Complex gain on a fine logarithmic grid, smoothed by as much as the data allow.

At every frequency a polynomial of fourth degree is fitted to the complex gain over windows of rising width (Savitzky
and Golay 1964); the widest one that agrees with all narrower ones within their noise is taken (Lepski 1990). A sharp
resonance keeps its shape, a plain slope gets the noise of a third of an octave averaged out.
"""

from __future__ import annotations

import threading
from dataclasses import dataclass
from functools import lru_cache
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement import points_kernel
from jiyuu.measurement.bin_groups import Cut
from jiyuu.signals.running import running_least, running_mean
from jiyuu.signals.transforms import fft, ifft, next_fast_len, rfft
from jiyuu.stopping import checkpoint

POINTS_PER_OCTAVE = 192
WINDOWS = (1, 9, 17, 33, 65, 129)
DEGREE = 4
DRAWN, AT_ONCE = 128, 8  # rows of noise kept for drawing from; of one spectrum
HELD_BACK = 2  # windows that the one taken is narrower by than the widest that agrees
# Standard deviations of the narrower estimate. Rarely passed by noise alone: where noise decided, the narrow window
# would be taken just where its own noise is largest, and would promise too much.
AGREEMENT = 3.2


@dataclass(frozen=True, slots=True)
class Gate:
    """The window that cuts an impulse response out: so many samples before its peak and after it."""

    before: int
    after: int

    @property
    def window(self) -> FloatArray:
        """(before + after,) one in the middle, falling to nothing at both ends."""
        window = np.ones(self.before + self.after)
        rise, fall = self.before // 2, self.after // 3
        window[:rise] = np.sin(np.pi / 2 * np.arange(rise) / rise) ** 2
        window[-fall:] = np.cos(np.pi / 2 * (np.arange(fall) + 1) / fall) ** 2
        return window

    def cut(self, period: int, count: int, sample_rate_hz: float) -> Cut:
        """What it leaves of a ring, passages of `period` samples following one another."""
        fall, rise = self.after // 3, self.before // 2
        return Cut((self.after - fall) / sample_rate_hz, fall / sample_rate_hz, self.before / sample_rate_hz,
                   rise / sample_rate_hz, period / sample_rate_hz, count)


class Seen(Protocol):
    """A network whose transform behind a gate is known."""

    def as_cut(self, bins_hz: FloatArray, cut: Cut | None) -> ComplexArray:
        """(n,) gain at those bins."""


@dataclass(frozen=True, slots=True)
class FineGrid:
    """How the spectrum of a gated impulse response maps to POINTS_PER_OCTAVE from `first_hz` on."""

    first_hz: float
    count: int
    size: int  # length of the zero-padded transform
    sample_rate_hz: float
    gate: Gate

    @property
    def frequency_hz(self) -> FloatArray:
        return np.asarray(self.first_hz * 2 ** (np.arange(self.count) / POINTS_PER_OCTAVE))

    def sampled(self, impulse: FloatArray) -> ComplexArray:
        """(count,) spectrum of a gated impulse response, its peak at t = 0."""
        # t = 0 first, or the phase would turn within a point and the mean with it.
        turned = np.zeros(self.size)
        turned[: self.gate.after] = impulse[self.gate.before :]
        turned[self.size - self.gate.before :] = impulse[: self.gate.before]
        return at_points(rfft(turned), self.frequency_hz * self.size / self.sample_rate_hz)

    @property
    def bins_hz(self) -> FloatArray:
        """(m,) of the transform without padding, within the band."""
        size = self.gate.before + self.gate.after
        places = np.arange(size // 2 + 1) * (self.sample_rate_hz / size)
        last_hz = self.first_hz * 2 ** ((self.count - 1) / POINTS_PER_OCTAVE)
        return np.asarray(places[(places >= self.first_hz) & (places <= last_hz)])

    def bins(self, impulse: FloatArray) -> ComplexArray:
        """(m,) at bins_hz."""
        turned = np.concatenate([impulse[self.gate.before :], impulse[: self.gate.before]])
        first = int(np.ceil(self.first_hz * turned.size / self.sample_rate_hz))
        return np.asarray(rfft(turned)[first : first + self.bins_hz.size])

    def seen(self, network: Seen, cut: Cut) -> ComplexArray:
        """(count,) what `sampled` would give of a network, the gate laid on it."""
        step = self.sample_rate_hz / self.size
        first = max(int(self.first_hz / step * np.exp(-1 / POINTS_PER_OCTAVE)) - 8, 1)
        last = min(int(self.frequency_hz[-1] / step * np.exp(1 / POINTS_PER_OCTAVE)) + 16, self.size // 2)
        spectrum = np.zeros(self.size // 2 + 1, dtype=complex)
        spectrum[first:last] = network.as_cut(np.asarray(np.arange(first, last) * step), cut)
        return at_points(spectrum, self.frequency_hz / step)

    def unit_noise(self) -> UnitNoise:
        """What the gate leaves of white noise."""
        with _DRAWING:  # measured side by side, two recordings of one stimulus would both draw it
            return _unit_noise(self)


@dataclass(frozen=True, slots=True, eq=False)
class UnitNoise:
    """White noise of one unit a sample, gated and sampled as an impulse response is, many times over.

    smoothed: for each of WINDOWS that may be chosen (DRAWN, n) of it; power (n,): its mean square before any window;
    deviations: for each of WINDOWS (n,) its standard deviation."""

    smoothed: tuple[NDArray[np.complex64], ...]
    power: FloatArray
    deviations: tuple[FloatArray, ...]


def at_points(spectra: ComplexArray, places: FloatArray) -> ComplexArray:
    """Means of spectra (…, bins) over the width of each point: places (n,) in bins, POINTS_PER_OCTAVE to the octave."""
    bins = spectra.shape[-1]
    found = _means(np.ascontiguousarray(spectra, dtype=complex).ravel(), bins, spectra.size // bins, bins, places)
    return found.reshape(*spectra.shape[:-1], places.size)


def _means(spectra: ComplexArray, shift: int, count: int, bins: int, places: FloatArray) -> ComplexArray:
    """As points_kernel has them."""
    width = np.log(2) / POINTS_PER_OCTAVE
    edges = np.append(places * np.exp(-width / 2), places[-1] * np.exp(width / 2))
    return points_kernel.means(spectra, shift, count, bins, edges, np.asarray(places, dtype=float), float(width))


_DRAWING = threading.Lock()


@lru_cache(maxsize=4)  # some 13 MB each; a walk has three
def _unit_noise(grid: FineGrid) -> UnitNoise:
    window, places = grid.gate.window, grid.frequency_hz * grid.size / grid.sample_rate_hz
    size = 1 << int(np.ceil(np.log2(window.size)))
    # High up a point spans many bins, so that a transform without padding gives the same means; low down the padding
    # is needed, but not the rate: white noise taken at a fraction of it is the same noise there.
    split = int(np.searchsorted(places * size / grid.size, 8 * POINTS_PER_OCTAVE / np.log(2)))
    fraction = 1
    while split < grid.count and fraction < 64 and places[split] * 5 * fraction < grid.size:
        fraction *= 2
    few = Gate(grid.gate.before // fraction, grid.gate.after // fraction)
    thin = window[fraction // 2 :: fraction][: few.before + few.after]

    generator = np.random.default_rng(20)  # fixed: the same files give the same uncertainty
    rows = []
    for _ in range(DRAWN // AT_ONCE):
        checkpoint()
        high = _drawn(generator, window, grid.gate, size, places[split:] * size / grid.size)
        low = _drawn(generator, thin, few, grid.size // fraction, places[:split])
        rows.append(np.concatenate([fraction**0.5 * low, high], axis=1))
    field = np.concatenate(rows)
    smooth, deviations = [], []
    # So few rows scatter a little too much at one point and too little at another, always the same ones: what is read
    # at one of them would promise that much too little. Near the ends a one-sided fit changes it indeed.
    from_end = (WINDOWS[-1] + POINTS_PER_OCTAVE) // 2
    inner = slice(from_end, max(grid.count - from_end, 0))
    for width in WINDOWS:
        values = np.array(smoothed(field, width), dtype=np.complex64)
        scatter = np.sqrt(np.mean(np.abs(values) ** 2, axis=0))
        deviation = _evened(scatter, 49)
        deviation[inner] = _evened(scatter, POINTS_PER_OCTAVE)[inner]
        deviations.append(deviation)
        if width <= WINDOWS[-1 - HELD_BACK]:
            values[:, inner] *= (deviation / scatter)[inner]
            values.setflags(write=False)
            smooth.append(values)
    power = _evened(np.mean(np.abs(field) ** 2, axis=0), POINTS_PER_OCTAVE // 2)
    return UnitNoise(tuple(smooth), power, tuple(deviations))


def _evened(values: FloatArray, width: int) -> FloatArray:
    return np.asarray(running_mean(values, width, "edge"))


@dataclass(frozen=True, slots=True, eq=False)
class NoiseLike:
    """Noise as strong as one that was found, shared between points as the gate makes them share it.

    strength (n,): volts a sample; deviations: for each of WINDOWS (n,) what of it is left."""

    unit: UnitNoise
    strength: FloatArray
    deviations: list[FloatArray]

    @classmethod
    def of(cls, noise: ComplexArray, grid: FineGrid) -> NoiseLike:
        """noise (n,): one sample of it; its strength is read over half an octave around each point."""
        unit = grid.unit_noise()
        power = _evened(np.abs(noise) ** 2, POINTS_PER_OCTAVE // 2)
        strength = np.sqrt(np.maximum(power, 1e-30) / unit.power)
        return cls(unit, strength, [strength * deviation for deviation in unit.deviations])

    def drawn(
        self, chosen: NDArray[np.int64], draws: int, generator: np.random.Generator
    ) -> tuple[ComplexArray, ComplexArray]:
        """(draws, n) of it, each point left by its chosen window; and as it was before any. Strength moves so slowly
        that it may be laid on after the window."""
        rows = generator.choice(DRAWN, draws, replace=False)
        # Turned by any angle, noise is as good; so the draws of two measurements differ although the field does not.
        turn = np.exp(2j * np.pi * generator.random((draws, 1)))
        left = np.empty((draws, chosen.size), dtype=complex)
        for window, values in enumerate(self.unit.smoothed):
            places = chosen == window
            left[:, places] = values[np.ix_(rows, places)]
        turned = turn * self.strength
        return np.asarray(left * turned), np.asarray(self.unit.smoothed[0][rows] * turned)


def _drawn(
    generator: np.random.Generator, window: FloatArray, gate: Gate, size: int, places: FloatArray
) -> ComplexArray:
    """(AT_ONCE, n) of one spectrum: gated white noise is the same wherever one looks, so each row looks an eighth of
    it higher, which is more than a smoothed point is wide."""
    if not places.size:
        return np.zeros((AT_ONCE, 0), dtype=np.complex64)
    parts = generator.standard_normal((window.size, 2), dtype=np.float32) * np.sqrt(0.5, dtype=np.float32)
    noise = parts.view(np.complex64)[:, 0] * window.astype(np.float32)
    turned = np.zeros(size, dtype=np.complex64)
    turned[: gate.after] = noise[gate.before :]
    turned[size - gate.before :] = noise[: gate.before]
    shift = size // AT_ONCE
    spectrum = np.tile(fft(turned), 2).astype(complex)
    bins = min(int(places[-1] * np.exp(1 / POINTS_PER_OCTAVE)) + 8, size)
    return _means(spectrum, shift, AT_ONCE, bins, places).astype(np.complex64)


def smoothed(values: ComplexArray, window: int) -> ComplexArray:
    """The last axis fitted locally over `window` points; the ends are fitted one-sidedly."""
    if window == 1:
        return values
    size = next_fast_len(values.shape[-1] + window, real=False)
    return _fitted_along(values, fft(values, size, axis=-1), window)


def smoothed_as_chosen(values: ComplexArray, chosen: NDArray[np.int64]) -> ComplexArray:
    """(rows, n) each point fitted over its chosen window (n,)."""
    spectrum = fft(values, next_fast_len(values.shape[-1] + WINDOWS[-1], real=False), axis=-1)
    result = np.empty_like(values)
    for which in np.unique(chosen):
        places = chosen == which
        fitted = values if WINDOWS[which] == 1 else _fitted_along(values, spectrum, WINDOWS[which])
        result[:, places] = fitted[:, places]
    return result


def _fitted_along(values: ComplexArray, spectrum: ComplexArray, window: int) -> ComplexArray:
    """Of values (…, n) that have this spectrum (…, size), size ≥ n + window."""
    checkpoint()
    half, length = window // 2, values.shape[-1]
    centre, onto = _fitted_over(window, spectrum.shape[-1])
    result = ifft(spectrum * centre, axis=-1)[..., half : half + length]
    result[..., :half] = values[..., :window] @ onto[:half].T
    result[..., -half:] = values[..., -window:] @ onto[-half:].T
    return np.asarray(result)


@lru_cache(maxsize=32)
def _fitted_over(window: int, size: int) -> tuple[ComplexArray, FloatArray]:
    """What a fit over a window weighs its points by: for the middle as a spectrum (size,); for all (window, window)."""
    basis = np.vander(np.linspace(-1, 1, window), DEGREE + 1)
    onto = np.asarray(basis @ np.linalg.pinv(basis))
    return fft(onto[window // 2], size), onto


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
    level = running_least(chosen, 9)
    # The widest that agrees leans by about as much as its noise; the second narrower one's lean is far below it, and
    # the draws then tell nearly all there is to tell.
    return np.asarray(np.maximum(level - HELD_BACK, 0))


def bias_of(
    estimates: list[ComplexArray], chosen: NDArray[np.int64], deviations: list[FloatArray]
) -> FloatArray:
    """(n,) how far the chosen window may lean: what it differs from the next narrower one beyond their noise, RMS
    over the neighbourhood. Without it the stated uncertainty would be that of the noise alone."""
    narrower = np.maximum(chosen - 1, 0)
    gap = np.abs(pick(estimates, chosen) - pick(estimates, narrower)) ** 2
    noise = np.choose(narrower, deviations) ** 2 - np.choose(chosen, deviations) ** 2
    excess = running_mean(gap - noise, 33, "edge")
    return np.asarray(np.sqrt(np.maximum(excess, 0.0)))


def pick(by_window: list[ComplexArray], chosen: NDArray[np.int64]) -> ComplexArray:
    """For every point the estimate of its chosen window; arrays (…, n)."""
    return np.asarray(np.choose(chosen, by_window))
