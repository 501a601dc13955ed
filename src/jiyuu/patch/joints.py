"""What the sources come to behind every stage of a path: by small signal, but not above the limit of a curve."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.circuits.compose import silent
from jiyuu.circuits.linear import complex_gain
from jiyuu.circuits.network import Branch, BranchKind
from jiyuu.patch.between_stages import Comb, Crush
from jiyuu.patch.document import LEFT, AnyStage, Chord, Curve, Feedback, Parallel, Shape, Stereo, inner_paths
from jiyuu.patch.editing import Place
from jiyuu.patch.lowering import UNIT_HZ, path_network

# Gains (n,) from what comes in, at (), and from a branch's own sources, by the branch's place.
Heard = Mapping[Place, ComplexArray]
PeakOf = Callable[[Heard], float]


@dataclass(frozen=True, slots=True)
class Joints:
    """peak_v: volts behind every stage by its place; output_v: behind the last. A stage that is off bears what it is
    given; one of a side that is not looked at has none."""

    peak_v: dict[Place, float]
    output_v: float


@dataclass(slots=True)
class _Walk:
    frequency_hz: FloatArray
    side: str
    peak_of: PeakOf
    peaks: dict[Place, float] = field(default_factory=dict)

    def path(self, path: tuple[AnyStage, ...], before: Place, given: Heard, octaves: float) -> Heard:
        """Gains from the sources to behind the path, from those ahead of it."""
        for i, stage in enumerate(path):
            place = (*before, i)
            if not stage.off:
                given = self.stage(stage, place, given, octaves)
            self.peaks[place] = self.peak_of(given)
        return given

    def stage(self, stage: AnyStage, place: Place, given: Heard, octaves: float) -> Heard:
        if isinstance(stage, Parallel):
            alone: Heard = {(): np.zeros(self.frequency_hz.size, dtype=complex)}
            return _sum([alone, *(
                _times(self.path(limb.path, (*place, k), {(*place, k): self.one()} if limb.sources else given, octaves),
                       limb.factor(self.side)) for k, limb in enumerate(stage.branches))])
        if isinstance(stage, Chord):
            return self.stage(stage.path()[0], place, given, octaves)
        if isinstance(stage, Comb):
            own = stage.model_copy(update={"frequency_hz": stage.frequency_hz * 2.0**octaves})
            return _times(given, own.gain(self.frequency_hz)[0])
        if isinstance(stage, Crush):
            return given
        if isinstance(stage, Stereo):
            left = self.side == LEFT
            half = 0.5 * stage.spacing_octaves * (-1 if left else 1)
            return self.path(inner_paths(stage)[0 if left else 1], (*place, 0 if left else 1), given, octaves + half)
        if isinstance(stage, Feedback):
            open_loop = self.answer(stage.path, octaves)
            back = 1.0 if stage.through is None else _slope(stage.through)
            return self.path(stage.path, (*place, 0), _times(given, 1 / (1 - stage.amount * back * open_loop)), octaves)
        after = _times(given, self.answer((stage,), octaves))
        if isinstance(stage, Shape) and stage.branch_kind is not BranchKind.ASINH:
            peak_v, limit_v = self.peak_of(after), _limit_v(stage)
            if peak_v > limit_v:
                after = _times(after, limit_v / peak_v)
        return after

    def one(self) -> ComplexArray:
        return np.ones(self.frequency_hz.size, dtype=np.complex128)

    def answer(self, path: tuple[AnyStage, ...], octaves: float) -> ComplexArray:
        network = silent(path_network(path, self.side, "path", octaves))
        return complex_gain(network, self.frequency_hz, cutoff_hz=UNIT_HZ, gain=0.0, modes=["out"])[0]


def _times(given: Heard, gain: ComplexArray | float) -> Heard:
    return {place: np.asarray(one * gain) for place, one in given.items()}


def _sum(several: Sequence[Heard]) -> Heard:
    places = dict.fromkeys(place for heard in several for place in heard)
    return {place: np.asarray(sum(heard[place] for heard in several if place in heard)) for place in places}


def _slope(curve: Curve) -> float:
    return float(Branch("curve", curve.branch_kind, curve.headroom_v).at(np.asarray(curve.bias_v))[1])


def _limit_v(curve: Curve) -> float:
    """The farthest a curve that limits can go from where it rests."""
    rest = float(Branch("curve", curve.branch_kind, curve.headroom_v).at(np.asarray(curve.bias_v))[0])
    return curve.headroom_v + abs(rest)


def joints_of(
    path: tuple[AnyStage, ...], frequency_hz: FloatArray, peak_of: PeakOf, *, side: str = LEFT
) -> Joints:
    """peak_of: peak volts of all sources together, each behind its gain (n,) over frequency_hz. Raises CircuitError
    where a stage cannot be played."""
    walk = _Walk(frequency_hz, side, peak_of)
    behind = walk.path(path, (), {(): walk.one()}, 0.0)
    return Joints(walk.peaks, peak_of(behind))
