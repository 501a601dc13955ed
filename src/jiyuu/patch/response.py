"""How a patch answers what is small: its response, side by side, and the stability of every loop before it is heard."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.optimize import brentq

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.circuits.compose import silent
from jiyuu.circuits.linear import StateSpace, response_of, state_space
from jiyuu.circuits.network import Branch, Network
from jiyuu.patch.document import Patch
from jiyuu.patch.lowering import UNIT_HZ, PlacedLoop, closed, loops_of, network_of, sides_of

SEARCH_HZ = (1e-4, 1e7)
PER_DECADE = 400
NEAR_POLE = np.concatenate([-np.geomspace(30, 1e-3, 60), [0.0], np.geomspace(1e-3, 30, 60)])  # of its half width
AT_REST = 1e-9  # re the unit: a pole so near to the axis stands on it


@dataclass(frozen=True, slots=True, eq=False)
class SideResponse:
    """gain (n,) V/V, phase_deg (n,) continuous, group_delay_s (n,) of one side; stable: whether all its poles are."""

    gain: ComplexArray
    phase_deg: FloatArray
    group_delay_s: FloatArray
    stable: bool


@dataclass(frozen=True, slots=True)
class Loop:
    """A feedback stage judged alone: whether it is stable; the least amount of its sign at which it begins to ring, and
    where (0 Hz: it sticks); both None where no amount of that sign does."""

    called: str
    stable: bool
    amount_to_ring: float | None
    rings_at_hz: float | None


def resting_slopes(network: Network) -> FloatArray:
    """(m,) φ' of every branch while nothing sounds: all capacitors of a patch are empty then."""
    Z = network.Z.at(0.0)
    output, slope = np.zeros(len(network.branches)), np.ones(len(network.branches))
    for j, branch in enumerate(network.branches):
        output[j], slope[j] = branch.at(np.asarray(Z[j] @ output + branch.offset_v))
    return slope


def resting_system(network: Network) -> StateSpace:
    """Linearised where nothing sounds, in time units of 1/(2π·UNIT_HZ)."""
    return state_space(network, cutoff_hz=UNIT_HZ, gain=0.0, slope=resting_slopes(network))


def respond_patch(patch: Patch, frequency_hz: FloatArray) -> list[SideResponse]:
    """One for every side. Raises CircuitError naming a stage that cannot be played."""
    found = []
    for side in sides_of(patch):
        network = network_of(patch, side)
        system = resting_system(network)
        answer = response_of(system, frequency_hz, ("out",))
        found.append(SideResponse(answer.gain[0], answer.phase_deg[0], answer.group_delay_s[0],
                                  _is_stable(network, system)))
    return found


def judged_loops(patch: Patch) -> list[Loop]:
    """Every feedback stage once; where the sides differ, by the one that rings first."""
    found: dict[str, Loop] = {}
    for side in sides_of(patch):
        for placed in loops_of(patch, side):
            loop = _judged(placed)
            other = found.get(placed.called)
            found[placed.called] = loop if other is None else _worse(loop, other)
    return list(found.values())


def _worse(one: Loop, other: Loop) -> Loop:
    first = min((one, other), key=lambda loop: np.inf if loop.amount_to_ring is None else abs(loop.amount_to_ring))
    return Loop(one.called, one.stable and other.stable, first.amount_to_ring, first.rings_at_hz)


def _is_stable(network: Network, system: StateSpace) -> bool:
    """Rows that never move, such as a coupling left out, do not count."""
    moving = network.rates(UNIT_HZ) > 0
    found = np.linalg.eigvals(system.A[np.ix_(moving, moving)])
    return bool((found.real < 0).all())


def _judged(placed: PlacedLoop) -> Loop:
    whole = silent(closed(placed.inside, placed.stage, placed.called))
    stable = _is_stable(whole, resting_system(whole))
    curve = placed.stage.through
    slope = 1.0 if curve is None else float(
        Branch("through", curve.branch_kind, curve.headroom_v).at(np.asarray(curve.bias_v))[1])
    ring = _rings(resting_system(silent(placed.inside)), slope, 1.0 if placed.stage.amount >= 0 else -1.0)
    return Loop(placed.called, stable, *(ring or (None, None)))


def _rings(system: StateSpace, slope: float, sign: float) -> tuple[float, float] | None:
    """(amount, Hz) of the least amount of that sign with which amount·slope·P(jω) = 1 somewhere on the axis."""

    def inside(omega: FloatArray) -> ComplexArray:
        matrices = 1j * omega[:, np.newaxis, np.newaxis] * np.eye(system.A.shape[0]) - system.A
        sides = np.broadcast_to(system.B.astype(complex), (omega.size, system.B.size))[..., np.newaxis]
        return np.asarray(np.linalg.solve(matrices, sides)[..., 0] @ system.C[0] + system.D[0])

    def one(omega: float) -> float:
        return float(inside(np.array([omega]))[0].imag)

    low, high = (hertz / UNIT_HZ for hertz in SEARCH_HZ)
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
        place = brentq(one, float(omega[i]), float(omega[i + 1]), xtol=1e-15, rtol=1e-13)
        there = inside(np.array([place]))[0]
        if abs(there.imag) < 1e-6 * abs(there):  # else it jumps there: a pole on the axis
            found.append((float(there.real), place * UNIT_HZ))
    amounts = [(1 / (slope * real), hertz) for real, hertz in found if slope * real * sign > AT_REST * strongest]
    return min(amounts, key=lambda pair: abs(pair[0]), default=None)
