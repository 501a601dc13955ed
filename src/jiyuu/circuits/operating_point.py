"""Where a network rests under a steady input: the capacitor voltages at which nothing charges any more.

Offsets of the branches shift it from zero; a powered unit stands there long before a measurement begins. Found by
damped Newton steps on W·φ(v(x)) = 0. The rest state may be unstable (a filter that oscillates has one all the same).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.network import Network
from jiyuu.errors import CircuitError

_ROUNDS = 200
_SMALL_V = 1e-12


@dataclass(frozen=True, slots=True, eq=False)
class OperatingPoint:
    """Capacitor voltages state_v (n,) and the slope φ' of every branch there, slope (m,)."""

    state_v: FloatArray
    slope: FloatArray


def operating_point(network: Network, *, gain: float | FloatArray, input_v: float = 0.0) -> OperatingPoint:
    """The rest state at a loop gain, or at each (g,) that the network names, and a steady input.
    Raises CircuitError when none is found."""
    V, U, Z = network.V.at(gain), network.U.at(gain), network.Z.at(gain)
    n, m = len(network.capacitors), len(network.branches)

    def branches_at(state: FloatArray) -> tuple[FloatArray, FloatArray]:
        output, slope = np.zeros(m), np.zeros(m)
        for j, branch in enumerate(network.branches):
            voltage = V[j] @ state + U[j] * input_v + Z[j] @ output + branch.offset_v
            output[j], slope[j] = branch.at(np.asarray(voltage))
        # A branch driven flat still gives Newton a direction.
        slope = np.maximum(slope, 1e-12)
        return output, slope

    state = np.zeros(n)
    output, slope = branches_at(state)
    current = network.W @ output
    for _ in range(_ROUNDS):
        if np.abs(current).max(initial=0.0) < _SMALL_V:
            return OperatingPoint(state, slope)
        inverse = np.linalg.inv(np.eye(m) - slope[:, np.newaxis] * Z)
        jacobian = network.W @ (inverse @ (slope[:, np.newaxis] * V))
        # A singular direction (an integrator that nothing holds) is left where it is.
        step = np.linalg.lstsq(jacobian, -current, rcond=1e-13)[0]
        size = np.linalg.norm(current)
        share = 1.0
        while True:
            trial = state + share * step
            output, slope_there = branches_at(trial)
            moved = network.W @ output
            if np.linalg.norm(moved) < size or share < 1e-9:
                break
            share /= 2
        if share < 1e-9:
            # Rounding is all that is left when the step no longer helps.
            if size < 1e-9:
                return OperatingPoint(state, slope)
            break
        state, slope, current = trial, slope_there, moved
    raise CircuitError(f"No rest state was found at k = {gain:g} and {input_v:g} V; check offsets and headrooms.")
