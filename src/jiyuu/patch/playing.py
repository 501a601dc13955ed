"""A patch at large signal: volts in, volts out, one network a side."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError
from jiyuu.patch.document import Patch
from jiyuu.patch.heard import HeardRecord
from jiyuu.patch.linear_stages import Comb
from jiyuu.patch.lowering import LEFT, OUTPUT_LEVEL, RIGHT, is_stereo, lowered, pieces_of
from jiyuu.patch.motion import Motion, Values
from jiyuu.patch.response import judged_loops
from jiyuu.patch.sounding import source_record
from jiyuu.simulation.linear_render import answered, through_straight
from jiyuu.simulation.render import SEGMENT, render

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
    patch: Patch, input_v: FloatArray, sample_rate_hz: float, *, block: int | None = None, own_sources: bool = False
) -> FloatArray:
    """(sides, n) volts from input_v (1 or 2, n): of two channels left goes left and right right. block: samples at a
    time; own_sources: input_v is what sources_record made of the patch. Raises SignalError where it runs away, naming
    the loop; CircuitError as network_of does."""
    stereo = is_stereo(patch) or input_v.shape[0] > 1
    # Played on a recording, every source is that; on its own, controls listen to what each plays by itself.
    heard = None if own_sources else {f"source {i}": HeardRecord(input_v.mean(axis=0), sample_rate_hz)
                                      for i in range(1, 9)}
    moves = Motion(patch, input_v.shape[1] / sample_rate_hz + AFTER_S, heard).moves()
    sides = (LEFT, RIGHT) if stereo else (LEFT,)
    pieces = pieces_of(patch)
    outputs = []
    for i, side in enumerate(sides):
        sound = input_v[min(i, input_v.shape[0] - 1)]
        for k, piece in enumerate(pieces):
            if isinstance(piece, Comb):
                comb = piece
                sound = answered(sound, sample_rate_hz, round(comb.ring_s * sample_rate_hz),
                                 lambda hertz, comb=comb: comb.gain(hertz)[0])  # type: ignore[misc]
                continue
            # The output's own level stands behind the last piece.
            own = {name: move for name, move in moves.items() if name != OUTPUT_LEVEL or k == len(pieces) - 1}
            sound = _through(piece, side, sound, sample_rate_hz, own, block)
        outputs.append(sound)
    return np.stack(outputs)


def _through(
    patch: Patch, side: str, input_v: FloatArray, sample_rate_hz: float, moves: Mapping[str, Values], block: int | None
) -> FloatArray:
    """(n,) volts of one side of a piece that is one network."""
    it = lowered(patch, side, moves.keys())
    own = {name: move for name, move in moves.items() if name in (*it.network.cutoffs, *it.network.gains)}
    straight = None if own else through_straight(it.network, input_v, sample_rate_hz, cutoff_hz=it.cutoff_hz,
                                                 gain=it.gain)
    if straight is not None:
        return straight
    try:
        found = render(
            it.network, input_v, sample_rate_hz=sample_rate_hz, cutoff_hz=it.cutoff_hz, gain=it.gain, modes=["out"],
            moves=own, block=block or SEGMENT,
        ).output_v[0]
    except OverflowError as error:
        raise _ran_away(patch) from error
    if not np.isfinite(found).all() or np.abs(found).max(initial=0.0) > LOUDEST_V:
        raise _ran_away(patch)
    return np.asarray(found)


def _ran_away(patch: Patch) -> SignalError:
    for loop in judged_loops(patch):
        if not loop.stable and loop.amount_to_ring is not None:
            return SignalError(f"{loop.called}: its feedback runs away, since nothing in the loop limits it; it does "
                               f"so from an amount of {loop.amount_to_ring:.4g}: give less, or a 'through'.")
    return SignalError(f"The patch '{patch.name}' runs away; put a curve into it or turn its gains down.")
