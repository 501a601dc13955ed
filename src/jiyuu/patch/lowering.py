"""What becomes one network: gain, curve, filter, parallel, feedback and the path itself, one network a side."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.compose import feedback, held, named, only, parallel, scaled, series, shaper, silent, wire
from jiyuu.circuits.network import Affine, Branch, Network
from jiyuu.errors import CircuitError
from jiyuu.patch.document import (
    AnyStage,
    Curve,
    Feedback,
    FilterStage,
    Gain,
    Parallel,
    Patch,
    Shape,
    Stereo,
    inner_paths,
)

UNIT_HZ = 1000.0  # a network has one cutoff; those of a patch are ratios to this one
LEFT, RIGHT = "left", "right"


def is_stereo(patch: Patch) -> bool:
    """Whether left and right differ: whether a stereo stage stands anywhere in it."""
    return any(isinstance(stage, Stereo) for stage in stages_of(patch.path))


def sides_of(patch: Patch) -> tuple[str, ...]:
    return (LEFT, RIGHT) if is_stereo(patch) else (LEFT,)


def stages_of(path: Sequence[AnyStage]) -> Iterator[AnyStage]:
    """Every stage of a path, inner ones behind the one that holds them."""
    for stage in path:
        yield stage
        for inner in inner_paths(stage):
            yield from stages_of(inner)


def network_of(patch: Patch, side: str = LEFT) -> Network:
    """All of one side: the output 'out', cutoffs as ratios to UNIT_HZ. Raises CircuitError naming a stage that cannot
    be played."""
    return silent(path_network(patch.path, side, "path", 0.0))


def path_network(path: Sequence[AnyStage], side: str, place: str, octaves: float) -> Network:
    """octaves: by which all cutoffs in it are moved."""
    found: Network | None = None
    factor = 1.0
    for i, stage in enumerate(path):
        if isinstance(stage, Gain):  # what only multiplies needs no joint
            factor *= stage.factor
            continue
        own = _stage_network(stage, side, f"{place}[{i}]", octaves)
        first = found is None and factor == 1
        found = own if first else series(scaled(found or wire(), factor), "out", own)
        factor = 1.0
    return scaled(found or wire(), factor)


def _stage_network(stage: AnyStage, side: str, place: str, octaves: float) -> Network:
    called = stage.id or place
    if isinstance(stage, Shape):
        return named(_curve(stage), called)
    if isinstance(stage, FilterStage):
        return named(_filter(stage, octaves), called)
    if isinstance(stage, Stereo):
        inner = stage.left if side == LEFT else stage.right
        half = 0.5 * stage.spacing_octaves
        return path_network(inner, side, f"{place}.{side}", octaves + (-half if side == LEFT else half))
    if isinstance(stage, Parallel):
        total: Network | None = None
        for j, limb in enumerate(stage.branches):
            own = scaled(path_network(limb.path, side, f"{place}.branches[{j}].path", octaves), limb.factor)
            total = own if total is None else only(parallel(total, "out", own, "out"), "sum")
        assert total is not None
        return total
    assert isinstance(stage, Feedback)
    return closed(path_network(stage.path, side, f"{place}.path", octaves), stage, called)


def closed(inside: Network, stage: Feedback, called: str) -> Network:
    """The path with its output fed back. Raises CircuitError where the path answers at once."""
    fed = inside
    if stage.through is not None:
        bent = named(_curve(stage.through), f"{called} through")
        fed = _tapped(inside, series(inside, "out", bent))
    try:
        return only(feedback(fed, "fed" if stage.through is not None else "out", stage.amount), "out")
    except CircuitError as error:
        raise CircuitError(
            f"{called}: amount: its path answers at once, so the loop has no time to go round in; put a filter that "
            "follows behind a capacitor into it, such as a lowpass."
        ) from error


def _tapped(inside: Network, bent: Network) -> Network:
    """With two outputs: 'out' as it is inside, 'fed' behind the curve."""
    n, m = len(inside.branches), len(bent.branches)

    def both(of_inside: Affine, of_bent: Affine, width: int) -> Affine:
        def padded(array: FloatArray) -> FloatArray:
            return np.pad(array, ((0, 0), (0, width - array.shape[1])))

        return Affine(np.concatenate([padded(of_inside.constant), of_bent.constant]),
                      np.concatenate([padded(of_inside.per_gain), of_bent.per_gain]))

    assert n < m
    return replace(
        bent, outputs=("out", "fed"), C=both(inside.C, bent.C, bent.C.constant.shape[1]),
        E=both(inside.E, bent.E, m),
        D=Affine(np.concatenate([inside.D.constant, bent.D.constant]),
                 np.concatenate([inside.D.per_gain, bent.D.per_gain])),
    )


def _curve(curve: Curve) -> Network:
    return shaper(Branch("curve", curve.branch_kind, curve.headroom_v, curve.bias_v))


def _filter(stage: FilterStage, octaves: float) -> Network:
    document = stage.document
    cutoff_hz = float(np.clip(document.cutoff_hz * 2.0**octaves, stage.lowest_hz, stage.highest_hz))
    if not octaves:
        cutoff_hz = document.cutoff_hz
    own = only(held(document.network(), stage.loop_gain), document.chosen_mode)
    return replace(own, rate_ratio=own.rate_ratio * (cutoff_hz / UNIT_HZ))


@dataclass(frozen=True, slots=True)
class PlacedLoop:
    """A feedback stage of one side: what it is called, its path as a network by itself."""

    stage: Feedback
    called: str
    inside: Network


def loops_of(patch: Patch, side: str) -> list[PlacedLoop]:
    """Every feedback stage that this side passes, outer ones first."""
    return list(_loops(patch.path, side, "path", 0.0))


def _loops(path: Sequence[AnyStage], side: str, place: str, octaves: float) -> Iterator[PlacedLoop]:
    for i, stage in enumerate(path):
        here = f"{place}[{i}]"
        if isinstance(stage, Feedback):
            inside = path_network(stage.path, side, f"{here}.path", octaves)
            yield PlacedLoop(stage, stage.id or here, inside)
            yield from _loops(stage.path, side, f"{here}.path", octaves)
        elif isinstance(stage, Parallel):
            for j, limb in enumerate(stage.branches):
                yield from _loops(limb.path, side, f"{here}.branches[{j}].path", octaves)
        elif isinstance(stage, Stereo):
            half = 0.5 * stage.spacing_octaves * (-1 if side == LEFT else 1)
            inner = stage.left if side == LEFT else stage.right
            yield from _loops(inner, side, f"{here}.{side}", octaves + half)
