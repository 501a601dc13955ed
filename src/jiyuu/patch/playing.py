"""A patch at large signal: volts in, volts out, one network a side."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError
from jiyuu.patch.document import Patch
from jiyuu.patch.lowering import LEFT, RIGHT, UNIT_HZ, is_stereo, network_of
from jiyuu.patch.response import judged_loops
from jiyuu.simulation.render import SEGMENT, render

LOUDEST_V = 1e6  # no circuit stands there: what reaches it has run away


def sources_record(patch: Patch, duration_s: float, sample_rate_hz: float) -> FloatArray:
    """(n,) volts: all sources of the patch together."""
    return np.asarray(np.sum([
        one.source().record(duration_s=duration_s, sample_rate_hz=sample_rate_hz) for one in patch.sources
    ], axis=0))


def play_patch(
    patch: Patch, input_v: FloatArray, sample_rate_hz: float, *, block: int | None = None
) -> FloatArray:
    """(sides, n) volts from input_v (1 or 2, n): of two channels left goes left and right right. block: samples at a
    time. Raises SignalError where it runs away, naming the loop; CircuitError as network_of does."""
    stereo = is_stereo(patch) or input_v.shape[0] > 1
    sides = (LEFT, RIGHT) if stereo else (LEFT,)
    outputs = []
    for i, side in enumerate(sides):
        try:
            found = render(
                network_of(patch, side), input_v[min(i, input_v.shape[0] - 1)], sample_rate_hz=sample_rate_hz,
                cutoff_hz=UNIT_HZ, gain=0.0, modes=["out"], block=block or SEGMENT,
            ).output_v[0]
        except OverflowError as error:
            raise _ran_away(patch) from error
        if not np.isfinite(found).all() or np.abs(found).max(initial=0.0) > LOUDEST_V:
            raise _ran_away(patch)
        outputs.append(found)
    return np.stack(outputs)


def _ran_away(patch: Patch) -> SignalError:
    for loop in judged_loops(patch):
        if not loop.stable and loop.amount_to_ring is not None:
            return SignalError(f"{loop.called}: its feedback runs away, since nothing in the loop limits it; it does "
                               f"so from an amount of {loop.amount_to_ring:.4g}: give less, or a 'through'.")
    return SignalError(f"The patch '{patch.name}' runs away; put a curve into it or turn its gains down.")
