"""How a patch answers what is small: its response, side by side, and the stability of every loop before it is heard."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.circuits.compose import silent
from jiyuu.circuits.linear import StateSpace, gains_of, response_of, state_space
from jiyuu.circuits.loops import least_ringing
from jiyuu.circuits.network import Branch, Network
from jiyuu.patch.between_stages import Comb
from jiyuu.patch.document import LEFT, AnyStage, Chord, Feedback, Parallel, Patch, Stereo
from jiyuu.patch.linear_stages import Bank
from jiyuu.patch.lowering import UNIT_HZ, lowered, sides_of
from jiyuu.patch.placed_loops import PlacedLoop, loops_in, loops_of, placed_group
from jiyuu.patch.stretches import Stretch, stretches


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
    """The product of its parts."""
    answering = _Answering(patch, side, frequency_hz)
    answering.path(patch.path, "path", 0.0)
    return SideResponse(answering.gain, answering.phase_deg, answering.delay_s, answering.stable)


def path_gain(
    path: Sequence[AnyStage], frequency_hz: FloatArray, *, side: str = LEFT, octaves: float = 0.0
) -> ComplexArray:
    """(n,) V/V of a path by itself on a side; octaves: by which all cutoffs in it are moved. Raises CircuitError naming
    a stage that cannot be played."""
    alone = Patch.model_construct(name="", path=tuple(path), controls={}, routes=(), sources=(), figure=None)
    return _gain_along(alone, frequency_hz, side, octaves)


def gain_of_patch(patch: Patch, frequency_hz: FloatArray) -> ComplexArray:
    """(n,) V/V of its first side: the fast path while a control is dragged. Raises CircuitError as respond_patch."""
    return _gain_along(patch, frequency_hz, sides_of(patch)[0], 0.0)


def _gain_along(patch: Patch, frequency_hz: FloatArray, side: str, octaves: float) -> ComplexArray:
    answering = _Answering(patch, side, np.asarray(frequency_hz, dtype=float), only_gain=True)
    answering.path(patch.path, "path", octaves)
    return answering.gain


NEAR = 1e-5  # of a frequency: how far apart phases are compared for their slope


class _Answering:
    """Goes along a path and gathers what it does; only_gain: nothing else of it, several times as quickly."""

    def __init__(self, patch: Patch, side: str, frequency_hz: FloatArray, *, only_gain: bool = False) -> None:
        self.patch, self.side, self.frequency_hz, self.stable = patch, side, frequency_hz, True
        self.only_gain = only_gain
        self.gain = np.ones(frequency_hz.size, dtype=np.complex128)
        self.phase_deg, self.delay_s = np.zeros(frequency_hz.size), np.zeros(frequency_hz.size)

    def path(self, path: Sequence[AnyStage], place: str, octaves: float) -> None:
        for part in stretches(path, self.side, place, outermost=False):
            if isinstance(part, Stretch):
                network = lowered(part, self.side, patch=self.patch, octaves=octaves).network
                system = resting_system(network)
                if self.only_gain:
                    self.gain = self.gain * gains_of(system, self.frequency_hz)[0]
                    continue
                answer = response_of(system, self.frequency_hz, ("out",))
                self.behind(answer.gain[0], answer.phase_deg[0], answer.group_delay_s[0])
                self.stable &= _is_stable(network, system)
                continue
            stage = part.stage
            if isinstance(stage, Comb):
                own = stage.model_copy(update={"frequency_hz": stage.frequency_hz * 2.0**octaves})
                gain, late = own.gain(self.frequency_hz)
                self.behind(gain, np.degrees(np.angle(gain)), late)
            elif isinstance(stage, Chord):
                self.path(stage.path(), part.place, octaves)
            elif isinstance(stage, Stereo):
                way = -0.5 if self.side == LEFT else 0.5
                inner = stage.left if self.side == LEFT else stage.right
                self.path(inner, f"{part.place}.{self.side}", octaves + way * stage.spacing_octaves)
            elif isinstance(stage, Bank):  # as its bands stand: what they follow is no part of a response
                self.path((stage.model_copy(update={"follow": None}),), part.place, octaves)
            elif isinstance(stage, Parallel):
                self.branches(stage, part.place, octaves)

    def behind(self, gain: ComplexArray, phase_deg: FloatArray, delay_s: FloatArray) -> None:
        self.gain, self.phase_deg, self.delay_s = self.gain * gain, self.phase_deg + phase_deg, self.delay_s + delay_s

    def branches(self, stage: Parallel, place: str, octaves: float) -> None:
        """Their sum; its slope of phase from two frequencies close by. A branch with sources of its own gives nothing
        of what comes in."""
        f = self.frequency_hz
        near = f if self.only_gain else np.concatenate([f * (1 - NEAR), f, f * (1 + NEAR)])
        total = np.zeros(near.size, dtype=np.complex128)
        for j, limb in enumerate(stage.branches):
            if limb.sources:
                continue
            own = _Answering(self.patch, self.side, near, only_gain=self.only_gain)
            own.path(limb.path, f"{place}.branches[{j}].path", octaves)
            total += limb.factor(self.side) * own.gain
            self.stable &= own.stable
        if self.only_gain:
            self.gain = self.gain * total
            return
        before, here, after = total.reshape(3, f.size)
        with np.errstate(divide="ignore", invalid="ignore"):
            turned = np.angle(after / before)
        late = -np.nan_to_num(turned) / (2 * np.pi * 2 * NEAR * np.maximum(f, 1e-300))
        self.behind(here, np.degrees(np.unwrap(np.angle(here))), late)


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


def judged_group(bank: Bank, which: int) -> Loop | None:
    """One group of a bank with its own feedback, be that none; None for a group without a band."""
    if not any(True for _ in bank.members(which)):
        return None
    return _judged(placed_group(bank, which, bank.id or "bank", UNIT_HZ))


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
