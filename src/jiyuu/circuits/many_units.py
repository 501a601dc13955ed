"""Small-signal response of many units or many resonances at once, through their transfer functions' polynomials.

A thousand units over five hundred frequencies would be half a million linear systems; the polynomials are found once a
unit (Faddeev and LeVerrier, in the form of Gantmacher 1959, The Theory of Matrices) and evaluated over all frequencies.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.circuits.network import Affine, Network


def gains_of_units(
    network: Network, frequency_hz: FloatArray, mode: str, *, faster: FloatArray, cutoffs_hz: FloatArray,
    gains: FloatArray,
) -> ComplexArray:
    """H(j2πf) of one mode, shape (units, frequencies), of builds whose capacitors run `faster` (units, n) than the
    network's, at cutoffs_hz and loop gains (units,)."""
    angular = 2 * np.pi * np.asarray(cutoffs_hz, dtype=float)[:, np.newaxis]
    rates = np.where(network.is_tuned, network.rate_ratio * faster, network.fixed_rate / angular)
    numerator, denominator = _transfer(network, rates, gains, (mode,))
    s: ComplexArray = np.asarray(2j * np.pi * np.asarray(frequency_hz)[np.newaxis, :] / angular, dtype=np.complex128)
    return _evaluated(numerator[:, 0], s) / _evaluated(denominator, s)


def levels_over_resonance(
    network: Network, frequency_hz: FloatArray, modes: Sequence[str], *, cutoff_hz: float, gains: FloatArray
) -> FloatArray:
    """|H(j2πf)| in dB, shape (modes, gains, frequencies): one filter at many loop gains.

    An exact zero becomes −400 dB. Above the onset it is the level that the equations give, which no filter shows."""
    rates = np.broadcast_to(network.rates(cutoff_hz) / (2 * np.pi * cutoff_hz), (len(gains), len(network.capacitors)))
    numerator, denominator = _transfer(network, rates, gains, modes)
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
    numerators, denominators = _transfer(network, rates, gains, (mode,))

    def level_of(over: FloatArray, under: FloatArray) -> Callable[[FloatArray], FloatArray]:
        def level(octave: FloatArray) -> FloatArray:
            s = 1j * 2.0 ** np.asarray(octave, dtype=float) / cutoff_hz
            gain = np.abs(np.polyval(over, s)) / np.maximum(np.abs(np.polyval(under, s)), 1e-150)
            return np.asarray(20 * np.log10(np.maximum(gain, 1e-20)))

        return level

    return [level_of(over, under) for over, under in zip(numerators[:, 0], denominators, strict=True)]


def _transfer(
    network: Network, rates: FloatArray, gains: FloatArray, modes: Sequence[str]
) -> tuple[FloatArray, FloatArray]:
    """Numerators (units, modes, n + 1) and denominators (units, n + 1) in units of the cutoff's angular rate.

    rates: (units, n) of each capacitor in that unit; gains: (units,) of a network that has one."""
    rows, m = [network.output_index(mode) for mode in modes], len(network.branches)
    k = np.asarray(gains, dtype=float)[:, np.newaxis]

    def at(matrix: Affine) -> FloatArray:
        constant, per_gain = matrix.parts
        return np.asarray(constant + np.reshape(k, (-1, *[1] * constant.ndim)) * per_gain)

    inverse = np.linalg.inv(np.eye(m) - at(network.Z))
    by_state, by_input = inverse @ at(network.V), (inverse @ at(network.U)[..., np.newaxis])[..., 0]
    A = rates[..., np.newaxis] * (network.W @ by_state)
    B = rates * (by_input @ network.W.T)
    E = at(network.E)[:, rows]
    C = at(network.C)[:, rows] + E @ by_state
    D = at(network.D)[:, rows] + np.einsum("urm,um->ur", E, by_input)
    return _polynomials(A, B, C, D)


def _polynomials(A: FloatArray, B: FloatArray, C: FloatArray, D: FloatArray) -> tuple[FloatArray, FloatArray]:
    """C·adj(sI − A)·B + D·det(sI − A), shape (units, rows, n + 1), and det(sI − A), (units, n + 1); highest first."""
    units, n = A.shape[0], A.shape[1]
    denominator, numerator = np.zeros((units, n + 1)), np.zeros((units, C.shape[1], n + 1))
    denominator[:, 0] = 1.0
    identity = np.eye(n)
    adjugate = np.broadcast_to(identity, A.shape)
    for power in range(1, n + 1):
        numerator[:, :, power] = np.einsum("uri,uij,uj->ur", C, adjugate, B, optimize=True)
        product = A @ adjugate
        denominator[:, power] = -np.trace(product, axis1=1, axis2=2) / power
        adjugate = product + denominator[:, power, np.newaxis, np.newaxis] * identity
    return numerator + D[..., np.newaxis] * denominator[:, np.newaxis], denominator


def _evaluated(polynomial: FloatArray, s: ComplexArray) -> ComplexArray:
    total = np.zeros_like(s)
    for coefficient in polynomial.T:
        total = total * s + coefficient[:, np.newaxis]
    return total
