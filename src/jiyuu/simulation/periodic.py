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


def steps_of(network: Network, hz: FloatArray, *, cutoff_hz: float, gain: float, fewest: int) -> np.ndarray:
    """(b,) integration steps that a period of each drive needs, powers of two."""
    fastest = 2 * np.pi * cutoff_hz * max(float(network.rate_ratio.max(initial=1.0)), 1.0) * (1 + 0.3 * gain)
    fastest = max(fastest, float(network.fixed_rate.max(initial=0.0)))
    wanted = np.maximum(fewest, STEPS_A_RADIAN * fastest / hz)
    return np.asarray((2 ** np.ceil(np.log2(wanted))).astype(int))


@dataclass(frozen=True, slots=True, eq=False)
class Orbits:
    """outputs (r, steps, b) volts over one period of a sine that begins at 0, settled (b,) whether each was found, and
    growth (b,) of what disturbs it, from one period to the next: above 1 the filter does not stay on it."""

    outputs_v: FloatArray
    settled: NDArray[np.bool_]
    growth: FloatArray


def settled_periods(
    network: Network, hz: FloatArray, steps: int, *, cutoff_hz: float, gain: float | FloatArray, level_v: FloatArray,
    modes: Sequence[str], rest: FloatArray, within: float = SETTLED, rounds: int = ROUNDS,
) -> Orbits:
    """hz, gain and level_v (b,) of the drives; rest (n,) or (b, n), the capacitor voltages without one. within: of the
    largest capacitor voltage, that an orbit may be off; rounds: of Newton's method at most."""
    rows = [network.output_index(mode) for mode in modes]
    n, count = len(network.capacitors), hz.size
    gains, rests = np.broadcast_to(gain, (count,)).astype(float), np.broadcast_to(rest, (count, n))
    wave = np.sin(2 * np.pi * np.arange(2 * steps + 1) / (2 * steps))[:, np.newaxis]
    states = _linear_start(network, hz, cutoff_hz=cutoff_hz, gains=gains, level_v=level_v, rests=rests)
    scale = np.maximum(np.abs(states).max(axis=1), 1e-6 * level_v)
    best, best_gap, ahead = states.copy(), np.full(count, np.inf), np.zeros_like(states)
    after, share = states.copy(), np.ones(count)
    settled, growth = np.zeros(count, dtype=bool), np.full(count, np.nan)
    outputs = np.zeros((len(rows), steps, count))
    for turn in range(rounds):
        left = np.flatnonzero(~settled)
        if turn == rounds // 2:
            states[left] = _run_on(network, hz[left], wave, cutoff_hz=cutoff_hz, gains=gains[left],
                                   level_v=level_v[left], states=rests[left])
            best_gap[left], share[left] = np.inf, 1.0
        nudge = 1e-5 * scale[left]
        # Beside every filter run n copies with one capacitor moved: together they tell where the orbit closes.
        begun = np.repeat(states[left, np.newaxis, :], n + 1, axis=1)
        begun[:, np.arange(1, n + 1), np.arange(n)] += nudge[:, np.newaxis]
        copies = np.repeat(left, n + 1)
        record, ended = integrate(
            [network] * copies.size, u_v=level_v[copies] * wave,
            omega=(2 * np.pi * cutoff_hz / hz[copies])[np.newaxis, :], gain=gains[np.newaxis, copies],
            half_step_s=0.5 / steps, rows=rows, states=begun.reshape(-1, n), fixed_by=1 / hz[copies],
        )
        ended = ended.reshape(left.size, n + 1, n)
        gap = ended[:, 0] - states[left]
        distance = np.abs(gap).max(axis=1)
        scale[left] = np.maximum(scale[left], np.abs(ended[:, 0]).max(axis=1))
        monodromy = np.swapaxes((ended[:, 1:] - ended[:, :1]) / nudge[:, np.newaxis, np.newaxis], 1, 2)
        step = _closing(np.eye(n) - monodromy, gap)
        closer = distance < best_gap[left]
        near = left[closer]
        outputs[:, :, near] = record[:, :, :: n + 1][:, :, closer]
        best[near], best_gap[near], ahead[near] = states[near], distance[closer], step[closer]
        after[near] = ended[closer, 0]
        there = closer & (np.abs(step).max(axis=1) < within * scale[left])
        growth[left[there]] = np.abs(np.linalg.eigvals(monodromy[there])).max(axis=1)
        settled[left[there]] = True
        if settled.all():
            break
        share[left] = np.where(closer, np.minimum(1.0, 2 * scale[left] / np.maximum(np.abs(step).max(axis=1), 1e-300)),
                               share[left] / 4)
        # Where even a short step does not close the gap, the filter itself goes on for a period and may open it.
        lost = share < 0.01
        best_gap = np.where(lost, np.inf, best_gap)
        share = np.where(lost, 1.0, share)
        ahead = np.where(lost[:, np.newaxis], after - best, ahead)
        states = best + share[:, np.newaxis] * ahead
    return Orbits(outputs, settled, growth)


def _run_on(
    network: Network, hz: FloatArray, wave: FloatArray, *, cutoff_hz: float, gains: FloatArray,
    level_v: FloatArray, states: FloatArray,
) -> FloatArray:
    """(b, n) capacitor voltages some periods later: where Newton's steps lead nowhere, waiting leads near."""
    played = np.concatenate([np.tile(wave[:-1], (WAITED, 1)), wave[-1:]])
    _, ended = integrate(
        [network] * hz.size, u_v=level_v * played, omega=(2 * np.pi * cutoff_hz / hz)[np.newaxis, :],
        gain=gains[np.newaxis, :], half_step_s=1.0 / (wave.size - 1), rows=[], states=states,
        fixed_by=1 / hz,
    )
    return ended


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
