"""What 'jiyuu drive' says of a patch that rings on: a note at rising levels, and what is left behind it."""

from __future__ import annotations

from typing import TYPE_CHECKING

import typer

from jiyuu.patch.document import Patch
from jiyuu.patch.lowering import sides_of
from jiyuu.patch.stretches import stands_apart

if TYPE_CHECKING:
    from jiyuu.arrays import FloatArray
    from jiyuu.prediction.driven_ring import Rung

MOST_LEVELS = 8


def is_several_networks(patch: Patch) -> bool:
    """Whether a stage stands between networks, so that no settled tone can be closed round it."""
    return any(stands_apart(stage, side) for stage in patch.path for side in sides_of(patch))


def ring_of(patch: Patch, levels_v: FloatArray, frequency_hz: float | None) -> list[Rung]:
    """The softest and the loudest of the levels, and up to six between them. What is played is the patch's first
    source, a saw where it has none, at its own pitch unless another is given. Raises CircuitError and SignalError as
    ring_ladder does."""
    import numpy as np

    from jiyuu.patch.document import PatchSource
    from jiyuu.prediction.driven_ring import NOTE_S, RATE_HZ, ring_ladder

    source = patch.sources[0] if patch.sources else PatchSource()
    if frequency_hz is not None:
        source = source.model_copy(update={"pitch_hz": frequency_hz})
    sound = source.model_copy(update={"level_v": 1.0}).source().record(duration_s=NOTE_S, sample_rate_hz=RATE_HZ)
    chosen = np.unique(np.linspace(0, levels_v.size - 1, min(levels_v.size, MOST_LEVELS)).round().astype(int))
    return list(ring_ladder(patch, sound, levels_v[chosen].tolist()))


def say_ring(ring: list[Rung]) -> None:
    for one in ring:
        lasts = "does not die" if one.ring_s is None else f"dies in {one.ring_s:.3g} s"
        typer.echo(f"{one.input_peak_v:9.4g} V in: its ring is {one.ring_v:.4g} V RMS, {one.behind_db:+.2f} dB behind, "
                   f"{lasts}, centre {one.centre_hz:.0f} Hz")
