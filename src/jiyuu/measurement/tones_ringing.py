"""What still rings while a tone is thought steady: of itself, as it began, and of the ones before it.

A sharp filter takes longer to settle than a tone of a reasonable length lasts. Of a network of a few poles it is told
exactly what its rings add to every tone: laid through tones as they were heard, they need not be heard out.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.tones_heard import APART, HARMONICS, HeardTone, steady_part
from jiyuu.measurement.tones_ringing_kernel import states

LEFT = 1e-6  # of a ring, where a tone is taken to be steady, from which on it moves something
OF_EACH = ("begins", "sizes", "hertz", "into", "rows", "ahead_s", "sounds_s")
FROM_ITS_TOP = np.arange(-HARMONICS, HARMONICS + 1)  # of its pitch, what a tone's fit takes


@dataclass(frozen=True, slots=True, eq=False)
class Rings:
    """What rings add to the gains of tones (n,). begins, sizes (n,): samples of the stimulus in which each is taken to
    be steady; hertz, into (n,): of the tone there; rows (n, h): what the sums of a record turned back by each of h
    harmonics are worth in its gain. ahead_s (n,): by how much each gain was turned back before; sounds_s (n,): when it
    sounded, from the clock's middle on."""

    stimulus_v: FloatArray
    begins: NDArray[np.int64]
    sizes: NDArray[np.int64]
    hertz: FloatArray
    into: ComplexArray
    rows: ComplexArray
    sample_rate_hz: float
    waits_s: float  # that a ring has at least to die
    ahead_s: FloatArray
    sounds_s: FloatArray
    known: dict[complex, ComplexArray] = field(default_factory=dict)

    @classmethod
    def of(
        cls, stimulus_v: FloatArray, places: Sequence[slice], heard: Sequence[HeardTone], sample_rate_hz: float
    ) -> Rings:
        """places: where each was played."""
        steady = [steady_part(place) for place in places]
        begins = np.array([part.start for part in steady], dtype=np.int64)
        sizes = np.array([part.stop for part in steady], dtype=np.int64) - begins
        hertz, into = np.array([tone.hertz for tone in heard]), np.array([tone.into for tone in heard])
        step = 2j * np.pi * hertz[:, np.newaxis, np.newaxis] / sample_rate_hz
        products = _summed((FROM_ITS_TOP - FROM_ITS_TOP[:, np.newaxis]) * step, sizes[:, np.newaxis, np.newaxis])
        # As the tone's own fit does it: what is folded back onto it is told apart by nothing.
        rows = 2 * np.linalg.pinv(products, rcond=APART, hermitian=True)[:, HARMONICS + 1] / into[:, np.newaxis]
        waits_s = min(part.start - place.start for part, place in zip(steady, places, strict=True)) / sample_rate_hz
        none = np.zeros(hertz.size)
        return cls(stimulus_v, begins, sizes, hertz, into, rows, sample_rate_hz, waits_s, none, none)

    def some(self, kept: NDArray[np.int64]) -> Rings:
        """Of those of the tones whose places (k,) are kept."""
        return replace(self, known={}, **{name: getattr(self, name)[kept] for name in OF_EACH})

    def turned(self, ahead_s: FloatArray, sounds_s: FloatArray) -> Rings:
        """With other moments (n,)."""
        return replace(self, ahead_s=ahead_s, sounds_s=sounds_s)

    def last(self, poles: ComplexArray) -> bool:
        """Whether a ring of some of the poles (p,) rad/s is still there where a tone is taken to be steady."""
        return bool(np.exp(np.max(poles.real) * self.waits_s) > LEFT)

    def added(self, poles: ComplexArray, residues: ComplexArray, delay_s: float, fast: float) -> ComplexArray:
        """(n,) by Σ residue/(s − pole), both (p,) rad/s, behind a delay, to a recorder that is fast by so much."""
        later_s = delay_s + fast * self.sounds_s
        found = np.zeros(self.hertz.size, dtype=complex)
        for pole, residue in zip(poles.tolist(), residues.tolist(), strict=True):
            if residue:
                found += residue * self.of_one(pole) * np.exp(-pole * (later_s + self.ahead_s))
        return np.asarray(found * np.exp(2j * np.pi * self.hertz * self.ahead_s))

    def waves_v(self, poles: ComplexArray, residues: ComplexArray, delay_s: FloatArray) -> list[FloatArray]:
        """Of every tone, what was recorded of them while it was taken to be steady; delay_s (n,)."""
        found = [np.zeros(size) for size in self.sizes.tolist()]
        longest = np.arange(self.sizes.max())
        for pole, residue in zip(poles.tolist(), residues.tolist(), strict=True):
            if residue:
                dies = np.exp(pole / self.sample_rate_hz * longest)
                for wave_v, began in zip(found, self.begun(pole) * residue * np.exp(-pole * delay_s), strict=True):
                    wave_v += (began * dies[: wave_v.size]).real
        return found

    def of_one(self, pole: complex) -> ComplexArray:
        """(n,) s: what 1/(s − pole) adds to each gain."""
        if pole not in self.known:
            step = 2j * np.pi * self.hertz[:, np.newaxis] / self.sample_rate_hz
            exponent = np.asarray(pole / self.sample_rate_hz - step * FROM_ITS_TOP, dtype=complex)
            sums = np.sum(self.rows * _summed(exponent, self.sizes[:, np.newaxis]), axis=1)
            turned = np.exp(-2j * np.pi * self.hertz * self.begins / self.sample_rate_hz)
            self.known[pole] = np.asarray(sums * turned * self.begun(pole))
        return self.known[pole]

    def begun(self, pole: complex) -> ComplexArray:
        """(n,) V·s: what 1/(s − pole) rings with where a tone begins to be taken as steady."""
        order, rate_hz = np.argsort(self.begins), self.sample_rate_hz
        there = np.empty(order.size, dtype=complex)
        there[order] = states(self.stimulus_v, self.begins[order], complex(np.exp(pole / rate_hz)))
        # Less what the tone itself keeps going.
        step = 2j * np.pi * self.hertz / rate_hz
        now = 0.5 * self.into * np.exp(step * self.begins)
        lasts = now / (1 - np.exp(pole / rate_hz - step)) + np.conj(now) / (1 - np.exp(pole / rate_hz + step))
        return np.asarray((there - lasts) / rate_hz)


def _summed(exponent: ComplexArray, count: NDArray[np.int64]) -> ComplexArray:
    """Σ exp(n·exponent) over so many n from 0 on."""
    exponent = exponent.real + 1j * (np.mod(exponent.imag + np.pi, 2 * np.pi) - np.pi)  # as samples have it
    small = np.abs(exponent) < 1e-12
    safe = np.where(small, -1.0, exponent)
    return np.asarray(np.where(small, count, np.expm1(count * safe) / np.expm1(safe)))
