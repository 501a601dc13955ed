"""One source of a patch as it sounds, moved as its routes say."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import CircuitError
from jiyuu.signals.source import SourceKind
from jiyuu.signals.sources import moving

if TYPE_CHECKING:
    from jiyuu.patch.motion import Motion

MOVABLE = (SourceKind.SINE, SourceKind.TRIANGLE, SourceKind.SAW, SourceKind.SQUARE, SourceKind.PULSE)
OWN_RATE_HZ = 48_000.0  # at which controls listen
SEED = 3  # of the first source's noise


def source_record(motion: Motion, number: int, duration_s: float, sample_rate_hz: float) -> FloatArray:
    """(n,) volts of the source of that number, from 1. Raises CircuitError where its pitch is moved and it has none, or
    where there is no such source."""
    if number > len(motion.patch.sources):
        raise CircuitError(f"source {number}: the patch has no such source; add it, or render the patch on a "
                           "recording.")
    one = motion.patch.sources[number - 1]
    moved = {target.name: target for target in motion.targets}
    times_s = np.arange(round(duration_s * sample_rate_hz)) / sample_rate_hz
    level, pitch = moved.get(f"source {number}.level"), moved.get(f"source {number}.pitch")
    level_v = np.full(times_s.size, one.level_v) if level is None else motion.in_network(
        level, motion.value(level, times_s))
    width = moved.get(f"source {number}.width")
    if pitch is not None or width is not None:
        if one.kind not in MOVABLE:
            raise CircuitError(f"source {number}: pitch: a {one.kind} has none that can be moved; use a sine, "
                               "triangle, saw, square or pulse.")
        hertz, share = (np.full(times_s.size, stands) if target is None else motion.value(target, times_s)
                        for target, stands in ((pitch, one.pitch_hz), (width, one.width)))
        return moving(one.kind, hertz, level_v, share, sample_rate_hz)
    still = one if level is None else one.model_copy(update={"level_v": 1.0})
    record = still.source().record(duration_s=duration_s, sample_rate_hz=sample_rate_hz, seed=SEED - 1 + number)
    return record if level is None else np.asarray(level_v * record)
