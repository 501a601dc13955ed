"""Poles and zeros as the values of their factors, by which a network is fitted, and back again."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement import factors_kernel


def factors_of(roots: ComplexArray) -> FloatArray:
    """Roots (n,) as the values of their factors: b and a of s² + a·s + b for every two, then c of s + c."""
    upper = roots[roots.imag > 1e-12 * np.abs(roots)]
    real = np.sort(roots[np.abs(roots.imag) <= 1e-12 * np.abs(roots)].real)
    values: list[float] = []
    for root in upper:
        values += [float(abs(root) ** 2), float(-2 * root.real)]
    while real.size > 1:
        values += [float(real[0] * real[1]), float(-real[0] - real[1])]
        real = real[2:]
    return np.array([*values, *(-real)], dtype=float)


def roots_of(factors: FloatArray) -> ComplexArray:
    """(n,) the other way round."""
    return np.asarray(factors_kernel.roots_of(np.asarray(factors, dtype=float)))


def roots_from(coefficients: FloatArray) -> ComplexArray:
    """(n,) of a polynomial by its coefficients (n,), lowest first and without its leading 1."""
    return np.asarray(np.roots(np.append(1.0, coefficients[::-1])), dtype=complex)
