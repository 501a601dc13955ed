"""A moving patch played block by block for as long as it is wanted, over a round that comes again and again.

What a patch's filters are told is known at every instant of a round, and worked out once; the filters' own memory goes
on from round to round. Where a round ends its controls and its sources go over into the beginning as a record without
a seam does."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ, CUTOFF_MINIMUM_HZ
from jiyuu.circuits.operating_point import operating_point
from jiyuu.patch.document import Patch, stages_in
from jiyuu.patch.linear_stages import AllPass, Bank, Formants
from jiyuu.patch.lowering import lowered, sides_of
from jiyuu.patch.motion import Motion, Values
from jiyuu.patch.playing import AFTER_S, sources_record
from jiyuu.patch.shapes import Shapes
from jiyuu.patch.stretches import Stretch, stretches
from jiyuu.patch.told import told
from jiyuu.signals.controls.instants import at_instants
from jiyuu.signals.looped import SEAM_S, seamless
from jiyuu.simulation.live import BEFORE, LiveRenderer
from jiyuu.simulation.render import oversampling_for
from jiyuu.simulation.renderer import held_gains, in_ratio

LOOKED_S = 1e-3  # how far apart cutoffs are looked at, for the highest of a round
PART = 1024  # samples of a round that are worked out together
BESIDE = 4  # instants to either side that are looked at too
MOST_KEPT = 8_000_000  # instants of a round that are kept; of a longer one they are worked out again


def is_streamed(patch: Patch) -> bool:
    """Whether the whole of it is one network a side: others are played from a record of a round. What is played by its
    response would need as many capacitors as it has bands."""
    if any(isinstance(stage, Bank | Formants | Shapes | AllPass) for stage in stages_in(patch.path)):
        return False
    return all(isinstance(part, Stretch) for side in sides_of(patch) for part in stretches(patch.path, side))


class StreamedPatch:
    """Both sides together; what goes in comes out as much later as a LiveRenderer says. turnable: the cutoff that
    `octaves` of a push turns, where something moves it; place: sample of the round at which it begins. Raises
    CircuitError where it cannot be played."""

    def __init__(
        self, patch: Patch, round_s: float, sample_rate_hz: float, *, place: int = 0, turnable: str = ""
    ) -> None:
        whole_s = round_s + SEAM_S
        self._source = seamless(sources_record(patch, whole_s, sample_rate_hz), sample_rate_hz)
        self.place = place
        motion = Motion(patch, whole_s + AFTER_S)
        self._sides = [_Side(patch, side, motion, self._source.size, sample_rate_hz, turnable)
                       for side in sides_of(patch)]

    def go_to(self, place: int) -> None:
        """Go on from there in the round; the filters keep their memory."""
        self.place = place

    def push(self, drive: FloatArray, octaves: tuple[float, float] = (0.0, 0.0)) -> FloatArray:
        """(n,) volts, both sides together. drive (n,): factors ahead of the patch; octaves: by which the turnable
        cutoff goes from the first to the second meanwhile."""
        place, size = self.place % self._source.size, drive.size
        played = drive * self._source[(place + np.arange(size)) % self._source.size]
        self.place += size
        return np.asarray(np.mean([side.push(played, place, octaves) for side in self._sides], axis=0))


class _Side:
    """One side's network, told what a round of `size` samples asks of it."""

    def __init__(
        self, patch: Patch, side: str, motion: Motion, size: int, sample_rate_hz: float, turnable: str
    ) -> None:
        (part,) = stretches(patch.path, side)
        assert isinstance(part, Stretch)
        moves = told(motion, side)
        it = lowered(part, side, moves.keys(), patch=patch)
        self._network, self._cutoff_hz, self._gain = it.network, it.cutoff_hz, it.gain
        self._turnable = turnable
        looked = np.arange(0, size) / sample_rate_hz
        looked = looked[:: max(round(LOOKED_S * sample_rate_hz), 1)]
        highest_hz = max((hertz * 2.0 ** float(moves[name](looked).max()) if name in moves else hertz
                          for name, hertz in zip(it.network.cutoffs, it.cutoff_hz, strict=True)), default=0.0)
        factor = oversampling_for(highest_hz)
        rounds = {name: _Round(in_ratio(moves[name]), size, 2 * factor, sample_rate_hz)
                  for name in it.network.cutoffs if name in moves}
        rounds |= {name: _Round(moves[name], size, 2 * factor, sample_rate_hz)
                   for name in it.network.gains if name in moves}
        self._rounds = rounds
        self._renderer = LiveRenderer(it.network, "out", sample_rate_hz=sample_rate_hz, factor=factor,
                                      start_v=operating_point(it.network, gain=it.gain).state_v)

    def push(self, played: FloatArray, place: int, octaves: tuple[float, float]) -> FloatArray:
        first, count = place - BEFORE - 1, played.size  # what the renderer computes lies that much behind

        def at(name: str, still: float) -> FloatArray:
            one = self._rounds.get(name)
            found = np.full(1, still) if one is None else one.at(first, count)
            if name == self._turnable and one is not None and any(octaves):
                found = found * np.exp2(np.linspace(*octaves, found.size))
            return found

        hertz = [still * at(name, 1.0) for name, still in zip(self._network.cutoffs, self._cutoff_hz, strict=True)]
        gains = [still + at(name, 0.0) for name, still in zip(self._network.gains, self._gain, strict=True)]
        omega = 2 * np.pi * np.clip(_together(hertz), CUTOFF_MINIMUM_HZ, CUTOFF_MAXIMUM_HZ)
        return self._renderer.push_moved(played, omega, held_gains(self._network, _together(gains)))


class _Round:
    """One move at every instant of a round of `size` samples, `phases` of them a sample, kept once worked out."""

    def __init__(self, move: Values, size: int, phases: int, sample_rate_hz: float) -> None:
        self._size, self._phases, self._step_s = size, phases, 1 / (phases * sample_rate_hz)
        self._round_s = size / sample_rate_hz
        self._move = move
        kept = size * phases <= MOST_KEPT
        self._kept = np.empty(size * phases if kept else 0)
        self._known = np.zeros(-(-size // PART) if kept else 0, dtype=bool)

    def at(self, first: int, count: int) -> FloatArray:
        """(count · phases + 1,) from the sample `first` on, which may lie before the round's beginning."""
        if not self._known.size:
            return self._worked_out(first % self._size * self._phases, count * self._phases + 1)
        samples = np.arange(first, first + count + 1) % self._size
        for part in np.unique(samples // PART):
            if not self._known[part]:
                begin, end = part * PART * self._phases, min((part + 1) * PART, self._size) * self._phases
                self._kept[begin:end] = self._worked_out(begin, end - begin)
                self._known[part] = True
        begin, wanted = first % self._size * self._phases, count * self._phases + 1
        if begin + wanted <= self._kept.size:
            return self._kept[begin : begin + wanted]
        return np.take(self._kept, np.arange(begin, begin + wanted), mode="wrap")

    def _worked_out(self, first: int, count: int) -> FloatArray:
        begin_s, end_s = (first - BESIDE) * self._step_s, (first + count + BESIDE) * self._step_s
        if begin_s > SEAM_S and end_s < self._round_s:
            return at_instants(self._move, first, count, self._step_s)
        # A round later: it has come round before.
        return at_instants(self._again, first + self._size * self._phases, count, self._step_s)

    def _again(self, times_s: FloatArray) -> FloatArray:
        return round_again(self._move, self._round_s, times_s)


def _together(values: list[FloatArray]) -> FloatArray:
    """(controls, instants or 1)."""
    length = max((one.size for one in values), default=1)
    return np.stack([np.broadcast_to(one, (length,)) for one in values]) if values else np.zeros((0, 1))


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
