"""Combination: two filters in series, parallel or stereo; vowels and banks."""

from __future__ import annotations

from jiyuu.bench.step import Unmeasured


class CombinationStep(Unmeasured):
    """In the walk, and not built yet."""

    number, key, name = 8, "combination", "Combination"
    purpose = "two filters in series, parallel or stereo; vowels and banks"
    built = False


STEP = CombinationStep()
