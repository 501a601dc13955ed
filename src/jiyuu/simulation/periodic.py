"""Where a driven network comes to rest: the orbit that a period of its drive leads back to.

Time is counted in periods of the drive, rates in radians per period, so that filters driven at different frequencies
step side by side. Instead of
waiting until a sharp resonance has died away, Newton's method looks for the state that a period leads back to
(shooting; Nayfeh and Balachandran 1995, Applied Nonlinear Dynamics).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import FloatArray
from jiyuu.circuits.linear import state_space
from jiyuu.circuits.network import Network
from jiyuu.simulation.kernels import integrate

STEPS_A_RADIAN = 3.0  # of the fastest stage; fourth order leaves 1e-6 of the output
SETTLED = 1e-5  # Newton's last step re the largest capacitor voltage; what is left is its square
ROUNDS = 60
WAITED = 40  # periods
BATCH = 16
ROUNDING = 1e-14  # of the largest capacitor voltage, what no step closes
FOLLOWING_ROUNDS, SHRINKS = 12, 0.3  # at most; and by what a gap must shrink from turn to turn meanwhile


def steps_of(network: Network, hz: FloatArray, *, cutoff_hz: float, gain: float, fewest: int) -> np.ndarray:
    """(b,) integration steps that a period of each drive needs, powers of two."""
    fastest = 2 * np.pi * cutoff_hz * max(float(network.rate_ratio.max(initial=1.0)), 1.0) * (1 + 0.3 * gain)
    fastest = max(fastest, float(network.fixed_rate.max(initial=0.0)))
    wanted = np.maximum(fewest, STEPS_A_RADIAN * fastest / hz)
    return np.asarray((2 ** np.ceil(np.log2(wanted))).astype(int))


@dataclass(frozen=True, slots=True, eq=False)
class Orbits:
    """outputs (r, steps, b) volts over one period of a sine that begins at 0, settled (b,) whether each was found;
    states (b, n) where each begins, and closing (b, n, n), what moves the end of a period away from its beginning: from
    these a search for others like them may begin."""

    outputs_v: FloatArray
    settled: NDArray[np.bool_]
    states: FloatArray
    closing: FloatArray

    def growth(self) -> FloatArray:
        """(b,) of what disturbs an orbit, from one period to the next: above 1 the filter does not stay on it. Of
        orbits whose closing is exact; NaN where none was found."""
        found = np.full(self.settled.size, np.nan)
        monodromy = np.eye(self.closing.shape[1]) - self.closing[self.settled]
        found[self.settled] = np.abs(np.linalg.eigvals(monodromy)).max(axis=1, initial=0.0)
        return found


@dataclass(frozen=True, slots=True, eq=False)
class _Drives:
    """What all turns of a search have in common."""

    network: Network
    hz: FloatArray
    steps: int
    cutoff_hz: float
    gains: FloatArray
    level_v: FloatArray
    rows: list[int]

    def run(self, of: NDArray[np.intp], states: FloatArray, periods: int = 1) -> tuple[FloatArray, FloatArray]:
        """outputs (r, steps, l) and the states (l, n) that so many periods of drives `of` (l,) lead to."""
        half = 2 * self.steps
        wave = np.sin(2 * np.pi * (np.arange(half * periods + 1) % half) / half)[:, np.newaxis]
        return integrate(
            [self.network] * of.size, u_v=self.level_v[of] * wave,
            omega=(2 * np.pi * self.cutoff_hz / self.hz[of])[np.newaxis, :], gain=self.gains[np.newaxis, of],
            half_step_s=0.5 / self.steps, rows=self.rows if periods == 1 else [], states=states,
            fixed_by=1 / self.hz[of],
        )

    def closing(
        self, of: NDArray[np.intp], states: FloatArray, nudge: FloatArray
    ) -> tuple[FloatArray, FloatArray, FloatArray]:
        """outputs and the states (l, n) that a period leads to, and what moves those away from where they began
        (l, n, n): beside every filter run n copies with one capacitor moved."""
        n = states.shape[1]
        begun = np.repeat(states[:, np.newaxis, :], n + 1, axis=1)
        begun[:, np.arange(1, n + 1), np.arange(n)] += nudge[:, np.newaxis]
        record, ended = self.run(np.repeat(of, n + 1), begun.reshape(-1, n))
        ended = ended.reshape(of.size, n + 1, n)
        moved = (ended[:, 1:] - ended[:, :1]) / nudge[:, np.newaxis, np.newaxis]
        return record[:, :, :: n + 1], ended[:, 0], np.eye(n) - np.swapaxes(moved, 1, 2)


def settled_periods(
    network: Network, hz: FloatArray, steps: int, *, cutoff_hz: float, gain: float | FloatArray, level_v: FloatArray,
    modes: Sequence[str], rest: FloatArray, within: float = SETTLED, rounds: int = ROUNDS, near: Orbits | None = None,
) -> Orbits:
    """hz, gain and level_v (b,) of the drives; rest (n,) or (b, n), the capacitor voltages without one. within: of the
    largest capacitor voltage, that an orbit may be off; rounds: of Newton's method at most; near: orbits of a filter
    that hardly differs, from which these are found sooner, to within the same of the difference between the two."""
    n, count = len(network.capacitors), hz.size
    gains, rests = np.broadcast_to(gain, (count,)).astype(float), np.broadcast_to(rest, (count, n))
    drives = _Drives(network, hz, steps, cutoff_hz, gains, level_v, [network.output_index(mode) for mode in modes])
    found = Orbits(np.zeros((len(modes), steps, count)), np.zeros(count, dtype=bool), rests.copy(),
                   np.tile(np.eye(n), (count, 1, 1)))
    if near is not None:
        _follow(drives, found, near, within)
    left = ~found.settled
    if left.any():
        found.states[left] = _linear_start(network, hz[left], cutoff_hz=cutoff_hz, gains=gains[left],
                                           level_v=level_v[left], rests=rests[left])
        _patiently(drives, found, rests, within, rounds)
    return found


def _follow(drives: _Drives, found: Orbits, near: Orbits, within: float) -> None:
    """From one orbit to another close by, by what is known of that one and every turn adds (Broyden 1965, Mathematics
    of Computation): a period a turn, not n + 1. What that does not lead to fast is left to begin as if nothing were
    known."""
    left = np.flatnonzero(near.settled)
    states, closing = near.states[left], near.closing[left]
    step, before, first = np.zeros_like(states), np.zeros_like(states), np.zeros(left.size)
    for turn in range(FOLLOWING_ROUNDS):
        record, ended = drives.run(left, states)
        gap = ended - states
        distance = np.abs(gap).max(axis=1)
        if turn:
            going = distance < SHRINKS * np.abs(before).max(axis=1)
            surprise = gap - before + np.einsum("bij,bj->bi", closing, step)
            along = step / np.maximum(np.sum(step**2, axis=1, keepdims=True), 1e-300)
            closing -= surprise[:, :, np.newaxis] * along[:, np.newaxis, :]
        else:
            first, going = np.maximum(distance, ROUNDING / within * np.abs(states).max(axis=1)), distance >= 0
        step, before = _closing(closing, gap), gap
        there = distance <= within * first
        done = left[there]
        found.outputs_v[:, :, done], found.states[done] = record[:, :, there], states[there]
        found.closing[done], found.settled[done] = closing[there], True
        keep = going & ~there
        left, states, closing, first = left[keep], (states + step)[keep], closing[keep], first[keep]
        step, before = step[keep], before[keep]
        if not left.size:
            return


def _patiently(drives: _Drives, found: Orbits, rests: FloatArray, within: float, rounds: int) -> None:
    """Newton's method with a new matrix every turn, steps shortened until they help, for what has not settled yet."""
    left = np.flatnonzero(~found.settled)
    count, states = drives.hz.size, found.states.copy()
    scale = np.maximum(np.abs(states).max(axis=1), 1e-6 * drives.level_v)
    best, best_gap, ahead = states.copy(), np.full(count, np.inf), np.zeros_like(states)
    after, share = states.copy(), np.ones(count)
    for turn in range(rounds):
        if turn == rounds // 2:
            # Where Newton's steps lead nowhere, waiting leads near.
            states[left] = drives.run(left, rests[left], WAITED)[1]
            best_gap[left], share[left] = np.inf, 1.0
        record, ended, closing = drives.closing(left, states[left], 1e-5 * scale[left])
        gap = ended - states[left]
        distance = np.abs(gap).max(axis=1)
        scale[left] = np.maximum(scale[left], np.abs(ended).max(axis=1))
        step = _closing(closing, gap)
        closer = distance < best_gap[left]
        near = left[closer]
        found.outputs_v[:, :, near], found.states[near] = record[:, :, closer], states[near]
        found.closing[near] = closing[closer]
        best[near], best_gap[near], ahead[near] = states[near], distance[closer], step[closer]
        after[near] = ended[closer]
        farthest = np.abs(step).max(axis=1)
        there = closer & (farthest < within * scale[left])
        found.settled[left[there]] = True
        share[left] = np.where(closer, np.minimum(1.0, 2 * scale[left] / np.maximum(farthest, 1e-300)),
                               share[left] / 4)
        left = left[~there]
        if not left.size:
            return
        # Where even a short step does not close the gap, the filter itself goes on for a period and may open it.
        lost = share < 0.01
        best_gap = np.where(lost, np.inf, best_gap)
        share = np.where(lost, 1.0, share)
        ahead = np.where(lost[:, np.newaxis], after - best, ahead)
        states = best + share[:, np.newaxis] * ahead


def _closing(matrices: FloatArray, gap: FloatArray) -> FloatArray:
    """Newton's steps (b, n). Where a state keeps itself over a period (a matrix that cannot be inverted) the shortest
    step that closes the rest."""
    try:
        return np.asarray(np.linalg.solve(matrices, gap[..., np.newaxis])[..., 0])
    except np.linalg.LinAlgError:
        return np.asarray((np.linalg.pinv(matrices) @ gap[..., np.newaxis])[..., 0])


def _linear_start(
    network: Network, hz: FloatArray, *, cutoff_hz: float, gains: FloatArray, level_v: FloatArray, rests: FloatArray
) -> FloatArray:
    """(b, n) capacitor voltages that the linear filter would have at phase 0, no more than the drive can charge: most
    of the settling is done before it begins."""
    phasors = np.zeros(rests.shape, dtype=complex)
    for gain in np.unique(gains):
        which = gains == gain
        system = state_space(network, cutoff_hz=cutoff_hz, gain=float(gain))
        s, n = 2j * np.pi * hz[which] / system.rate, system.A.shape[0]
        drive = np.tile(system.B, (s.size, 1))[..., np.newaxis]
        phasors[which] = np.linalg.solve(s[:, None, None] * np.eye(n) - system.A, drive)[..., 0]
    start = np.imag(phasors) * level_v[:, np.newaxis]
    largest = max(b.headroom_v for b in network.branches) * 3
    over = np.maximum(np.abs(start).max(axis=1, keepdims=True) / largest, 1.0)
    return np.asarray(rests + start / over)
