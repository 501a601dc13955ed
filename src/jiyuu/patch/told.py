"""What a patch's networks are told of what moves: octaves on top of a cutoff, what is added to a gain."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.sections import round_loop
from jiyuu.patch.between_stages import Comb
from jiyuu.patch.document import (
    LEFT,
    AnyStage,
    Feedback,
    FilterStage,
    Pair,
    Parallel,
    Resonator,
    Stereo,
    morph_weights,
    panned,
)
from jiyuu.patch.linear_stages import AllPass, Bank, Formants
from jiyuu.patch.lowering import MORPHED, OUTPUT_LEVEL, OUTPUT_PAN
from jiyuu.patch.motion import Motion, Values
from jiyuu.patch.shapes import Shapes
from jiyuu.patch.stretches import MORPHS
from jiyuu.patch.targets import Target
from jiyuu.simulation.renderer import Multiplied


@dataclass(frozen=True, slots=True)
class Placed:
    """A stage as its network calls it; octaves that it is moved by where nothing moves, and what moves those."""

    stage: AnyStage
    called: str
    octaves: float
    shifts: tuple[Values, ...]


def told(motion: Motion, side: str = LEFT) -> dict[str, Values]:
    """By name of every control of a side's networks that a route moves."""
    found: dict[str, Values] = {}
    for placed in _placed(motion, motion.patch.path, "path", 0.0, ()):
        found |= _of_stage(motion, placed)
    level, pan = motion.target(OUTPUT_LEVEL), motion.target(OUTPUT_PAN)
    if level is not None or pan is not None:
        def output(t: FloatArray) -> FloatArray:
            loud = np.ones(t.size) if level is None else motion.in_network(level, motion.value(level, t))
            return loud * (1.0 if pan is None else panned(motion.value(pan, t), side)) - 1.0

        found[OUTPUT_LEVEL] = output
    return found


def _placed(
    motion: Motion, path: Sequence[AnyStage], place: str, octaves: float, shifts: tuple[Values, ...]
) -> Iterator[Placed]:
    """Every stage that sounds, by the names that lowering gives."""
    for i, stage in enumerate(path):
        if stage.off:
            continue
        here = f"{place}[{i}]"
        called = stage.id or here
        if isinstance(stage, Pair):
            for one in _placed(motion, stage.path(), called, octaves, shifts):
                yield replace(one, shifts=(*one.shifts, *_of_pair(motion, stage, one.called)))
            continue
        yield Placed(stage, called, octaves, shifts)
        if isinstance(stage, Parallel):
            for j, limb in enumerate(stage.branches):
                yield from _placed(motion, limb.path, f"{here}.branches[{j}].path", octaves, shifts)
        elif isinstance(stage, Feedback):
            yield from _placed(motion, stage.path, f"{here}.path", octaves, shifts)
        elif isinstance(stage, Stereo):
            spacing = motion.target(f"{stage.id}.spacing")
            for inner, way in (("left", -0.5), ("right", 0.5)):
                more = shifts if spacing is None else (*shifts, _spaced(motion, spacing, way))
                yield from _placed(motion, getattr(stage, inner), f"{here}.{inner}",
                                   octaves + way * stage.spacing_octaves, more)


def _spaced(motion: Motion, target: Target, way: float) -> Values:
    return lambda t: way * (motion.value(target, t) - target.stands_at)


def _ratio(motion: Motion, target: Target) -> Values:
    return lambda t: np.log2(motion.value(target, t) / target.stands_at)


def _of_stage(motion: Motion, placed: Placed) -> dict[str, Values]:
    stage, called = placed.stage, placed.called
    if isinstance(stage, FilterStage):
        return _of_filter(motion, placed, stage)
    if isinstance(stage, Formants):
        return _of_formants(motion, placed, stage)
    found: dict[str, Values] = {}
    if isinstance(stage, Comb) and placed.shifts:
        return {f"{called}.shift": _summed(placed.shifts)}  # all else of it is asked for directly
    if isinstance(stage, Bank | Shapes | AllPass | Resonator):
        own = motion.target(f"{called}.cutoff")
        octaves = (*placed.shifts, *(() if own is None else (_ratio(motion, own),)))
        if octaves:
            found[f"{called}.cutoff"] = _summed(octaves)
    if isinstance(stage, Shapes):
        for name in MORPHS:
            along = motion.target(f"{called}.{name}")
            if along is not None:
                found[along.name] = partial(motion.value, along)  # where it is, not how far it went
    for name in ("level", "feedback", "mix"):
        target = motion.target(f"{called}.{name}")
        if target is None:
            continue
        if isinstance(stage, AllPass) and name == "feedback":
            found[f"{called}.back"] = _round_loop(motion, target, stage)
        else:
            found[target.name] = _added(motion, target)
    return found


def _added(motion: Motion, target: Target) -> Values:
    base = motion.in_network(target, np.array([target.stands_at]))[0]
    return lambda t: motion.in_network(target, motion.value(target, t)) - base


def _round_loop(motion: Motion, target: Target, stage: AllPass) -> Values:
    base = float(round_loop(stage.feedback, stage.stages))
    return lambda t: round_loop(motion.value(target, t), stage.stages) - base


def _summed(octaves: Sequence[Values]) -> Values:
    return lambda t: np.sum([one(t) for one in octaves], axis=0)


def _of_filter(motion: Motion, placed: Placed, stage: FilterStage) -> dict[str, Values]:
    called, found = placed.called, dict[str, Values]()
    own, resonance, morph = (motion.target(f"{called}.{what}") for what in ("cutoff", "resonance", "morph"))
    octaves = placed.shifts
    if own is not None or octaves:
        stands = stage.document.cutoff_hz
        low, high = stage.lowest_hz, stage.highest_hz
        base = float(np.clip(stands * 2.0**placed.octaves, low, high)) if placed.octaves else stands

        def ratio(t: FloatArray) -> FloatArray:
            hertz = np.full(t.size, stands) if own is None else motion.value(own, t)
            if octaves or placed.octaves:
                hertz = hertz * np.exp2(placed.octaves + sum((one(t) for one in octaves), np.zeros(t.size)))
                hertz = np.clip(hertz, low, high)
            return np.asarray(hertz * (1 / base))  # a target of its own stops there by itself

        found[f"{called}.cutoff"] = Multiplied(ratio)
    if resonance is not None:
        found[resonance.name] = _added(motion, resonance)
    if morph is not None:
        for k, mode in enumerate(MORPHED):
            found[f"{called}.{mode}"] = _weighed(motion, morph, stage, k)
    return found


def _weighed(motion: Motion, morph: Target, stage: FilterStage, which: int) -> Values:
    base = float(morph_weights(stage.morph)[which])
    return lambda t: morph_weights(motion.value(morph, t))[which] - base


def _of_pair(motion: Motion, pair: Pair, called: str) -> Iterator[Values]:
    """Octaves that a pair gives one of its two filters."""
    cutoff, spacing = motion.target(f"{pair.id}.cutoff"), motion.target(f"{pair.id}.spacing")
    if cutoff is not None:
        yield _ratio(motion, cutoff)
    if spacing is not None:
        yield _spaced(motion, spacing, -0.5 if called == f"{pair.id}.first" else 0.5)


def _of_formants(motion: Motion, placed: Placed, stage: Formants) -> dict[str, Values]:
    called = placed.called
    morph, shift = motion.target(f"{called}.morph"), motion.target(f"{called}.shift")
    if morph is None and shift is None and not placed.shifts:
        return {}

    last: list[tuple[FloatArray, list[tuple[FloatArray, FloatArray]]]] = []

    def at(t: FloatArray) -> list[tuple[FloatArray, FloatArray]]:
        # All formants are asked for the same instants, one after the other.
        if not last or not np.array_equal(last[0][0], t):
            last[:] = [(t, stage.at(np.full(t.size, stage.morph) if morph is None else motion.value(morph, t)))]
        return last[0][1]

    def octaves(t: FloatArray) -> FloatArray:
        more = sum((one(t) for one in placed.shifts), np.zeros(t.size))
        return more if shift is None else more + motion.value(shift, t) - stage.shift_octaves

    found: dict[str, Values] = {}
    for i, (hertz, q) in enumerate(stage.at(np.array([stage.morph]))):
        def moved(t: FloatArray, i: int = i, base: float = float(hertz[0])) -> FloatArray:
            return np.log2(at(t)[i][0] / base) + octaves(t)

        def damped(t: FloatArray, i: int = i, base: float = float(1 / q[0])) -> FloatArray:
            # A bandwidth stays what it is in hertz when the formant is shifted; a stated Q stays a Q.
            follows = shift is not None and stage.q is None
            by_shift = 2.0 ** (motion.value(shift, t) - stage.shift_octaves) if follows and shift else 1.0
            return np.asarray(1 / (at(t)[i][1] * by_shift) - base)

        found |= {f"{called}.formant {i + 1}": moved, f"{called}.damping {i + 1}": damped}
    return found
