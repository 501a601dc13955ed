"""Drive: clean to saturated, and what that does to resonance and loudness."""

from __future__ import annotations

from jiyuu.bench.step import Unmeasured


class DriveStep(Unmeasured):
    """In the walk, and not built yet."""

    number, key, name = 6, "drive", "Drive"
    purpose = "clean to saturated, and what that does to resonance and loudness"
    built = False


STEP = DriveStep()
