"""Comparison: side by side at equal loudness, with the judgement in numbers."""

from __future__ import annotations

from jiyuu.bench.step import Unmeasured


class ComparisonStep(Unmeasured):
    """In the walk, and not built yet."""

    number, key, name = 9, "comparison", "Comparison"
    purpose = "side by side at equal loudness, with the judgement in numbers"
    built = False


STEP = ComparisonStep()
