"""What a sweep shows of a filter that bends. Its amplitude follows a sweep late, and with it what bends: so the same
sweep is played through the filter as it is thought to be, and read in the same way."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy
from numpy.typing import NDArray

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.character.families import Built
from jiyuu.character.family_fit import FLOOR_DB, Bent
from jiyuu.character.level_curves import Samples
from jiyuu.signals.transforms import irfft, next_fast_len, rfft
from jiyuu.simulation.kernel_source import signature
from jiyuu.simulation.kernels import integrate

BENDS_DB, REACH_OCTAVES = 0.005, 2.0  # from which on it is worth a sweep, about the place where a curve turns
SLOWEST_S = 1.5  # an e-fold: of ten seconds over all that is heard
BEFORE, BEHIND = 2.0, 1.5  # times the frequencies at which it bends, that the sweep begins and ends at
FADE_OCTAVES = 0.25
RINGS_S, APART_S = 0.25, 0.1  # for what rings on; between the end of a record and its beginning
AHEAD = 0.45  # of the way to the second harmonic, that is kept ahead of the response
FLOOR = 1e-7  # of the sweep's strongest bin, under which there is nothing to be divided by
RATES_HZ = (32_000, 48_000, 64_000, 96_000, 128_000, 192_000, 256_000, 384_000)
# Of the steps a second, that the highest frequency that bends may be: to a thousandth of a decibel, four stages near
# onset included; and to a hundredth.
SHARE, ROUGH_SHARE = 0.05, 0.1
BESIDE = 0.3  # of what bends outside a sweep, which is not looked at again when the filter is moved
LEAPS_DB = 2000.0  # an octave²: where it turns more sharply it leaps, and where exactly is hardly told
TURNS_OVER = 1 / 64  # octaves to either side, over which the sharpest turn of what bends is looked for


@dataclass(frozen=True, slots=True, eq=False)
class Seen:
    """What a sweep shows a filter to be bent by: db and rad (m,), and how they turn over frequency: turns_db and
    turns_rad (m,) per octave²; of no meaning where it was not swept."""

    db: FloatArray
    rad: FloatArray
    turns_db: FloatArray
    turns_rad: FloatArray


@dataclass(frozen=True, slots=True, eq=False)
class Sweep:
    """A stretch of the sweep that a curve was measured with, over the frequencies at which its filter bends: known
    (m,) of the curve's. played_v (2 n + 1,) at every half step, n steps, rate_hz of them a second; spectrum: of a
    transform of size, as far as it is kept."""

    curve: Samples
    known: NDArray[np.bool_]
    played_v: FloatArray
    rate_hz: int
    ends_hz: tuple[float, float]
    size: int
    spectrum: ComplexArray

    @classmethod
    def of(cls, curve: Samples, bent: Bent, share: float = SHARE) -> Sweep | None:
        """None where the curve was not swept steadily, or so slowly that settled tones tell the same, or where its
        filter does not settle."""
        bends = np.abs(bent.db) > BENDS_DB
        bends &= np.abs(np.log2(curve.hertz / curve.middle_hz)) < REACH_OCTAVES
        if curve.efold_s is None or curve.efold_s > SLOWEST_S or not np.isfinite(bent.db).all():
            return None
        if not bends.any():
            return cls(curve, bends, np.zeros(1), RATES_HZ[0], (0.0, 0.0), 0, np.zeros(0, dtype=complex))
        low_hz, high_hz = float(curve.hertz[bends][0]), float(curve.hertz[bends][-1])
        rate_hz = next((rate for rate in RATES_HZ if high_hz < share * rate), RATES_HZ[-1])
        from_hz, to_hz = low_hz / BEFORE, high_hz * BEHIND
        t = np.arange(round(2 * curve.efold_s * np.log(to_hz / from_hz) * rate_hz)) / (2 * rate_hz)
        sweep = np.sin(2 * np.pi * from_hz * curve.efold_s * np.expm1(t / curve.efold_s))
        fade = round(2 * FADE_OCTAVES * np.log(2) * curve.efold_s * rate_hz)
        rise = np.sin(0.5 * np.pi * np.arange(fade) / fade) ** 2
        sweep[:fade] *= rise
        sweep[-fade:] *= rise[::-1]
        rest = np.zeros(2 * round(RINGS_S * rate_hz) + 1 - sweep.size % 2)
        known = (curve.hertz >= low_hz) & (curve.hertz <= high_hz)
        played_v = curve.level_v * np.concatenate([sweep, rest])
        size = next_fast_len(played_v.size // 2 + round(APART_S * rate_hz))
        # Only the band of the sweep is of interest: what lies above it need not be turned back.
        bins = next_fast_len(int(1.1 * to_hz * size / rate_hz) + 1, real=False)
        kept = min(2 * bins, size)
        return cls(curve, known, played_v, rate_hz, (from_hz, to_hz), size,
                   rfft(played_v[:-1:2], size)[: kept // 2 + 1])

    def seen(self, builts: Sequence[Built]) -> list[Seen]:
        """Of each; filters whose networks differ by their numbers alone run side by side."""
        if not self.known.any():
            return [Seen(*np.zeros((4, self.known.size)))] * len(builts)
        alike: dict[object, list[int]] = defaultdict(list)
        for i, built in enumerate(builts):
            network = built.network
            alike[signature(network), *(getattr(network, name).parts.tobytes() for name in "CDE")].append(i)
        heard = np.empty((len(builts), self.played_v.size // 2))
        for places in alike.values():
            some = [builts[i] for i in places]
            outputs, _ = integrate(
                [one.network for one in some], u_v=self.played_v[:, np.newaxis],
                omega=2 * np.pi * np.array([[one.cutoff_hz for one in some]]),
                gain=np.array([[one.gain for one in some]]),
                half_step_s=0.5 / self.rate_hz, rows=[some[0].network.output_index(some[0].mode)])
            heard[places] = outputs[0].T
        return [self._read(one, built) for one, built in zip(heard, builts, strict=True)]

    def _read(self, heard_v: FloatArray, built: Built) -> Seen:
        spectrum, power = self.spectrum, np.abs(self.spectrum) ** 2
        found = rfft(heard_v, self.size)[: spectrum.size]
        # An odd size has no bin at half its rate.
        kept = 2 * (spectrum.size - 1) + (2 * spectrum.size - 1 == self.size)
        response = irfft(found * np.conj(spectrum) / (power + FLOOR * power.max()), kept)
        rate_hz = self.rate_hz * kept / self.size
        # Harmonics come ahead of what rings, and are left out.
        assert self.curve.efold_s is not None
        ahead = round(AHEAD * np.log(2) * self.curve.efold_s * rate_hz)
        rise = np.sin(0.5 * np.pi * np.arange(ahead // 2) / (ahead // 2)) ** 2
        response[kept // 2 : kept - ahead] = 0.0
        response[kept - ahead : kept - ahead + rise.size] *= rise
        hertz: FloatArray = np.fft.rfftfreq(kept, 1 / rate_hz).astype(float)
        inside = (hertz >= self.ends_hz[0]) & (hertz <= self.ends_hz[1])
        ratio: ComplexArray = rfft(response)[inside] / built.linear(hertz[inside])
        place, wanted = np.log2(hertz[inside]), np.log2(self.curve.hertz)
        grid = np.arange(place[0], place[-1], TURNS_OVER / 8)
        read = []
        for values in (20 * np.log10(np.maximum(np.abs(ratio), 1e-20)), np.unwrap(np.angle(ratio))):
            turns = np.abs(np.gradient(np.gradient(np.interp(grid, place, values), grid), grid))
            most = scipy.ndimage.maximum_filter1d(turns, 17)
            read += [np.interp(wanted, place, values), np.interp(wanted, grid, most)]
        return Seen(read[0], read[2], read[1], read[3])

    def bent(self, settled: Bent, seen: Seen, slack_octaves: float) -> Bent:
        """What bends a curve, by the sweep where it is known and by settled tones beside it. slack_octaves: by which
        the place of what is seen may still be off."""
        beside_db, beside_rad = (np.hypot(off, BESIDE * np.abs(size)) for off, size in (
            (settled.off_db, settled.db), (settled.off_rad, settled.rad)))
        slack = 0.5 * slack_octaves**2
        slack_db, slack_rad = (slack * turns * (1 + turns / leap) for turns, leap in (
            (seen.turns_db, LEAPS_DB), (seen.turns_rad, LEAPS_DB * np.log(10) / 20)))
        return replace(
            settled, db=np.where(self.known, seen.db, settled.db), rad=np.where(self.known, seen.rad, settled.rad),
            off_db=np.where(self.known, slack_db, np.hypot(beside_db, FLOOR_DB)),
            off_rad=np.where(self.known, slack_rad, beside_rad), swept=True)
