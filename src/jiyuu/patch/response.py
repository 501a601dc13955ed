"""How a patch answers what is small: its response, side by side, and the stability of every loop before it is heard."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.circuits.compose import silent
from jiyuu.circuits.linear import StateSpace, response_of, state_space
from jiyuu.circuits.loops import least_ringing
from jiyuu.circuits.network import Branch, Network
from jiyuu.patch.document import AnyStage, Feedback, Patch
from jiyuu.patch.linear_stages import Comb
from jiyuu.patch.lowering import UNIT_HZ, PlacedLoop, loops_in, loops_of, network_of, pieces_of, sides_of


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


def resting_system(network: Network) -> StateSpace:
    """Linearised where nothing sounds, in time units of 1/(2π·UNIT_HZ)."""
    return state_space(network, cutoff_hz=UNIT_HZ, gain=0.0)


def respond_patch(patch: Patch, frequency_hz: FloatArray) -> list[SideResponse]:
    """One for every side. Raises CircuitError naming a stage that cannot be played."""
    return [_side(patch, side, np.asarray(frequency_hz, dtype=float)) for side in sides_of(patch)]


def _side(patch: Patch, side: str, frequency_hz: FloatArray) -> SideResponse:
    """The product of its pieces."""
    gain = np.ones(frequency_hz.size, dtype=np.complex128)
    phase_deg, delay_s, stable = np.zeros(gain.size), np.zeros(gain.size), True
    for piece in pieces_of(patch):
        if isinstance(piece, Comb):
            own, late = piece.gain(frequency_hz)
            gain, phase_deg, delay_s = gain * own, phase_deg + np.degrees(np.angle(own)), delay_s + late
            continue
        network = network_of(piece, side)
        system = resting_system(network)
        answer = response_of(system, frequency_hz, ("out",))
        gain, phase_deg = gain * answer.gain[0], phase_deg + answer.phase_deg[0]
        delay_s, stable = delay_s + answer.group_delay_s[0], stable and _is_stable(network, system)
    return SideResponse(gain, phase_deg, delay_s, stable)


def judged_loops(patch: Patch) -> list[Loop]:
    """Every feedback stage once; where the sides differ, by the one that rings first."""
    found: dict[str, Loop] = {}
    for side in sides_of(patch):
        for placed in loops_of(patch, side):
            loop = _judged(placed)
            other = found.get(placed.called)
            found[placed.called] = loop if other is None else _worse(loop, other)
    return list(found.values())


def judged_loop(path: tuple[AnyStage, ...], stage: Feedback, side: str) -> Loop | None:
    """One feedback stage of a path, on a side; None where that side does not pass it, or it is off. Raises CircuitError
    where its path answers at once."""
    return next((_judged(placed) for placed in loops_in(path, side) if placed.stage is stage), None)


def _worse(one: Loop, other: Loop) -> Loop:
    first = min((one, other), key=lambda loop: np.inf if loop.amount_to_ring is None else abs(loop.amount_to_ring))
    return Loop(one.called, one.stable and other.stable, first.amount_to_ring, first.rings_at_hz)


def _is_stable(network: Network, system: StateSpace) -> bool:
    """Rows that never move, such as a coupling left out, do not count."""
    moving = network.rates(UNIT_HZ) > 0
    found = np.linalg.eigvals(system.A[np.ix_(moving, moving)])
    return bool((found.real < 0).all())


def _judged(placed: PlacedLoop) -> Loop:
    whole = silent(placed.whole)
    stable = _is_stable(whole, resting_system(whole))
    stage = placed.stage
    amount, curve = (stage.amount, stage.through) if isinstance(stage, Feedback) else (stage.feedback, None)
    slope = 1.0 if curve is None else float(
        Branch("through", curve.branch_kind, curve.headroom_v).at(np.asarray(curve.bias_v))[1])
    ring = least_ringing(resting_system(silent(placed.inside)), slope, 1.0 if amount >= 0 else -1.0, unit_hz=UNIT_HZ)
    return Loop(placed.called, stable, *(ring or (None, None)))
