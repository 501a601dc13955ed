"""Bins of a spectrum put together so that nothing of a resonance is lost, and the gate that was before them.

What a model makes of the mean over a group is found at three places of it, exact for any polynomial of fifth degree
(Golub and Welsch 1969, Mathematics of Computation)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.bin_groups_kernel import begun, moments
from jiyuu.measurement.network_rings_kernel import turns_of
from jiyuu.measurement.tones_ringing import Rings

FEWEST_PER_OCTAVE, USUAL_PER_OCTAVE = 24, 64
WITHIN_POLE = 0.3  # a group is no wider than this share of its distance to the nearest pole
ALONE = 1e-9  # re the same: every bin is a group
CUT_UNFELT = 1e-5  # of the gain, that a gate's edge leaves beside a pole
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
    to be found by it. rings: that were still heard in them."""

    bins_hz: FloatArray
    gain: ComplexArray
    counts: FloatArray
    variance: FloatArray
    cut: Cut | None = None
    sounds_s: FloatArray | None = None
    rings: Rings | None = None


@dataclass(frozen=True, slots=True, eq=False)
class Groups:
    """Means of gain (g,) and the deviation (g,) of either of its parts, s (g,) of their middles; omega (NODES·g,) and
    what each node counts, share (g, NODES), where a model is asked for its means, and how late it sounded,
    late (NODES·g,). gate, turns: as network_kernel has them; rings: of every group. s and omega in units of `unit`
    rad/s, times in 1/unit."""

    gain: ComplexArray
    deviation: FloatArray
    s: ComplexArray
    omega: FloatArray
    share: FloatArray
    unit: float
    gate: FloatArray
    turns: FloatArray
    late: FloatArray | None  # None where the clock is known
    rings: Rings | None = None

    @classmethod
    def of(cls, spectrum: Spectrum, unit: float, poles: ComplexArray | None = None) -> Groups:
        """poles (n,) rad/s: near them the groups are narrower, and wider elsewhere. Where rings are heard every bin is
        a group."""
        hertz = spectrum.bins_hz
        per_octave = USUAL_PER_OCTAVE if poles is None else FEWEST_PER_OCTAVE
        near = np.zeros(0, dtype=complex) if poles is None else np.asarray(poles / (2 * np.pi), dtype=complex)
        starts = begun(hertz, per_octave, near, WITHIN_POLE if spectrum.rings is None else ALONE,
                       _felt_hz(near, spectrum.cut), NODES)
        gain, variance, rest = moments(hertz, spectrum.gain, spectrum.counts, spectrum.variance, starts)
        # Lanczos with the polynomials 1, x − a0, …: the nodes are eigenvalues of what they give.
        centre, scale, second, lean, norm, more = rest.T
        matrix = np.zeros((gain.size, NODES, NODES))
        matrix[:, 1, 1], matrix[:, 2, 2] = lean, more
        matrix[:, 0, 1] = matrix[:, 1, 0] = np.sqrt(second)
        matrix[:, 1, 2] = matrix[:, 2, 1] = np.sqrt(np.maximum(norm, 0.0) / np.maximum(second, 1e-12))
        places, vectors = np.linalg.eigh(matrix)
        nodes_hz = centre[:, np.newaxis] + scale[:, np.newaxis] * places
        omega, gate = np.asarray(2 * np.pi * nodes_hz.ravel() / unit), gate_of(spectrum.cut, unit)
        return cls(
            gain, np.sqrt(variance / 2),
            np.asarray(2j * np.pi * centre / unit), omega, vectors[:, 0, :] ** 2, unit, gate,
            turns_of(omega, gate) if gate.size else np.zeros((8, 0)),
            None if spectrum.sounds_s is None else unit * np.interp(nodes_hz.ravel(), hertz, spectrum.sounds_s),
            spectrum.rings)

    def means(self, columns: ComplexArray) -> ComplexArray:
        """(c, g) of columns (c, NODES·g) at the nodes."""
        return np.asarray(np.einsum("cgn,gn->cg", columns.reshape(columns.shape[0], -1, NODES), self.share))

    def freedom(self, values: int) -> int:
        return max(2 * self.gain.size - values, 1)


def _felt_hz(poles_hz: ComplexArray, cut: Cut | None) -> FloatArray:
    """(n,) how far from each pole (n,) what a gate cuts off of its ring is felt. From bin to bin that turns once: it is
    as it should be at the bins themselves, of which a few may be nodes, and nowhere else."""
    if cut is None:
        return np.zeros(poles_hz.size)
    left = np.exp(2 * np.pi * np.minimum(poles_hz.real, 0.0) * cut.flat)
    return np.where(left > CUT_UNFELT, np.sqrt(left / CUT_UNFELT) / (2 * cut.fall), 0.0)


def gate_of(cut: Cut | None, unit: float) -> FloatArray:
    """A cut as network_kernel has it: flat, fall, lead, rise and period in 1/unit, count; empty for none."""
    if cut is None:
        return np.zeros(0)
    return np.array([*(unit * one for one in (cut.flat, cut.fall, cut.lead, cut.rise, cut.period)), cut.count])
