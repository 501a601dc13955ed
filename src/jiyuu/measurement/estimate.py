"""A gain as estimated from a recording, whatever was played, and the network behind it."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.bin_groups import Cut, Spectrum
from jiyuu.measurement.network_fit import DrawnNetwork, GridNoise, NetworkFit
from jiyuu.measurement.network_search import fit_network, settled_anew
from jiyuu.measurement.rational_fit import PolesAndZeros
from jiyuu.measurement.smoothing import POINTS_PER_OCTAVE, FineGrid
from jiyuu.measurement.uncertain import Uncertain

LOUD_DB = 12.0  # under the top of a curve: what a soft stage may have compressed
TOLD_DB = 0.1  # standard uncertainty of what faint parts tell of loud ones: more, and they tell another level
LEAVES = 1.5  # of the noise's own deviation: a network that leaves more is not the whole truth
NEARLY_DB, SEEN_DB = 1.0, 20.0  # that one may miss which still tells how a curve turns; so far under its top
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
    pressed_db: float = 0.0  # by how much loud moments of noise made it less than it is of faint ones
    nearest: NetworkFit | None = None  # where none explains it: tells delay and sign

    @property
    def turning(self) -> NetworkFit | None:
        """The network that tells delay and sign, None where none comes near."""
        if self.network is not None:
            return self.network.fit
        if self.nearest is None or missed_db(self.nearest, self.frequency_hz, self.gain, SEEN_DB) > NEARLY_DB:
            return None
        return self.nearest


def missed_db(fit: NetworkFit, frequency_hz: FloatArray, gain: ComplexArray, under_db: float) -> float:
    """By how much a network misses gains (n,) most, of those that stand no farther under the loudest."""
    size = np.abs(gain)
    seen = size > size.max() * 10 ** (-under_db / 20)
    return float(np.abs(fit.level_db(frequency_hz[seen]) - 20 * np.log10(size[seen])).max())


@dataclass(frozen=True, slots=True, eq=False)
class GatedBins:
    """Bins (m,) of a gated impulse response, of a wire's behind the same gate, and of noise as strong as the first has.
    hurt_hz: bands that are left out; sounds_s (m,): when each bin sounded, where the clock is to be found by it;
    hum_power (m,): of gains, what may be left of mains hum, mean square."""

    signal: ComplexArray
    wire: ComplexArray
    noise: ComplexArray
    grid: FineGrid
    cut: Cut
    hurt_hz: tuple[tuple[float, float], ...] = ()
    sounds_s: FloatArray | None = None
    hum_power: FloatArray | float = 0.0

    def spectrum(self, low_share: float = LOW_SHARE) -> Spectrum:
        """The gain, and how well each bin of it is known; low_share: what the sweep's beginning leaves."""
        hertz = self.grid.bins_hz
        gain, left = self.signal / self.wire, np.abs(self.noise / self.wire) ** 2
        sums = np.concatenate([[0.0], np.cumsum(left)])
        low = np.searchsorted(hertz, hertz * 2**-0.25)
        high = np.maximum(np.searchsorted(hertz, hertz * 2**0.25), low + 1)
        # Flat gates keep all of a mean's noise, the one used less of a bin's.
        told_by = high - low
        variance = (sums[high] - sums[low]) / told_by / float(np.mean(self.grid.gate.window**2))
        # Few bins tell of little noise by chance (Student 1908).
        variance = variance * told_by / np.maximum(told_by - 1, 1)
        size = np.abs(gain)
        systematic = ((SHARE + low_share * (LOW_HZ / hertz) ** 2.5) * size) ** 2 + (LOUDEST_SHARE * size.max()) ** 2
        variance = variance + systematic + self.hum_power
        for low_hz, high_hz in self.hurt_hz:
            variance[(hertz > low_hz) & (hertz < high_hz)] += (1e3 * size.max()) ** 2
        return Spectrum(hertz, gain, np.ones(hertz.size), variance, self.cut, self.sounds_s)

    def grid_noise(self, rows: ComplexArray) -> GridNoise:
        """Of rows (d, n) at the grid's points, each of which tells as much as the bins in its width do."""
        spectrum, hertz = self.spectrum(), self.grid.frequency_hz
        variance = np.interp(hertz, spectrum.bins_hz, spectrum.variance)
        width = hertz * np.log(2) / POINTS_PER_OCTAVE / float(spectrum.bins_hz[1] - spectrum.bins_hz[0])
        sounds_s = None if self.sounds_s is None else np.interp(hertz, spectrum.bins_hz, self.sounds_s)
        return GridNoise(rows, hertz, np.asarray(variance / width), sounds_s)


def nearer(known: NetworkFit, bins: GatedBins) -> NetworkFit:
    """The same network settled anew by bins in which the sweep's beginning leaves nothing; as it was where that fits
    worse than it may."""
    return nearer_by(bins.spectrum(low_share=LEFT_LOW), known) or known


def rough_clock_ppm(bins: GatedBins) -> float | None:
    """The clock of a single passage, None where no network comes near. That it moves phases is not all that a clock
    does, but near enough to bring the record to the player's own."""
    more = np.asarray(np.hypot(np.abs(bins.noise), ROUGH_SHARE * np.abs(bins.signal)).astype(complex))
    fit = fit_network(replace(bins, noise=more).spectrum())
    ppm = None if fit is None or fit.left > LEAVES else fit.clock_ppm
    return None if ppm is None else ppm.value


def without_the_loudest(bins: GatedBins) -> NetworkFit | None:
    """The network that the faint parts of a curve tell of, whose loud part a soft stage may have compressed; None where
    none fits them either, or where they hardly tell the loud part."""
    size = np.abs(bins.signal / bins.wire)
    loud = bins.grid.bins_hz[size > size.max() * 10 ** (-LOUD_DB / 20)]
    fit = fit_network(replace(bins, hurt_hz=(*bins.hurt_hz, (loud[0] * 0.9, loud[-1] * 1.1))).spectrum())
    if fit is None or fit.left > 2 * LEAVES or np.median(fit.level_deviation_db(loud)) > TOLD_DB:
        return None
    return fit


def network_of(spectrum: Spectrum, known: PolesAndZeros | None = None) -> NetworkFit | None:
    """From gains that no gate has touched, None where no network explains them; known: as in fit_network."""
    return explaining(fit_network(spectrum, known=known))


def nearer_by(spectrum: Spectrum, known: NetworkFit) -> NetworkFit | None:
    """The same network settled anew by another spectrum, None where it does not explain that."""
    return explaining(settled_anew(spectrum, known))


def explaining(fit: NetworkFit | None, leaves: float = LEAVES) -> NetworkFit | None:
    """None where it leaves more than that of the noise."""
    return None if fit is None or fit.left > leaves else fit
