"""Small-signal response of many units at once, through the polynomials of their transfer functions.

A thousand units over five hundred frequencies would be half a million linear systems; the polynomials are found once a
unit (Faddeev and LeVerrier, in the form of Gantmacher 1959, The Theory of Matrices) and evaluated over all frequencies.
"""

from __future__ import annotations

import numpy as np

from jiyuu.circuits.linear import ComplexArray
from jiyuu.circuits.network import Affine, FloatArray, Network


def gains_of_units(
    network: Network, frequency_hz: FloatArray, mode: str, *, faster: FloatArray, cutoffs_hz: FloatArray,
    gains: FloatArray,
) -> ComplexArray:
    """H(j2πf) of one mode, shape (units, frequencies), of builds whose capacitors run `faster` (units, n) than the
    network's, at cutoffs_hz and loop gains (units,)."""
    row, m = network.output_index(mode), len(network.branches)
    k = np.asarray(gains, dtype=float)[:, np.newaxis]

    def at(matrix: Affine) -> FloatArray:
        shape = (-1, *[1] * matrix.constant.ndim)
        return np.asarray(matrix.constant + np.reshape(k, shape) * matrix.per_gain)

    inverse = np.linalg.inv(np.eye(m) - at(network.Z))
    by_state, by_input = inverse @ at(network.V), (inverse @ at(network.U)[..., np.newaxis])[..., 0]
    angular = 2 * np.pi * np.asarray(cutoffs_hz, dtype=float)[:, np.newaxis]
    rates = np.where(network.is_tuned, network.rate_ratio * faster, network.fixed_rate / angular)
    A = rates[..., np.newaxis] * (network.W @ by_state)
    B = rates * (by_input @ network.W.T)
    E = at(network.E)[:, row]
    C = at(network.C)[:, row] + np.einsum("um,umn->un", E, by_state)
    D = at(network.D)[:, row] + np.einsum("um,um->u", E, by_input)
    denominator, numerator = _polynomials(A, B, C, D)
    s: ComplexArray = np.asarray(2j * np.pi * np.asarray(frequency_hz)[np.newaxis, :] / angular, dtype=np.complex128)
    return _evaluated(numerator, s) / _evaluated(denominator, s)


def _polynomials(A: FloatArray, B: FloatArray, C: FloatArray, D: FloatArray) -> tuple[FloatArray, FloatArray]:
    """det(sI − A) and C·adj(sI − A)·B + D·det(sI − A), highest power first, shapes (units, n + 1)."""
    units, n = A.shape[0], A.shape[1]
    denominator, numerator = np.zeros((units, n + 1)), np.zeros((units, n + 1))
    denominator[:, 0] = 1.0
    identity = np.eye(n)
    adjugate = np.broadcast_to(identity, A.shape)
    for power in range(1, n + 1):
        numerator[:, power] = np.einsum("ui,uij,uj->u", C, adjugate, B)
        product = A @ adjugate
        denominator[:, power] = -np.trace(product, axis1=1, axis2=2) / power
        adjugate = product + denominator[:, power, np.newaxis, np.newaxis] * identity
    return denominator, numerator + D[:, np.newaxis] * denominator


def _evaluated(polynomial: FloatArray, s: ComplexArray) -> ComplexArray:
    total = np.zeros_like(s)
    for coefficient in polynomial.T:
        total = total * s + coefficient[:, np.newaxis]
    return total
