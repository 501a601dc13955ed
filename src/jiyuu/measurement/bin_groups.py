"""Bins of a spectrum put together so that nothing of a resonance is lost, and the gate that was before them.

What a model makes of the mean over a group is found at three places of it, exact for any polynomial of fifth degree
(Golub and Welsch 1969, Mathematics of Computation)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray

FEWEST_PER_OCTAVE, USUAL_PER_OCTAVE = 24, 64
WITHIN_POLE = 0.3  # a group is no wider than this share of its distance to the nearest pole
FORGOTTEN = 1e-9  # what is left of a ring that need not be followed into the next passage
NODES = 3


@dataclass(frozen=True, slots=True)
class Cut:
    """What of a ring the gate leaves, in seconds: it is flat for `flat` after the beginning, then falls for `fall`;
    before it `lead` of what earlier passages have left, the first `rise` of it rising. period and count of passages."""

    flat: float
    fall: float
    lead: float
    rise: float
    period: float
    count: int


@dataclass(frozen=True, slots=True, eq=False)
class Spectrum:
    """bins_hz (m,) rising, their gain (m,) V/V, how much each counts (m,), and variance (m,) |z|² of one bin's gain.

    cut: the gate behind it, None where there was none. sounds_s (m,): when each sounded, where the recorder's clock is
    to be found by it."""

    bins_hz: FloatArray
    gain: ComplexArray
    counts: FloatArray
    variance: FloatArray
    cut: Cut | None = None
    sounds_s: FloatArray | None = None


@dataclass(frozen=True, slots=True, eq=False)
class Groups:
    """Means of gain (g,) and the deviation (g,) of either of its parts, s (g,) of their middles; nodes_s (NODES·g,)
    and what each node counts, where a model is asked for its means. s in units of `unit` rad/s."""

    gain: ComplexArray
    deviation: FloatArray
    s: ComplexArray
    nodes_s: ComplexArray
    share: FloatArray
    unit: float
    cut: Cut | None
    nodes_sound: FloatArray | None  # when they sounded, in 1/unit

    @classmethod
    def of(cls, spectrum: Spectrum, unit: float, poles: ComplexArray | None = None) -> Groups:
        """poles (n,) rad/s: near them the groups are narrower, and wider elsewhere."""
        hertz, counts = spectrum.bins_hz, spectrum.counts
        per_octave = USUAL_PER_OCTAVE if poles is None else FEWEST_PER_OCTAVE
        width = hertz * (np.log(2) / per_octave)
        for pole in () if poles is None else poles:
            width = np.minimum(width, WITHIN_POLE * np.abs(1j * hertz - pole / (2 * np.pi)))
        step = np.diff(hertz, append=2 * hertz[-1] - hertz[-2])
        # A new group begins wherever as many widths have gone by as there are groups so far.
        place = np.floor(np.cumsum(np.minimum(step / width, 1.0)) + 1e-9).astype(np.int64)
        starts = np.flatnonzero(np.diff(place, prepend=-1))
        sizes = np.diff(np.append(starts, hertz.size))

        def mean(values: FloatArray) -> FloatArray:
            return np.asarray(np.add.reduceat(share * values, starts))

        share = counts / np.repeat(np.add.reduceat(counts, starts), sizes)
        # Lanczos with the polynomials 1, x − a0, …: the nodes are eigenvalues of what they give.
        centre = mean(hertz)
        x = hertz - np.repeat(centre, sizes)
        scale = np.maximum(np.sqrt(mean(x * x)), 1e-12)
        x = x / np.repeat(scale, sizes)
        second = mean(x * x)
        lean = mean(x**3) / np.maximum(second, 1e-12)
        third = x * x - np.repeat(lean, sizes) * x - np.repeat(second, sizes)
        norm = mean(third * third)
        more = np.where(norm > 1e-9, mean(x * third * third) / np.maximum(norm, 1e-9), 0.0)
        matrix = np.zeros((starts.size, NODES, NODES))
        matrix[:, 1, 1], matrix[:, 2, 2] = lean, more
        matrix[:, 0, 1] = matrix[:, 1, 0] = np.sqrt(second)
        matrix[:, 1, 2] = matrix[:, 2, 1] = np.sqrt(np.maximum(norm, 0.0) / np.maximum(second, 1e-12))
        places, vectors = np.linalg.eigh(matrix)
        nodes_hz = centre[:, np.newaxis] + scale[:, np.newaxis] * places
        return cls(
            np.add.reduceat(share * spectrum.gain, starts),
            np.sqrt(np.add.reduceat(share**2 * spectrum.variance, starts) / 2),
            np.asarray(2j * np.pi * centre / unit), 2j * np.pi * nodes_hz.ravel() / unit, vectors[:, 0, :] ** 2, unit,
            None if spectrum.cut is None else scaled(spectrum.cut, unit),
            None if spectrum.sounds_s is None else unit * np.interp(nodes_hz.ravel(), hertz, spectrum.sounds_s),
        )

    def means(self, columns: ComplexArray) -> ComplexArray:
        """(c, g) of columns (c, NODES·g) at the nodes."""
        return np.asarray(np.einsum("cgn,gn->cg", columns.reshape(columns.shape[0], -1, NODES), self.share))

    def freedom(self, values: int) -> int:
        return max(2 * self.gain.size - values, 1)


def scaled(cut: Cut, unit: float) -> Cut:
    """With times in 1/unit."""
    return Cut(cut.flat * unit, cut.fall * unit, cut.lead * unit, cut.rise * unit, cut.period * unit, cut.count)


def ring_left_out(pole: complex, s: ComplexArray, cut: Cut) -> ComplexArray:
    """What the gate takes of the transform 1/(s − pole) of a ring, less what the passages before add to it."""
    q = pole - s
    kept = _flat(q, cut.flat) + np.exp(q * cut.flat) * _falling(q, cut.fall)
    found = -1 / q - kept
    over = np.exp(pole * cut.period)
    if cut.count > 1 and abs(over) > FORGOTTEN:
        carried = sum((cut.count - m) / cut.count * over**m for m in range(1, cut.count))
        flat = cut.lead - cut.rise
        # Before the beginning the gate rises: its falling part, run backwards.
        before = _flat(-q, flat) + np.exp(-q * flat) * _falling(-q, cut.rise)
        found = found - carried * (kept + before)
    return np.asarray(found)


def _flat(q: ComplexArray, length: float) -> ComplexArray:
    """∫ exp(q·t) over 0 … length."""
    return np.asarray((np.exp(q * length) - 1) / q)


def _falling(q: ComplexArray, length: float) -> ComplexArray:
    """∫ cos²(π·t/(2·length))·exp(q·t) over 0 … length."""
    if length <= 0:
        return np.zeros_like(q)
    end = np.exp(q * length)
    return np.asarray(0.5 * ((end - 1) / q - (end + 1) * q / (q * q + (np.pi / length) ** 2)))
