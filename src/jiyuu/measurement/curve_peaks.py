"""Peaks of a sampled curve: where they are and how far they stand out.

Written here rather than taken from a signal package, whose import would add half a second to every start.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import FloatArray


def local_maxima(level: FloatArray) -> NDArray[np.intp]:
    """Inner points higher than both neighbours; of a flat top its first."""
    rises = np.diff(level)
    turns = np.flatnonzero(rises)
    falls_next = (rises[turns[:-1]] > 0) & (rises[turns[1:]] < 0)
    return np.asarray(turns[:-1][falls_next] + 1)


def prominence_of(level: FloatArray, peak: int) -> float:
    """How far one must come down from a peak, on its gentler side, before going higher than it."""
    higher = np.flatnonzero(level > level[peak])
    left, right = higher[higher < peak], higher[higher > peak]
    start = int(left[-1]) if left.size else 0
    stop = int(right[0]) + 1 if right.size else level.size
    return float(level[peak] - max(level[start : peak + 1].min(), level[peak:stop].min()))
