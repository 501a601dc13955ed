"""Where a driven network comes to rest: the orbit that a period of its drive leads back to.

Time is counted in periods of the drive, so that filters driven at different frequencies step side by side. Instead of
waiting until a sharp resonance has died away, Newton's method looks for the state that a period leads back to
(shooting; Nayfeh and Balachandran 1995, Applied Nonlinear Dynamics).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.linear import state_space
from jiyuu.circuits.network import Network
from jiyuu.simulation.kernels import integrate

STEPS_A_RADIAN = 3.0  # of the fastest stage; fourth order leaves 1e-6 of the output
SETTLED = 1e-5  # Newton's last step re the largest capacitor voltage; what is left is its square
ROUNDS = 60
BATCH = 16


def steps_of(network: Network, hz: FloatArray, *, cutoff_hz: float, gain: float, fewest: int) -> np.ndarray:
    """(b,) integration steps that a period of each drive needs, powers of two."""
    fastest = 2 * np.pi * cutoff_hz * max(float(network.rate_ratio.max(initial=1.0)), 1.0) * (1 + 0.3 * gain)
    fastest = max(fastest, float(network.fixed_rate.max(initial=0.0)))
    wanted = np.maximum(fewest, STEPS_A_RADIAN * fastest / hz)
    return np.asarray((2 ** np.ceil(np.log2(wanted))).astype(int))


def settled_periods(
    network: Network, hz: FloatArray, steps: int, *, cutoff_hz: float, gain: float, level_v: FloatArray,
    modes: Sequence[str], rest: FloatArray,
) -> tuple[FloatArray, np.ndarray]:
    """(outputs (r, steps, b) volts over one period of a sine that begins at 0, whether each settled (b,)): hz and
    level_v (b,) of the drives, rest (n,) the capacitor voltages without one."""
    rows = [network.output_index(mode) for mode in modes]
    n, count = rest.size, hz.size
    # One unit of time is a period of the drive: rates are rad per period, for fixed rows through their own table.
    # Beside every filter run n copies with one capacitor moved: together they tell where the orbit closes.
    networks = [replace(network, fixed_rate=network.fixed_rate / f) for f in hz for _ in range(n + 1)]
    omega = np.repeat(2 * np.pi * cutoff_hz / hz, n + 1)[np.newaxis, :]
    phase = 2 * np.pi * np.arange(2 * steps + 1) / (2 * steps)
    u = np.repeat(level_v, n + 1)[np.newaxis, :] * np.sin(phase)[:, np.newaxis]
    states = _linear_start(network, hz, cutoff_hz=cutoff_hz, gain=gain, level_v=level_v, rest=rest)
    scale = np.maximum(np.abs(states).max(axis=1), 1e-6 * level_v)
    best, best_gap, ahead = states.copy(), np.full(count, np.inf), np.zeros_like(states)
    after, share = states.copy(), np.ones(count)
    settled = np.zeros(count, dtype=bool)
    outputs = np.zeros((len(rows), steps, count))
    for _ in range(ROUNDS):
        nudge = 1e-5 * scale
        begun = np.repeat(states[:, np.newaxis, :], n + 1, axis=1)
        begun[:, np.arange(1, n + 1), np.arange(n)] += nudge[:, np.newaxis]
        record, ended = integrate(
            networks, u_v=u, omega=omega, gain=np.array([[gain]]), half_step_s=0.5 / steps, rows=rows,
            states=begun.reshape(-1, n),
        )
        ended = ended.reshape(count, n + 1, n)
        gap = ended[:, 0] - states
        distance = np.abs(gap).max(axis=1)
        scale = np.maximum(scale, np.abs(ended[:, 0]).max(axis=1))
        monodromy = np.swapaxes((ended[:, 1:] - ended[:, :1]) / nudge[:, np.newaxis, np.newaxis], 1, 2)
        step = _closing(np.eye(n) - monodromy, gap)
        closer = (distance < best_gap) & ~settled
        outputs = np.where(closer, record[:, :, :: n + 1], outputs)
        best[closer], best_gap[closer], ahead[closer] = states[closer], distance[closer], step[closer]
        after[closer] = ended[closer, 0]
        settled |= closer & (np.abs(step).max(axis=1) < SETTLED * scale)
        if settled.all():
            break
        share = np.where(closer, np.minimum(1.0, 2 * scale / np.maximum(np.abs(step).max(axis=1), 1e-300)), share / 4)
        # Where even a short step does not close the gap, the filter itself goes on for a period and may open it.
        lost = share < 0.01
        best_gap = np.where(lost, np.inf, best_gap)
        share = np.where(lost, 1.0, share)
        ahead = np.where(lost[:, np.newaxis], after - best, ahead)
        states = best + share[:, np.newaxis] * ahead
    return outputs, settled


def _closing(matrices: FloatArray, gap: FloatArray) -> FloatArray:
    """Newton's steps (b, n). Where a state keeps itself over a period (a matrix that cannot be inverted) the shortest
    step that closes the rest."""
    try:
        return np.asarray(np.linalg.solve(matrices, gap[..., np.newaxis])[..., 0])
    except np.linalg.LinAlgError:
        return np.asarray((np.linalg.pinv(matrices) @ gap[..., np.newaxis])[..., 0])


def _linear_start(
    network: Network, hz: FloatArray, *, cutoff_hz: float, gain: float, level_v: FloatArray, rest: FloatArray
) -> FloatArray:
    """(b, n) capacitor voltages that the linear filter would have at phase 0, no more than the drive can charge: most
    of the settling is done before it begins."""
    system = state_space(network, cutoff_hz=cutoff_hz, gain=gain)
    s = 2j * np.pi * hz / system.rate
    n = system.A.shape[0]
    drive = np.tile(system.B, (hz.size, 1))[..., np.newaxis]
    phasors = np.linalg.solve(s[:, None, None] * np.eye(n) - system.A, drive)[..., 0]
    start = np.imag(phasors) * level_v[:, np.newaxis]
    largest = max(b.headroom_v for b in network.branches) * 3
    over = np.maximum(np.abs(start).max(axis=1, keepdims=True) / largest, 1.0)
    return np.asarray(rest[np.newaxis, :] + start / over)
