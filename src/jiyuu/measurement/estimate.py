"""A gain as estimated from a recording, whatever was played, and the network behind it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.bin_groups import Cut, Spectrum
from jiyuu.measurement.network_fit import DrawnNetwork, NetworkFit
from jiyuu.measurement.network_search import fit_network, settled_anew
from jiyuu.measurement.rational_fit import PolesAndZeros
from jiyuu.measurement.smoothing import FineGrid
from jiyuu.measurement.uncertain import Uncertain

LOUD_DB = 12.0  # under the top of a curve: what a soft stage may have compressed
LEAVES = 1.5  # of the noise's own deviation: a network that leaves more is not the whole truth
# What gate, interpolation and clock leave, found on noiseless records: shares of the gain, the first of all of it, the
# second at LOW_HZ and less above; and of the loudest gain.
SHARE, LOW_SHARE, LOUDEST_SHARE = 1e-6, 5e-5, 2e-7
LEFT_LOW = 1e-6  # what stays of LOW_SHARE once the network has been sent through the same
LOW_HZ = 15.0
ROUGH_SHARE = 0.03


@dataclass(frozen=True, slots=True, eq=False)
class FittedNetwork:
    """The network that leaves no more of a curve than its noise would; and as it might as well be, once a draw."""

    fit: NetworkFit
    drawn: list[DrawnNetwork]


@dataclass(frozen=True, slots=True, eq=False)
class Estimate:
    """A gain as measured, delay and sign still in it: frequency_hz, gain, deviation (n,), draws (m, n); the passages it
    was found from; coherence (n,), None where it was not found from noise; the sample at which the first passage was
    taken to begin; the network, None where none explains the curve."""

    frequency_hz: FloatArray
    gain: ComplexArray
    deviation: FloatArray
    draws: ComplexArray
    passages: int
    coherence: FloatArray | None
    place: int = 0
    network: FittedNetwork | None = None
    clock_ppm: Uncertain | None = None  # found from a single passage, on top of turned_ppm
    turned_ppm: float = 0.0  # what the record was brought to the player's clock by before
    hurt_hz: tuple[tuple[float, float], ...] = ()
    unloaded: NetworkFit | None = None  # fitted without the loudest part


def fitted_network(
    signal: ComplexArray, wire: ComplexArray, noise: ComplexArray, grid: FineGrid, cut: Cut,
    generator: np.random.Generator, draws: int, hurt_hz: tuple[tuple[float, float], ...] = (),
    sounds_s: FloatArray | None = None, like: NetworkFit | None = None,
) -> FittedNetwork | None:
    """From the bins (m,) of a gated impulse response, of a wire's, and of noise as strong as it has. hurt_hz: bands
    that are left out; sounds_s (m,): when each bin sounded, where the clock is to be found by it; like: as in
    fit_network."""
    fit = fit_network(_spectrum(signal, wire, noise, grid, cut, hurt_hz, sounds_s), like)
    if fit is None or fit.left > LEAVES:
        return None
    return FittedNetwork(fit, fit.drawn(draws, generator))


def nearer(
    known: FittedNetwork, signal: ComplexArray, wire: ComplexArray, noise: ComplexArray, grid: FineGrid, cut: Cut,
    generator: np.random.Generator, draws: int, hurt_hz: tuple[tuple[float, float], ...] = (),
    sounds_s: FloatArray | None = None,
) -> FittedNetwork:
    """The same network settled anew by bins in which the sweep's beginning leaves nothing; as it was where that fits
    worse than it may. Other arguments as in fitted_network."""
    fit = settled_anew(_spectrum(signal, wire, noise, grid, cut, hurt_hz, sounds_s, low_share=LEFT_LOW), known.fit)
    if fit is None or fit.left > LEAVES:
        return known
    return FittedNetwork(fit, fit.drawn(draws, generator))


def rough_clock_ppm(
    signal: ComplexArray, wire: ComplexArray, noise: ComplexArray, grid: FineGrid, cut: Cut,
    hurt_hz: tuple[tuple[float, float], ...], sounds_s: FloatArray,
) -> float | None:
    """The clock of a single passage, None where no network comes near. That it moves phases is not all that a clock
    does, but near enough to bring the record to the player's own. Arguments as in fitted_network."""
    more = np.asarray(np.hypot(np.abs(noise), ROUGH_SHARE * np.abs(signal)).astype(complex))
    fit = fit_network(_spectrum(signal, wire, more, grid, cut, hurt_hz, sounds_s))
    ppm = None if fit is None or fit.left > LEAVES else fit.clock_ppm
    return None if ppm is None else ppm.value


def without_the_loudest(
    signal: ComplexArray, wire: ComplexArray, noise: ComplexArray, grid: FineGrid, cut: Cut,
    hurt_hz: tuple[tuple[float, float], ...], sounds_s: FloatArray | None,
) -> NetworkFit | None:
    """The network that the faint parts of a curve tell of, whose loud part a soft stage may have compressed; None where
    none fits them either. Arguments as in fitted_network."""
    size = np.abs(signal / wire)
    loud = grid.bins_hz[size > size.max() * 10 ** (-LOUD_DB / 20)]
    fit = fit_network(_spectrum(signal, wire, noise, grid, cut, (*hurt_hz, (loud[0] * 0.9, loud[-1] * 1.1)), sounds_s))
    return None if fit is None or fit.left > 2 * LEAVES else fit


def _spectrum(
    signal: ComplexArray, wire: ComplexArray, noise: ComplexArray, grid: FineGrid, cut: Cut,
    hurt_hz: tuple[tuple[float, float], ...], sounds_s: FloatArray | None, low_share: float = LOW_SHARE,
) -> Spectrum:
    hertz = grid.bins_hz
    gain, left = signal / wire, np.abs(noise / wire) ** 2
    sums = np.concatenate([[0.0], np.cumsum(left)])
    low = np.searchsorted(hertz, hertz * 2**-0.25)
    high = np.maximum(np.searchsorted(hertz, hertz * 2**0.25), low + 1)
    # Flat gates keep all of a mean's noise, the one used less of a bin's.
    told_by = high - low
    variance = (sums[high] - sums[low]) / told_by / float(np.mean(grid.gate.window**2))
    variance = variance * told_by / np.maximum(told_by - 1, 1)  # few bins tell of little noise by chance (Student 1908)
    size = np.abs(gain)
    systematic = ((SHARE + low_share * (LOW_HZ / hertz) ** 2.5) * size) ** 2 + (LOUDEST_SHARE * size.max()) ** 2
    variance = variance + systematic
    for low_hz, high_hz in hurt_hz:
        variance[(hertz > low_hz) & (hertz < high_hz)] += (1e3 * size.max()) ** 2
    return Spectrum(hertz, gain, np.ones(hertz.size), variance, cut, sounds_s)


def network_of(
    hertz: FloatArray, gain: ComplexArray, counts: FloatArray, variance: FloatArray, generator: np.random.Generator,
    draws: int, known: PolesAndZeros | None = None, sounds_s: FloatArray | None = None,
) -> FittedNetwork | None:
    """From gains (m,) that no gate has touched; arguments as in Spectrum; known: as in fit_network."""
    fit = fit_network(Spectrum(hertz, gain, counts, variance, sounds_s=sounds_s), known=known)
    return None if fit is None or fit.left > LEAVES else FittedNetwork(fit, fit.drawn(draws, generator))
