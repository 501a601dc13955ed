"""What becomes one network: gain, curve, filter, parallel, feedback and the path itself, one network a side."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.compose import (
    blended,
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
from jiyuu.circuits.sections import (
    all_pass,
    bank_group,
    chain,
    moving_bandpass,
    round_loop,
    section_network,
    side_by_side,
)
from jiyuu.errors import CircuitError
from jiyuu.patch.between_stages import Comb, Crush
from jiyuu.patch.document import (
    LEFT,
    RIGHT,
    AnyStage,
    Chord,
    Curve,
    Feedback,
    FilterStage,
    Gain,
    Pair,
    Parallel,
    Patch,
    Resonator,
    Shape,
    Stereo,
    inner_paths,
    morph_weights,
)
from jiyuu.patch.inside import Tap, patched_in, tap_of
from jiyuu.patch.linear_stages import AllPass, Bank, Formants
from jiyuu.patch.shapes import Shapes
from jiyuu.patch.stretches import Stretch, morphs

UNIT_HZ = 1000.0  # a network has one cutoff; those of a patch are ratios to this one
OUTPUT_LEVEL, OUTPUT_PAN = "output.level", "output.pan"
MORPHED = ("lowpass", "highpass")


def is_stereo(patch: Patch) -> bool:
    """Whether left and right differ: whether a stereo stage stands anywhere in it, or something is panned."""
    return splits(patch.path) or any(route.target == OUTPUT_PAN for route in patch.routes)


def splits(path: Sequence[AnyStage]) -> bool:
    """The same of a path by itself; a stage that is off does not count, nor what is inside it."""
    return any(isinstance(stage, Stereo) or (isinstance(stage, Pair) and stage.arrangement == "stereo")
               or (isinstance(stage, Parallel) and any(limb.pan for limb in stage.branches))
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
    stage that cannot be played, or that stands between networks."""
    return lowered(Stretch(patch.path), side, patch=patch).network


def lowered(
    stretch: Stretch, side: str = LEFT, moving: Collection[str] = (), *, patch: Patch | None = None,
    octaves: float = 0.0,
) -> Lowered:
    """One side of a stretch in which the controls named stay free ('first.cutoff', 'first.resonance', 'drive.level',
    'loop.feedback', 'output.level' …) and everything else is fixed; patch: whose own outputs move controls in it.
    Raises CircuitError as network_of does."""
    lowering = _Lowering(side, frozenset(moving))
    network = lowering.path(stretch.path, stretch.place, octaves, stretch.first)
    if OUTPUT_LEVEL in lowering.moving and stretch.is_last:
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

    def path(self, path: Sequence[AnyStage], place: str, octaves: float, first: int = 0) -> Network:
        found: Network | None = None
        factor = 1.0
        for i, stage in enumerate(path, start=first):
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
            alone = found is None and factor == 1
            found = own if alone else series(scaled(found or wire(), factor), "out", own)
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
        if isinstance(stage, Resonator):
            return self.resonator(stage, called, octaves)
        if isinstance(stage, Comb | Chord | Crush):
            raise CircuitError(f"{called}: a {stage.stage} stands between networks: it can be played in the path, in a "
                               "branch or on a side, not in a loop or round the filter in hand yet.")
        if isinstance(stage, Bank | Formants | Shapes | AllPass):
            return self.linear(stage, called, octaves)
        if isinstance(stage, Stereo):
            inner = stage.left if self.side == LEFT else stage.right
            half = 0.5 * stage.spacing_octaves
            return self.path(inner, f"{place}.{self.side}", octaves + (-half if self.side == LEFT else half))
        if isinstance(stage, Parallel):
            total: Network | None = None
            for j, limb in enumerate(stage.branches):
                if limb.sources:
                    raise CircuitError(f"{called}: branches[{j}]: sources: a branch inside a loop cannot have sources "
                                       "of its own; take them out of the loop.")
                own = scaled(self.path(limb.path, f"{place}.branches[{j}].path", octaves), limb.factor(self.side))
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
        blend = {mode: f"{called}.{mode}" for mode in MORPHED}
        if blend.keys() <= {*own.outputs} and self.moving.issuperset(blend.values()):
            self.bases |= dict(zip(blend.values(), map(float, morph_weights(stage.morph)), strict=True))
            own = blended(own, blend)
            own = named(own, called, controls="")
            own = replace(own, gains=tuple(name if name.startswith(f"{called}.") else f"{called}.{name}"
                                           for name in own.gains))
        else:
            own = only(own, document.chosen_mode)
            self.taps[called] = tap_of(own, called)
            own = named(own, called)
            own = replace(own, gains=tuple(f"{called}.{name}" for name in own.gains))
        if cutoff not in self.moving:
            return replace(own, rate_ratio=own.rate_ratio * (cutoff_hz / UNIT_HZ))
        self.bases[cutoff] = cutoff_hz
        return replace(own, cutoffs=(cutoff,))

    def resonator(self, stage: Resonator, called: str, octaves: float) -> Network:
        cutoff, section = f"{called}.cutoff", stage.section
        hertz = min(section.frequency_hz * 2.0**octaves, stage.range_hz)
        moving = cutoff in self.moving
        own = section_network(replace(section, frequency_hz=hertz), called, hertz if moving else UNIT_HZ)
        if moving:
            self.bases[cutoff] = hertz
            own = replace(own, cutoffs=(cutoff,))
        return series(named(_curve(stage.input), f"{called} input"), "out", own)

    def linear(self, stage: Bank | Formants | Shapes | AllPass, called: str, octaves: float) -> Network:
        """A stage that is only its transfer function. Raises CircuitError where a morph moves."""
        cutoff = f"{called}.cutoff"
        if isinstance(stage, Formants) and f"{called}.formant 1" in self.moving:
            return self.formants(stage, called, octaves)
        if morphs(stage, called, self.moving):
            raise CircuitError(f"{called}: its morph can be moved in the path, in a branch or on a side, not in a "
                               "loop, nor where one stage's output moves another; take the route or the stage away.")
        if cutoff not in self.moving:
            return self.still(stage, called, UNIT_HZ / 2.0**octaves)
        own_hz = stage.cutoff_hz if isinstance(stage, AllPass) else UNIT_HZ
        self.bases[cutoff] = own_hz * 2.0**octaves
        made = self.still(stage, called, own_hz)
        return replace(made, cutoffs=(cutoff,)) if made.cutoffs else made

    def formants(self, stage: Formants, called: str, octaves: float) -> Network:
        """With frequencies and dampings that stay free."""
        total: Network | None = None
        for i, (hertz, q) in enumerate(stage.at(np.array([stage.morph])), start=1):
            cutoff, damping = f"{called}.formant {i}", f"{called}.damping {i}"
            self.bases |= {cutoff: float(hertz[0]) * 2.0**octaves, damping: float(1 / q[0])}
            own = moving_bandpass(cutoff, cutoff, damping)
            total = own if total is None else only(parallel(total, "out", own, "out"), "sum")
        assert total is not None
        return total

    def still(self, stage: Bank | Formants | Shapes | AllPass, called: str, unit_hz: float) -> Network:
        """With frequencies as ratios to unit_hz."""
        if isinstance(stage, Shapes):
            if stage.bypass:
                return wire()
            bands, trim_db = stage.standing()
            made = chain([band.section() for band in bands], called, unit_hz)
            return scaled(made or wire(), 10 ** (trim_db / 20))
        if isinstance(stage, Formants):
            sections = stage.sections()
            return side_by_side(sections, [1.0] * len(sections), called, unit_hz)
        if isinstance(stage, AllPass):
            return self.all_pass(stage, called, unit_hz)
        total: Network | None = None
        for k in range(len(stage.groups)):
            if any(True for _ in stage.members(k)):
                level = 10 ** (stage.groups[k].level_db / 20)
                own = scaled(group_network(stage, k, called, unit_hz, closed=True), level)
                total = own if total is None else only(parallel(total, "out", own, "out"), "sum")
        return total or scaled(wire(), 0.0)

    def all_pass(self, stage: AllPass, called: str, unit_hz: float) -> Network:
        back, mix = f"{called}.back", f"{called}.mix"
        if back in self.moving:
            self.bases[back] = float(round_loop(stage.feedback, stage.stages))
        wet = all_pass(stage.stages, stage.cutoff_hz, stage.feedback, called, unit_hz,
                       moved_by=back if back in self.moving else "")
        if mix not in self.moving:
            return only(parallel(scaled(wire(), 1 - stage.mix), "out", scaled(wet, stage.mix), "out"), "sum")
        # (1 − m)·in + m·wet = in + m·(wet − in)
        more = self.levelled(only(parallel(scaled(wire(), -1.0), "out", wet, "out"), "sum"), mix, stage.mix)
        return only(parallel(wire(), "out", more, "out"), "sum")


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
