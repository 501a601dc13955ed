"""A cutoff moved by a sine within hearing: the sidebands that a tone gets, what becomes of a whistle's pitch; and what
beats by itself, with nothing moving."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.circuits.linear import StateSpace, state_space
from jiyuu.circuits.network import Network
from jiyuu.errors import CircuitError

AUDIBLE_RATE_HZ = 16.0  # from which on what moves is heard as a tone, not as a course
FEWEST_ORDERS, MOST_ORDERS, CLOSE = 8, 128, 1e-6
SLOWEST_BEAT_HZ, FASTEST_BEAT_HZ = 0.05, 16.0
HARMONICS = 8  # of each source that may beat with another's


@dataclass(frozen=True, slots=True, eq=False)
class Sidebands:
    """order (m,) from −m to m, frequency_hz (m,) of each line (that of order 0 is the tone's own; under 0 Hz it is
    folded up), gain (m,) V/V from the tone to it."""

    order: FloatArray
    frequency_hz: FloatArray
    gain: ComplexArray

    def level_db(self, order: int) -> float:
        """Re the line of the tone itself."""
        there, own = (abs(complex(self.gain[self.order == one][0])) for one in (order, 0))
        return float(20 * np.log10(max(there, 1e-20) / max(own, 1e-20)))


def sidebands(
    network: Network, mode: str, *, cutoff_hz: float, gain: float, octaves: float, rate_hz: float, frequency_hz: float
) -> Sidebands:
    """Of a tone of frequency_hz, small enough not to bend anything, while a cosine of rate_hz moves the cutoff by
    ±octaves.

    For any amount: 2^(a·cos θ) is Σ Iₙ(a·ln 2)·e^(jnθ), and all lines hold each other in balance (harmonic balance of a
    linear system whose coefficients move); as many lines are taken as it needs. Raises CircuitError where it cannot be
    looked at: with more than one cutoff, or with what moves by itself."""
    if len(network.cutoffs) != 1 or network.is_modulated:
        raise CircuitError("Sidebands are told of a filter with one cutoff that nothing of its own moves.")
    system = state_space(network, cutoff_hz=cutoff_hz, gain=gain)
    moved = _Moved(system, network.fixed_rate <= 0, network.output_index(mode), octaves * np.log(2), rate_hz,
                   frequency_hz)
    orders, found = FEWEST_ORDERS, moved.lines(FEWEST_ORDERS)
    while orders < MOST_ORDERS:
        orders *= 2
        before, found = found, moved.lines(orders)
        inner = found[orders // 2 : -orders // 2]
        if np.abs(inner - before).max() < CLOSE * np.abs(found).max():
            break
    n = np.arange(-orders, orders + 1)
    return Sidebands(n.astype(float), np.abs(frequency_hz + n * rate_hz), found)


@dataclass(frozen=True, slots=True, eq=False)
class _Moved:
    """What stands in all balances: the filter at rest, which states go with the cutoff, a·ln 2."""

    system: StateSpace
    moving: NDArray[np.bool_]
    row: int
    index: float
    rate_hz: float
    frequency_hz: float

    def lines(self, orders: int) -> ComplexArray:
        """(2·orders + 1,) V/V."""
        n = np.arange(-orders, orders + 1)
        A, B = self.system.A * self.system.rate, self.system.B * self.system.rate
        size, apart = A.shape[0], np.abs(n[:, np.newaxis] - n[np.newaxis, :])
        weights = scipy.special.iv(apart, abs(self.index)) * np.where(self.index < 0, (-1.0) ** apart, 1.0)
        # (j(ω + nΩ) − K)·X = L: rows of what moves are weighed with every other line, the rest only with their own.
        whole = np.zeros((n.size, size, n.size, size), dtype=complex)
        driven = np.zeros((n.size, size), dtype=complex)
        every = np.arange(n.size)
        for i in range(size):
            share = weights if self.moving[i] else np.eye(n.size)
            whole[:, i] -= share[:, :, np.newaxis] * A[i]
            whole[every, i, every, i] += 2j * np.pi * (self.frequency_hz + n * self.rate_hz)
            driven[:, i] = share[:, orders] * B[i]
        states = np.linalg.solve(whole.reshape(n.size * size, -1), driven.ravel()).reshape(n.size, size)
        heard = states @ self.system.C[self.row].astype(complex)
        heard[orders] += self.system.D[self.row]
        return np.asarray(heard)


def mean_rise_cents(octaves: float) -> float:
    """By which a whistle's mean pitch rises while a sine moves its cutoff by ±octaves: equal octaves up and down are
    more hertz up than down, 1200·log₂ I₀(a·ln 2)."""
    return float(1200 * np.log2(scipy.special.i0(octaves * np.log(2))))


@dataclass(frozen=True, slots=True)
class Beat:
    """first_hz and second_hz: the two sources; which harmonic of each; beats a second."""

    first_hz: float
    second_hz: float
    first_harmonic: int
    second_harmonic: int
    beat_hz: float


def beats(pitches_hz: Sequence[float]) -> list[Beat]:
    """What beats between two of the sources by itself: the lowest harmonics that lie close together."""
    found = []
    for i, first in enumerate(pitches_hz):
        for second in pitches_hz[i + 1 :]:
            close = [(p + q, p, q, abs(p * first - q * second)) for p in range(1, HARMONICS + 1)
                     for q in range(1, HARMONICS + 1)
                     if SLOWEST_BEAT_HZ <= abs(p * first - q * second) <= FASTEST_BEAT_HZ]
            if close:
                _, p, q, apart = min(close)
                found.append(Beat(first, second, p, q, apart))
    return found
