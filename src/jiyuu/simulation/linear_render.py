"""A network of straight branches that nothing moves needs no integrator: its response, applied to the spectrum, is its
output, at any frequency without error."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.circuits.linear import StateSpace, state_space
from jiyuu.circuits.network import BranchKind, Network
from jiyuu.signals.long_record import Record, weighted
from jiyuu.signals.transforms import irfft, next_fast_len, rfft
from jiyuu.stopping import checkpoint

BLOCK = 1 << 17  # samples at a time, at least
GONE = 25.0  # nats by which a ring has died when it is let go: −217 dB
LONGEST = 1 << 22  # samples of a ring; what rings longer is integrated
ALIKE = 1e-7  # of the response, that its sum over poles may differ from the equations


def is_straight(network: Network) -> bool:
    """Whether no branch bends and no output moves its own controls."""
    return not network.is_modulated and all(
        branch.kind is BranchKind.LINEAR and not branch.offset_v for branch in network.branches)


def through_straight(
    network: Network, played: Record, sample_rate_hz: float, *, cutoff_hz: FloatArray, gain: FloatArray
) -> Record | None:
    """Volts of its one output for what is played, from rest; None where that is no way to find it: for a network
    that is not stable, rings for minutes, or whose poles coincide."""
    if not is_straight(network):
        return None
    system = state_space(network, cutoff_hz=cutoff_hz, gain=gain)
    moving = np.flatnonzero(network.rates(cutoff_hz) > 0)
    A = system.A[np.ix_(moving, moving)]
    if not moving.size:
        return weighted([played], [float(system.D[0])])
    poles, vectors = np.linalg.eig(A)
    slowest = -float(poles.real.max()) * system.rate
    if slowest <= 0 or GONE / slowest * sample_rate_hz > LONGEST:
        return None
    try:
        weights = (system.C[0, moving] @ vectors) * np.linalg.solve(vectors, system.B[moving].astype(complex))
    except np.linalg.LinAlgError:
        return None
    if not _is_the_response(system, A, moving, poles, weights):
        return None
    ring = int(GONE / slowest * sample_rate_hz) + 1
    return answered(played, sample_rate_hz, ring, lambda hertz: _response(
        poles, weights, float(system.D[0]), hertz, system.rate))


def answered(
    played: Record, sample_rate_hz: float, ring: int, response: Callable[[FloatArray], ComplexArray]
) -> Record:
    """Volts behind a response that has rung out after so many samples."""
    size = next_fast_len(max(BLOCK, 2 * ring))
    answer = response(np.asarray(np.fft.rfftfreq(size, 1 / sample_rate_hz)))
    step = size - ring
    out, rings_on = Record(), np.zeros(ring)
    for block in played.blocks(step):
        checkpoint()
        found = irfft(rfft(block, size) * answer, size)
        found[:ring] += rings_on
        out.add(found[: block.size])
        rings_on = found[block.size : block.size + ring]
    return out


def _response(
    poles: ComplexArray, weights: ComplexArray, through: float, frequency_hz: FloatArray, rate: float
) -> ComplexArray:
    s = 2j * np.pi * frequency_hz / rate
    total = np.full(s.size, through, dtype=np.complex128)
    for pole, weight in zip(poles, weights, strict=True):
        total += weight / (s - pole)
    return total


def _is_the_response(
    system: StateSpace, A: FloatArray, moving: np.ndarray, poles: ComplexArray, weights: ComplexArray
) -> bool:
    """Poles that coincide have no sum of their own: then the sum is not what the equations say."""
    turns = np.concatenate([np.abs(poles), np.geomspace(1e-3, 1e3, 12)])
    direct = np.array([system.C[0, moving] @ np.linalg.solve(1j * w * np.eye(moving.size) - A, system.B[moving])
                       for w in turns])
    summed = _response(poles, weights, 0.0, np.asarray(turns / (2 * np.pi), dtype=float), 1.0)
    return bool(np.abs(summed - direct).max() < ALIKE * max(float(np.abs(direct).max()), 1e-12))
