"""An output fed back to the input: from which amount on it rings by itself, and where."""

from __future__ import annotations

import numpy as np
import scipy

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.circuits.linear import StateSpace

SEARCH_HZ = (1e-4, 1e7)
PER_DECADE = 400
NEAR_POLE = np.concatenate([-np.geomspace(30, 1e-3, 60), [0.0], np.geomspace(1e-3, 30, 60)])  # of its half width
AT_REST = 1e-9  # re the unit: a pole so near to the axis stands on it


def least_ringing(system: StateSpace, slope: float, sign: float, *, unit_hz: float) -> tuple[float, float] | None:
    """(amount, Hz) of the least amount of that sign with which amount·slope·P(jω) = 1 somewhere on the axis, P the
    system's one output; None where no amount does. unit_hz: of the system's time; 0 Hz: it sticks."""

    def inside(omega: FloatArray) -> ComplexArray:
        matrices = 1j * omega[:, np.newaxis, np.newaxis] * np.eye(system.A.shape[0]) - system.A
        sides = np.broadcast_to(system.B.astype(complex), (omega.size, system.B.size))[..., np.newaxis]
        return np.asarray(np.linalg.solve(matrices, sides)[..., 0] @ system.C[0] + system.D[0])

    def one(omega: float) -> float:
        return float(inside(np.array([omega]))[0].imag)

    low, high = (hertz / unit_hz for hertz in SEARCH_HZ)
    places = [np.geomspace(low, high, round(PER_DECADE * np.log10(high / low)))]
    for pole in np.linalg.eigvals(system.A):
        # A sharp resonance turns the phase by half a turn within its own width.
        places.append(abs(pole.imag) + max(abs(pole.real), 1e-9) * NEAR_POLE)
    omega = np.unique(np.concatenate(places))
    omega = omega[omega >= low]
    gain = inside(omega)
    strongest = float(np.abs(gain).max())
    found: list[tuple[float, float]] = []
    at_rest = float(inside(np.array([low]))[0].real)
    if abs(at_rest) > AT_REST * strongest:
        found.append((at_rest, 0.0))
    for i in np.flatnonzero(np.sign(gain.imag[:-1]) * np.sign(gain.imag[1:]) < 0):
        place = scipy.optimize.brentq(one, float(omega[i]), float(omega[i + 1]), xtol=1e-15, rtol=1e-13)
        there = inside(np.array([place]))[0]
        if abs(there.imag) < 1e-6 * abs(there):  # else it jumps there: a pole on the axis
            found.append((float(there.real), place * unit_hz))
    amounts = [(1 / (slope * real), hertz) for real, hertz in found if slope * real * sign > AT_REST * strongest]
    return min(amounts, key=lambda pair: abs(pair[0]), default=None)
