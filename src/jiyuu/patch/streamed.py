"""A moving patch played block by block for as long as it is wanted, over a round that comes again and again.

What a patch's filters are told is known at every instant of a round; the filters' own memory goes on from round to
round. Where a round ends its controls and its sources go over into the beginning as a record without a seam does."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.patch.document import Patch, stages_in
from jiyuu.patch.linear_stages import AllPass, Bank, Formants
from jiyuu.patch.lowering import lowered, sides_of
from jiyuu.patch.motion import Motion, Values
from jiyuu.patch.playing import AFTER_S, sources_record
from jiyuu.patch.shapes import Shapes
from jiyuu.patch.stretches import Stretch, stretches
from jiyuu.patch.told import told
from jiyuu.signals.looped import SEAM_S, seamless
from jiyuu.simulation.render import oversampling_for
from jiyuu.simulation.renderer import LATENCY, Renderer

LOOKED_S = 1e-3  # how far apart cutoffs are looked at, for the highest of a round


def is_streamed(patch: Patch) -> bool:
    """Whether the whole of it is one network a side: others are played from a record of a round. What is played by its
    response would need as many capacitors as it has bands."""
    if any(isinstance(stage, Bank | Formants | Shapes | AllPass) for stage in stages_in(patch.path)):
        return False
    return all(isinstance(part, Stretch) for side in sides_of(patch) for part in stretches(patch.path, side))


class StreamedPatch:
    """Both sides together. shifts: by name of a cutoff that moves, octaves on top at times from the stream's own
    beginning; place: sample of the round at which it begins. Raises CircuitError where it cannot be played."""

    def __init__(
        self, patch: Patch, round_s: float, sample_rate_hz: float, *, place: int = 0,
        shifts: dict[str, Values] | None = None,
    ) -> None:
        whole_s = round_s + SEAM_S
        self._source = seamless(sources_record(patch, whole_s, sample_rate_hz), sample_rate_hz)
        self._rate, self._round_s = sample_rate_hz, self._source.size / sample_rate_hz  # in whole samples
        self._began, self.place = place, place
        motion = Motion(patch, whole_s + AFTER_S)
        self._sides = [self._renderer(patch, side, motion, shifts or {}) for side in sides_of(patch)]
        self.push(np.ones(LATENCY))  # what a renderer looks ahead is played before anything is heard

    def _renderer(self, patch: Patch, side: str, motion: Motion, shifts: dict[str, Values]) -> Renderer:
        moves = told(motion, side)
        (part,) = stretches(patch.path, side)
        assert isinstance(part, Stretch)
        it = lowered(part, side, moves.keys(), patch=patch)
        own = {name: move for name, move in moves.items() if name in (*it.network.cutoffs, *it.network.gains)}
        looked = np.arange(0.0, self._round_s, LOOKED_S)
        highest_hz = max((hertz * 2.0 ** float(own[name](looked).max()) if name in own else hertz
                          for name, hertz in zip(it.network.cutoffs, it.cutoff_hz, strict=True)), default=0.0)
        return Renderer(
            it.network, sample_rate_hz=self._rate, cutoff_hz=it.cutoff_hz[np.newaxis], gain=it.gain[np.newaxis],
            modes=["out"], factor=oversampling_for(highest_hz),
            moves={name: self._again(move, shifts.get(name)) for name, move in own.items()},
        )

    def _again(self, move: Values, shift: Values | None) -> Values:
        """The same over and over, from where the stream began."""

        def at(times_s: FloatArray) -> FloatArray:
            # Looked up each time: where it stands may have been moved meanwhile.
            found = round_again(move, self._round_s, times_s + self._began / self._rate)
            return found if shift is None else found + shift(times_s)

        return at

    def go_to(self, place: int) -> None:
        """Go on from there in the round; the filters keep their memory."""
        self._began += place - self.place
        self.place = place

    def push(self, drive: FloatArray) -> FloatArray:
        """(n,) volts, both sides together. drive (n,): factors ahead of the patch."""
        played = drive * self._source[(self.place + np.arange(drive.size)) % self._source.size]
        self.place += drive.size
        return np.asarray(np.mean([side.push(played)[0, 0] for side in self._sides], axis=0))


def round_again(move: Values, round_s: float, times_s: FloatArray) -> FloatArray:
    """A move over 0 … round_s + SEAM_S, at any times, as its round comes again."""
    within = np.mod(times_s, round_s)
    found = move(within)
    turning = (within < SEAM_S) & (times_s >= round_s)
    if turning.any():
        share = np.sin(0.5 * np.pi * within[turning] / SEAM_S) ** 2
        found = np.array(found)
        found[turning] = share * found[turning] + (1 - share) * move(within[turning] + round_s)
    return np.asarray(found)
