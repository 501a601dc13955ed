"""What becomes one network: gain, curve, filter, parallel, feedback and the path itself, one network a side."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.compose import (
    feedback,
    held,
    levelled,
    named,
    only,
    parallel,
    scaled,
    series,
    shaper,
    silent,
    wire,
)
from jiyuu.circuits.network import Affine, Branch, Network
from jiyuu.circuits.sections import all_pass, bank_group, chain, side_by_side
from jiyuu.errors import CircuitError
from jiyuu.patch.document import (
    AnyStage,
    Curve,
    Feedback,
    FilterStage,
    Gain,
    Pair,
    Parallel,
    Patch,
    Shape,
    Stereo,
    inner_paths,
)
from jiyuu.patch.inside import Tap, inner_routes, patched_in, tap_of
from jiyuu.patch.linear_stages import AllPass, Bank, Comb, Formants, Group, Shapes

UNIT_HZ = 1000.0  # a network has one cutoff; those of a patch are ratios to this one
LEFT, RIGHT = "left", "right"
OUTPUT_LEVEL = "output.level"


def is_stereo(patch: Patch) -> bool:
    """Whether left and right differ: whether a stereo stage stands anywhere in it."""
    return splits(patch.path)


def splits(path: Sequence[AnyStage]) -> bool:
    """The same of a path by itself; a stage that is off does not count, nor what is inside it."""
    return any(isinstance(stage, Stereo) or (isinstance(stage, Pair) and stage.arrangement == "stereo")
               or any(splits(inner) for inner in inner_paths(stage))
               for stage in path if not stage.off)


def sides_of(patch: Patch) -> tuple[str, ...]:
    return (LEFT, RIGHT) if is_stereo(patch) else (LEFT,)


@dataclass(frozen=True, slots=True, eq=False)
class Lowered:
    """One side as one network, its output 'out': cutoff_hz (c,) and gain (g,) that its named controls stand at."""

    network: Network
    cutoff_hz: FloatArray
    gain: FloatArray


def network_of(patch: Patch, side: str = LEFT) -> Network:
    """All of one side where nothing moves: the output 'out', cutoffs as ratios to UNIT_HZ. Raises CircuitError naming a
    stage that cannot be played."""
    return lowered(patch, side).network


def lowered(patch: Patch, side: str = LEFT, moving: Collection[str] = ()) -> Lowered:
    """One side in which the controls named stay free ('first.cutoff', 'first.resonance', 'drive.level',
    'loop.feedback', 'output.level') and everything else is fixed. Raises CircuitError as network_of does."""
    return _lowered(_Lowering(side, frozenset(moving)), patch.path, patch)


def pieces_of(patch: Patch) -> list[Patch | Comb]:
    """The path between its combs, each piece a patch of its own. Raises CircuitError where an output moves a control
    past a comb."""
    if not any(isinstance(stage, Comb) and not stage.off for stage in patch.path):
        return [patch]
    if any(True for _ in inner_routes(patch)):
        raise CircuitError("routes: a stage's own output cannot move a control of a path with a comb in it yet; take "
                           "the comb out, or the route.")
    found: list[Patch | Comb] = []
    run: list[AnyStage] = []
    for stage in patch.path:
        if isinstance(stage, Comb) and not stage.off:
            found += [patch.model_copy(update={"path": tuple(run)}), stage]
            run = []
        else:
            run.append(stage)
    return [*found, patch.model_copy(update={"path": tuple(run)})]


def lowered_path(path: Sequence[AnyStage], side: str = LEFT, moving: Collection[str] = ()) -> Lowered:
    """The same of a path by itself."""
    return _lowered(_Lowering(side, frozenset(moving)), path, None)


def _lowered(lowering: _Lowering, path: Sequence[AnyStage], patch: Patch | None) -> Lowered:
    network = lowering.path(path, "path", 0.0)
    if OUTPUT_LEVEL in lowering.moving:
        network = lowering.levelled(network, OUTPUT_LEVEL, 1.0)
    network = silent(network)
    if patch is not None:
        network = patched_in(patch, network, lowering.taps)
    return Lowered(network, np.array([lowering.bases.get(name, UNIT_HZ) for name in network.cutoffs]),
                   np.array([lowering.bases[name] for name in network.gains]))


def path_network(path: Sequence[AnyStage], side: str, place: str, octaves: float) -> Network:
    """A path by itself, everything in it fixed. octaves: by which all cutoffs in it are moved."""
    return _Lowering(side, frozenset()).path(path, place, octaves)


class _Lowering:
    """Stages into networks; bases: where the controls that stay free stand, by name."""

    def __init__(self, side: str, moving: frozenset[str]) -> None:
        self.side, self.moving = side, moving
        self.bases: dict[str, float] = {}
        self.taps: dict[str, Tap] = {}

    def path(self, path: Sequence[AnyStage], place: str, octaves: float) -> Network:
        found: Network | None = None
        factor = 1.0
        for i, stage in enumerate(path):
            if stage.off:
                continue
            if isinstance(stage, Gain):  # what only multiplies needs no joint
                if f"{stage.id}.level" in self.moving:
                    found = self.levelled(scaled(found or wire(), factor), f"{stage.id}.level", stage.factor)
                    factor = 1.0
                else:
                    factor *= stage.factor
                continue
            own = self.stage(stage, f"{place}[{i}]", octaves)
            first = found is None and factor == 1
            found = own if first else series(scaled(found or wire(), factor), "out", own)
            factor = 1.0
        return scaled(found or wire(), factor)

    def levelled(self, network: Network, name: str, factor: float) -> Network:
        self.bases[name] = factor
        return levelled(network, name)

    def stage(self, stage: AnyStage, place: str, octaves: float) -> Network:
        """Raises CircuitError for what is no network."""
        called = stage.id or place
        if isinstance(stage, Shape):
            return named(_curve(stage), called)
        if isinstance(stage, FilterStage):
            return self.filter(stage, called, octaves)
        if isinstance(stage, Pair):
            return self.path(stage.path(), called, octaves)
        if isinstance(stage, Comb):
            raise CircuitError(f"{called}: a comb stands between networks: it can be played in the path itself, not in "
                               "a branch, a loop or beside a filter in hand yet.")
        if isinstance(stage, Bank | Formants | Shapes | AllPass):
            return _linear(stage, called, UNIT_HZ / 2.0**octaves)
        if isinstance(stage, Stereo):
            inner = stage.left if self.side == LEFT else stage.right
            half = 0.5 * stage.spacing_octaves
            return self.path(inner, f"{place}.{self.side}", octaves + (-half if self.side == LEFT else half))
        if isinstance(stage, Parallel):
            total: Network | None = None
            for j, limb in enumerate(stage.branches):
                own = scaled(self.path(limb.path, f"{place}.branches[{j}].path", octaves), limb.factor)
                total = own if total is None else only(parallel(total, "out", own, "out"), "sum")
            assert total is not None
            return total
        assert isinstance(stage, Feedback)
        amount = f"{called}.feedback"
        if amount in self.moving:
            self.bases[amount] = stage.amount
        return closed(self.path(stage.path, f"{place}.path", octaves), stage, called,
                      moved_by=amount if amount in self.moving else "")

    def filter(self, stage: FilterStage, called: str, octaves: float) -> Network:
        document = stage.document
        cutoff_hz = document.cutoff_hz
        if octaves:
            cutoff_hz = float(np.clip(cutoff_hz * 2.0**octaves, stage.lowest_hz, stage.highest_hz))
        resonance, cutoff = f"{called}.resonance", f"{called}.cutoff"
        own = document.network()
        if resonance in self.moving:
            self.bases[resonance] = stage.loop_gain
        else:
            own = held(own, stage.loop_gain)
        own = only(own, document.chosen_mode)
        self.taps[called] = tap_of(own, called)
        if not {resonance, cutoff} & self.moving:
            return named(replace(own, rate_ratio=own.rate_ratio * (cutoff_hz / UNIT_HZ)), called)
        self.bases[cutoff] = cutoff_hz
        return named(own, called, controls=called)


def _linear(stage: Bank | Formants | Shapes | AllPass, called: str, unit_hz: float) -> Network:
    """A stage that is only its transfer function."""
    if isinstance(stage, Shapes):
        made = None if stage.bypass else chain([band.section() for band in stage.bands], called, unit_hz)
        return wire() if stage.bypass else scaled(made or wire(), 10 ** (stage.trim_db / 20))
    if isinstance(stage, Formants):
        sections = stage.sections()
        return side_by_side(sections, [1.0] * len(sections), called, unit_hz)
    if isinstance(stage, AllPass):
        wet = all_pass(stage.stages, stage.cutoff_hz, stage.feedback, called, unit_hz)
        return only(parallel(scaled(wire(), 1 - stage.mix), "out", scaled(wet, stage.mix), "out"), "sum")
    total: Network | None = None
    for k in range(len(stage.groups)):
        if any(True for _ in stage.members(k)):
            own = scaled(group_network(stage, k, called, unit_hz, closed=True), 10 ** (stage.groups[k].level_db / 20))
            total = own if total is None else only(parallel(total, "out", own, "out"), "sum")
    return total or scaled(wire(), 0.0)


def group_network(stage: Bank, which: int, called: str, unit_hz: float, *, closed: bool) -> Network:
    """A group of a bank by itself, its level left out; closed: with its own feedback."""
    members, group = list(stage.members(which)), stage.groups[which]
    own = bank_group([section for section, _ in members], [weight for _, weight in members],
                     group.feedback * group.polarity if closed else 0.0, f"{called}.{which + 1}", unit_hz)
    return scaled(own, float(group.polarity))


def closed(inside: Network, stage: Feedback, called: str, *, moved_by: str = "") -> Network:
    """The path with its output fed back. Raises CircuitError where the path answers at once."""
    fed = inside
    if stage.through is not None:
        bent = named(_curve(stage.through), f"{called} through")
        fed = _tapped(inside, series(inside, "out", bent))
    elif moved_by:  # behind a joint, so that no two gains multiply each other
        fed = _tapped(inside, series(inside, "out", wire()))
    try:
        return only(feedback(fed, "out" if fed is inside else "fed", stage.amount, moved_by=moved_by), "out")
    except CircuitError as error:
        raise CircuitError(
            f"{called}: amount: its path answers at once, so the loop has no time to go round in; put a filter that "
            "follows behind a capacitor into it, such as a lowpass."
        ) from error


def _tapped(inside: Network, bent: Network) -> Network:
    """With two outputs: 'out' as it is inside, 'fed' behind the curve."""
    n, m = len(inside.branches), len(bent.branches)

    def both(of_inside: Affine, of_bent: Affine) -> Affine:
        """The curve has no gains of its own, so that those of both are the same, in the same order."""
        missing = of_bent.parts.shape[2] - of_inside.parts.shape[2]
        return Affine(np.concatenate([np.pad(of_inside.parts, ((0, 0), (0, 0), (0, missing))), of_bent.parts], axis=1))

    assert n < m
    return replace(
        bent, outputs=("out", "fed"), C=both(inside.C, bent.C), E=both(inside.E, bent.E),
        D=Affine(np.concatenate([inside.D.parts, bent.D.parts], axis=1)),
    )


def _curve(curve: Curve) -> Network:
    return shaper(Branch("curve", curve.branch_kind, curve.headroom_v, curve.bias_v))


@dataclass(frozen=True, slots=True)
class PlacedLoop:
    """A feedback stage of one side, or a group of a bank with feedback of its own: what it is called, its path as a
    network by itself, and closed."""

    stage: Feedback | Group
    called: str
    inside: Network
    whole: Network


def loops_of(patch: Patch, side: str) -> list[PlacedLoop]:
    """Every feedback stage that this side passes, outer ones first."""
    return loops_in(patch.path, side)


def loops_in(path: Sequence[AnyStage], side: str) -> list[PlacedLoop]:
    """The same of a path by itself."""
    return list(_loops(path, side, "path", 0.0))


def _loops(path: Sequence[AnyStage], side: str, place: str, octaves: float) -> Iterator[PlacedLoop]:
    for i, stage in enumerate(path):
        here = f"{place}[{i}]"
        if stage.off:
            continue
        if isinstance(stage, Feedback):
            inside = path_network(stage.path, side, f"{here}.path", octaves)
            yield PlacedLoop(stage, stage.id or here, inside, closed(inside, stage, stage.id or here))
            yield from _loops(stage.path, side, f"{here}.path", octaves)
        elif isinstance(stage, Bank):
            unit_hz = UNIT_HZ / 2.0**octaves
            for k, group in enumerate(stage.groups):
                if group.feedback and any(True for _ in stage.members(k)):
                    called = stage.id or here
                    yield PlacedLoop(group, f"{called}.{k + 1}", *(
                        group_network(stage, k, called, unit_hz, closed=shut) for shut in (False, True)))
        elif isinstance(stage, Parallel):
            for j, limb in enumerate(stage.branches):
                yield from _loops(limb.path, side, f"{here}.branches[{j}].path", octaves)
        elif isinstance(stage, Stereo):
            half = 0.5 * stage.spacing_octaves * (-1 if side == LEFT else 1)
            inner = stage.left if side == LEFT else stage.right
            yield from _loops(inner, side, f"{here}.{side}", octaves + half)
