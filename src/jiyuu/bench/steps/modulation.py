"""Modulation: envelopes, steps, pings and audio-rate modulation of the cutoff."""

from __future__ import annotations

from jiyuu.bench.step import Unmeasured


class ModulationStep(Unmeasured):
    """In the walk, and not built yet."""

    number, key, name = 7, "modulation", "Modulation"
    purpose = "envelopes, steps, pings and audio-rate modulation of the cutoff"
    built = False


STEP = ModulationStep()
