"""The follower's loop over samples, compiled; apart from the rest since a compiler takes long to load."""

import numpy as np
from numba import njit

from jiyuu.arrays import DEAD, FloatArray


@njit(cache=True, nogil=True)
def follow(goals: FloatArray, up: float, down: float, stands: float) -> FloatArray:
    found = np.empty(goals.size)
    for i in range(goals.size):
        keep = up if goals[i] > stands else down
        stands = goals[i] + keep * (stands - goals[i])
        stands = 0.0 if abs(stands) < DEAD else stands
        found[i] = stands
    return found
