"""Small-signal response of many units or many resonances at once, through their transfer functions' polynomials.

A thousand units over five hundred frequencies would be half a million linear systems; the polynomials are found once a
unit (Faddeev and LeVerrier, in the form of Gantmacher 1959, The Theory of Matrices) and evaluated over all frequencies.
Of many capacitors with rates far apart the polynomials' coefficients lose all their digits: these are solved one by
one.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.circuits.linear import level_db
from jiyuu.circuits.network import Affine, Network

BY_POLYNOMIALS = 6  # capacitors at most
Systems = tuple[FloatArray, FloatArray, FloatArray, FloatArray]


def gains_of_units(
    network: Network, frequency_hz: FloatArray, mode: str, *, faster: FloatArray, cutoffs_hz: FloatArray,
    gains: FloatArray,
) -> ComplexArray:
    """H(j2πf) of one mode, shape (units, frequencies), of builds whose capacitors run `faster` (units, n) than the
    network's, at cutoffs_hz and loop gains (units,)."""
    angular = 2 * np.pi * np.asarray(cutoffs_hz, dtype=float)[:, np.newaxis]
    rates = np.where(network.is_tuned, network.rate_ratio * faster, network.fixed_rate / angular)
    systems = _systems(network, rates, gains, (mode,))
    s: ComplexArray = np.asarray(2j * np.pi * np.asarray(frequency_hz)[np.newaxis, :] / angular, dtype=np.complex128)
    if rates.shape[1] > BY_POLYNOMIALS:
        return _solved(systems, s)[:, 0]
    numerator, denominator = _polynomials(*systems)
    return _evaluated(numerator[:, 0], s) / _evaluated(denominator, s)


def levels_over_resonance(
    network: Network, frequency_hz: FloatArray, modes: Sequence[str], *, cutoff_hz: float, gains: FloatArray
) -> FloatArray:
    """|H(j2πf)| in dB, shape (modes, gains, frequencies): one filter at many loop gains.

    An exact zero becomes −400 dB. Above the onset it is the level that the equations give, which no filter shows."""
    rates = np.broadcast_to(network.rates(cutoff_hz) / (2 * np.pi * cutoff_hz), (len(gains), len(network.capacitors)))
    systems = _systems(network, rates, gains, modes)
    if rates.shape[1] > BY_POLYNOMIALS:
        s = 1j * np.asarray(frequency_hz, dtype=float)[np.newaxis, :] / cutoff_hz
        return level_db(np.swapaxes(_solved(systems, s), 0, 1))
    numerator, denominator = _polynomials(*systems)
    powers = 1j ** np.arange(numerator.shape[-1])[::-1, np.newaxis] * (
        np.asarray(frequency_hz, dtype=float) / cutoff_hz
    ) ** np.arange(numerator.shape[-1])[::-1, np.newaxis]

    def power(polynomial: FloatArray) -> FloatArray:
        # Real matrices: the powers of jω are real or imaginary by turns, and so two small products do.
        return np.asarray((polynomial @ powers.real) ** 2 + (polynomial @ powers.imag) ** 2)

    over, under = power(np.swapaxes(numerator, 0, 1)), power(denominator)
    return np.asarray(10 * np.log10(np.maximum(over, 1e-40 * under) / np.maximum(under, 1e-300)))


def exact_levels(
    network: Network, mode: str, *, cutoff_hz: float, gains: FloatArray
) -> list[Callable[[FloatArray], FloatArray]]:
    """Of every loop gain the level in dB of one mode at any octaves (n,), octave = log2 of Hz: what a reading asks
    between the points of a grid, however sharp the resonance is."""
    rates = np.broadcast_to(network.rates(cutoff_hz) / (2 * np.pi * cutoff_hz), (len(gains), len(network.capacitors)))
    systems = _systems(network, rates, gains, (mode,))
    if rates.shape[1] > BY_POLYNOMIALS:
        return [partial(_level_of_one, _one_of(systems, i), cutoff_hz) for i in range(len(gains))]
    numerators, denominators = _polynomials(*systems)

    def level_of(over: FloatArray, under: FloatArray) -> Callable[[FloatArray], FloatArray]:
        def level(octave: FloatArray) -> FloatArray:
            s = 1j * 2.0 ** np.asarray(octave, dtype=float) / cutoff_hz
            gain = np.abs(np.polyval(over, s)) / np.maximum(np.abs(np.polyval(under, s)), 1e-150)
            return np.asarray(20 * np.log10(np.maximum(gain, 1e-20)))

        return level

    return [level_of(over, under) for over, under in zip(numerators[:, 0], denominators, strict=True)]


def _one_of(systems: Systems, which: int) -> Systems:
    A, B, C, D = (matrix[[which]] for matrix in systems)
    return A, B, C, D


def _level_of_one(systems: Systems, cutoff_hz: float, octave: FloatArray) -> FloatArray:
    octaves = np.asarray(octave, dtype=float)
    s: ComplexArray = np.asarray(1j * 2.0 ** octaves.reshape(1, -1) / cutoff_hz, dtype=np.complex128)
    return level_db(_solved(systems, s)[0, 0]).reshape(octaves.shape)


def _solved(systems: Systems, s: ComplexArray) -> ComplexArray:
    """(units, rows, f) at s (units or 1, f), one linear system each."""
    A, B, C, D = systems
    at = np.broadcast_to(s, (A.shape[0], s.shape[1]))
    found = np.empty((A.shape[0], C.shape[1], s.shape[1]), dtype=np.complex128)
    identity = np.eye(A.shape[1])
    for i in range(A.shape[0]):
        states = np.linalg.solve(at[i][:, np.newaxis, np.newaxis] * identity - A[i], B[i][:, np.newaxis])[..., 0]
        found[i] = C[i] @ states.T + D[i][:, np.newaxis]
    return found


def _systems(network: Network, rates: FloatArray, gains: FloatArray, modes: Sequence[str]) -> Systems:
    """A (units, n, n), B (units, n), C (units, modes, n), D (units, modes) in units of the cutoff's angular rate.

    rates: (units, n) of each capacitor in that unit; gains: (units,) of a network that has one."""
    rows, m = [network.output_index(mode) for mode in modes], len(network.branches)
    k = np.asarray(gains, dtype=float)[:, np.newaxis]

    def at(matrix: Affine) -> FloatArray:
        constant, per_gain = matrix.parts
        return np.asarray(constant + np.reshape(k, (-1, *[1] * constant.ndim)) * per_gain)

    slope = network.slopes_at_rest()
    inverse = slope[:, np.newaxis] * np.linalg.inv(np.eye(m) - at(network.Z) * slope)
    by_state, by_input = inverse @ at(network.V), (inverse @ at(network.U)[..., np.newaxis])[..., 0]
    A = rates[..., np.newaxis] * (network.W @ by_state)
    B = rates * (by_input @ network.W.T)
    E = at(network.E)[:, rows]
    C = at(network.C)[:, rows] + E @ by_state
    D = at(network.D)[:, rows] + np.einsum("urm,um->ur", E, by_input)
    return A, B, C, D


def _polynomials(A: FloatArray, B: FloatArray, C: FloatArray, D: FloatArray) -> tuple[FloatArray, FloatArray]:
    """C·adj(sI − A)·B + D·det(sI − A), shape (units, rows, n + 1), and det(sI − A), (units, n + 1); highest first."""
    units, n = A.shape[0], A.shape[1]
    denominator, numerator = np.zeros((units, n + 1)), np.zeros((units, C.shape[1], n + 1))
    denominator[:, 0] = 1.0
    identity = np.eye(n)
    adjugate = np.broadcast_to(identity, A.shape)
    for power in range(1, n + 1):
        numerator[:, :, power] = (C @ (adjugate @ B[..., np.newaxis]))[..., 0]
        product = A @ adjugate
        denominator[:, power] = -np.trace(product, axis1=1, axis2=2) / power
        adjugate = product + denominator[:, power, np.newaxis, np.newaxis] * identity
    return numerator + D[..., np.newaxis] * denominator[:, np.newaxis], denominator


def _evaluated(polynomial: FloatArray, s: ComplexArray) -> ComplexArray:
    total = np.zeros_like(s)
    for coefficient in polynomial.T:
        total = total * s + coefficient[:, np.newaxis]
    return total
