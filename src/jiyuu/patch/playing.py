"""A patch at large signal: volts in, volts out, side by side; networks one after the other, and what stands between."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError
from jiyuu.patch.between_stages import Comb, Crush
from jiyuu.patch.document import LEFT, RIGHT, AnyStage, Chord, Limb, Parallel, Patch, Stereo
from jiyuu.patch.following import followed_bank
from jiyuu.patch.heard import HeardRecord
from jiyuu.patch.inside import inner_routes
from jiyuu.patch.linear_stages import Bank
from jiyuu.patch.lowering import is_stereo, lowered
from jiyuu.patch.motion import Motion, Values
from jiyuu.patch.response import judged_loops
from jiyuu.patch.shapes import Between, Shapes, coefficients_of
from jiyuu.patch.sounding import SEED, source_record
from jiyuu.patch.stretches import MORPHS, Apart, Stretch, by_response, morphs, stretches
from jiyuu.patch.told import told
from jiyuu.signals.long_record import Record, weighted
from jiyuu.simulation.crusher import Clockwork, crushed
from jiyuu.simulation.linear_render import answered, through_straight
from jiyuu.simulation.render import SEGMENT, render_record

AFTER_S = 0.02  # that the filter's own looking ahead asks beyond the end
LOUDEST_V = 1e6  # no circuit stands there: what reaches it has run away


def sources_record(patch: Patch, duration_s: float, sample_rate_hz: float) -> FloatArray:
    """(n,) volts: all sources of the patch together, moved as their routes say. Raises CircuitError where the pitch of
    one is moved that has none."""
    motion = Motion(patch, duration_s)
    total = np.zeros(round(duration_s * sample_rate_hz))
    for i in range(1, len(patch.sources) + 1):
        total += source_record(motion, i, duration_s, sample_rate_hz)
    return total


def play_patch(
    patch: Patch, input_v: FloatArray, sample_rate_hz: float, *, block: int | None = None, own_sources: bool = False,
    checked: bool = True,
) -> FloatArray:
    """(sides, n) volts from input_v (1 or 2, n): of two channels left goes left and right right. block: samples at a
    time; own_sources: input_v is what sources_record made of the patch; checked: as render_record has it, not needed
    for an eye or an ear. Raises SignalError where it runs away, naming the loop; CircuitError as network_of does."""
    found = play_record(patch, [Record.of(channel) for channel in input_v], sample_rate_hz, block=block,
                        own_sources=own_sources, checked=checked)
    return np.stack([side.whole() for side in found])


def play_record(
    patch: Patch, channels: Sequence[Record], sample_rate_hz: float, *, block: int | None = None,
    own_sources: bool = False, checked: bool = True,
) -> list[Record]:
    """What play_patch does, for records of any length: a side each from one channel or two."""
    stereo = is_stereo(patch) or len(channels) > 1
    # Played on a recording, every source is that; on its own, controls listen to what each plays by itself.
    heard = None
    if not own_sources:
        both = weighted(channels, [1 / len(channels)] * len(channels)) if len(channels) > 1 else channels[0]
        heard = {f"source {i}": HeardRecord(both, sample_rate_hz) for i in range(1, 9)}
    motion = Motion(patch, channels[0].size / sample_rate_hz + AFTER_S, heard)
    outputs = []
    for i, side in enumerate((LEFT, RIGHT) if stereo else (LEFT,)):
        playing = _Playing(patch, side, motion, told(motion, side), sample_rate_hz, block or SEGMENT,
                           checked)
        outputs.append(playing.path(patch.path, "path", 0.0, channels[min(i, len(channels) - 1)]))
    return outputs


def _parts(patch: Patch, stretch: Stretch, moving: Collection[str]) -> Iterator[Stretch]:
    """What is played one behind the other; all at once where a stage's own output moves another."""
    if any(True for _ in inner_routes(patch)):
        return iter([stretch])
    return by_response(stretch, moving)


@dataclass(frozen=True, slots=True)
class _Playing:
    """One side of a patch; moves: of every named control of its networks."""

    patch: Patch
    side: str
    motion: Motion
    moves: dict[str, Values]
    sample_rate_hz: float
    block: int
    checked: bool

    def path(
        self, path: Sequence[AnyStage], place: str, octaves: float, sound: Record, *, outermost: bool = True
    ) -> Record:
        """Volts behind a path; octaves: that stereo stages round it move it by."""
        for part in stretches(path, self.side, place, outermost=outermost):
            if isinstance(part, Apart):
                sound = self.apart(part, octaves, sound)
                continue
            for one in _parts(self.patch, part, self.moves.keys()):
                shapes = _morphing(one, self.moves.keys())
                if shapes is None:
                    sound = self.network(one, octaves, sound)
                else:
                    sound = self.morphing(shapes, shapes.id or f"{one.place}[{one.first}]", octaves, sound)
        return sound

    def apart(self, part: Apart, octaves: float, sound: Record) -> Record:
        stage, place = part.stage, part.place
        if isinstance(stage, Comb):
            return self.comb(stage, stage.id or place, octaves, sound)
        if isinstance(stage, Chord):
            return self.path(stage.path(), place, octaves, sound, outermost=False)
        if isinstance(stage, Crush):
            return crushed(sound, Clockwork(stage.rate_hz, stage.step_v, stage.full_scale_v, self.sample_rate_hz))
        if isinstance(stage, Bank):
            return followed_bank(stage, sound, self.sample_rate_hz, octaves, self.motion)
        if isinstance(stage, Stereo):
            way = -0.5 if self.side == LEFT else 0.5
            inner = stage.left if self.side == LEFT else stage.right
            return self.path(inner, f"{place}.{self.side}", octaves + way * stage.spacing_octaves, sound,
                             outermost=False)
        assert isinstance(stage, Parallel)
        branches = [self.path(limb.path, f"{place}.branches[{j}].path", octaves, self.own(limb, sound), outermost=False)
                    for j, limb in enumerate(stage.branches)]
        return weighted(branches, [limb.factor(self.side) for limb in stage.branches])

    def own(self, limb: Limb, sound: Record) -> Record:
        """What a branch is given: its own sources where it has some."""
        if not limb.sources:
            return sound
        return Record.of(np.asarray(np.sum([
            one.source().record(duration_s=sound.size / self.sample_rate_hz, sample_rate_hz=self.sample_rate_hz,
                                seed=SEED + i)[: sound.size] for i, one in enumerate(limb.sources)], axis=0)))

    def comb(self, stage: Comb, called: str, octaves: float, sound: Record) -> Record:
        stage = stage.model_copy(update={"frequency_hz": stage.frequency_hz * 2.0**octaves})
        targets = {what: self.motion.target(f"{called}.{what}") for what in ("cutoff", "feedback", "mix")}
        shifts = self.moves.get(f"{called}.shift")
        if shifts is None and not any(targets.values()):
            return answered(sound, self.sample_rate_hz, round(stage.ring_s * self.sample_rate_hz),
                            lambda hertz: stage.gain(hertz)[0])
        from jiyuu.simulation.comb import Moves, through_comb

        def field(what: str, stands: float) -> Values:
            target = targets[what]
            return lambda t: np.full(t.size, stands) if target is None else self.motion.value(target, t)

        cutoff = field("cutoff", stage.frequency_hz / 2.0**octaves)
        moves = Moves(lambda t: cutoff(t) * 2.0 ** (octaves + (0.0 if shifts is None else shifts(t))),
                      field("feedback", stage.feedback), field("mix", stage.mix))
        return through_comb(sound, self.sample_rate_hz, moves, damping_hz=stage.damping_hz)

    def morphing(self, stage: Shapes, called: str, octaves: float, sound: Record) -> Record:
        from jiyuu.simulation.moving_sections import through_sections

        shifts = self.moves.get(f"{called}.cutoff")
        ways = [self.moves.get(f"{called}.{name}", partial(_standing, stands))
                for name, stands in zip(MORPHS, stage.ways, strict=False)]

        def between(t: FloatArray) -> Between:
            moved = np.zeros(t.size) if shifts is None else shifts(t)
            return stage.at([way(t) for way in ways]).shifted(octaves + moved)

        return through_sections(sound, self.sample_rate_hz, lambda t: coefficients_of(between(t)))

    def network(self, stretch: Stretch, octaves: float, sound: Record) -> Record:
        it = lowered(stretch, self.side, self.moves.keys(), patch=self.patch, octaves=octaves)
        own = {name: move for name, move in self.moves.items() if name in (*it.network.cutoffs, *it.network.gains)}
        straight = None if own else through_straight(it.network, sound, self.sample_rate_hz, cutoff_hz=it.cutoff_hz,
                                                     gain=it.gain)
        if straight is not None:
            return straight
        try:
            (found,) = render_record(
                it.network, sound, sample_rate_hz=self.sample_rate_hz, cutoff_hz=it.cutoff_hz, gain=it.gain,
                modes=["out"], moves=own, block=self.block, checked=self.checked,
            ).outputs
        except OverflowError as error:
            raise _ran_away(self.patch) from error
        if max((np.abs(part).max() for part in found.blocks()), default=0.0) > LOUDEST_V:
            raise _ran_away(self.patch)
        return found


def _standing(value: float, times_s: FloatArray) -> FloatArray:
    return np.full(times_s.size, value)


def _morphing(stretch: Stretch, moving: Collection[str]) -> Shapes | None:
    """The one stage of a stretch that moves between its settings."""
    stage = stretch.path[0] if len(stretch.path) == 1 else None
    if isinstance(stage, Shapes) and morphs(stage, stage.id or f"{stretch.place}[{stretch.first}]", moving):
        return stage
    return None


def _ran_away(patch: Patch) -> SignalError:
    for loop in judged_loops(patch):
        if not loop.stable and loop.amount_to_ring is not None:
            return SignalError(f"{loop.called}: its feedback runs away, since nothing in the loop limits it; it does "
                               f"so from an amount of {loop.amount_to_ring:.4g}: give less, or a 'through'.")
    return SignalError(f"The patch '{patch.name}' runs away; put a curve into it or turn its gains down.")
