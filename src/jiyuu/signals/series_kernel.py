"""A sum of sines of whole multiples of a phase, compiled."""

import numpy as np
from numba import njit

from jiyuu.arrays import FloatArray

LANES = 64  # samples side by side


@njit(cache=True, nogil=True, fastmath={"contract"})
def summed(phase: FloatArray, sines: FloatArray) -> FloatArray:
    """Σ sines[n − 1]·sin(n·phase) (m,) by Clenshaw's recurrence."""
    total = np.empty(phase.size)
    twice, newer, older = np.zeros(LANES), np.zeros(LANES), np.zeros(LANES)
    for start in range(0, phase.size, LANES):
        count = min(LANES, phase.size - start)
        for j in range(count):
            twice[j] = 2.0 * np.cos(phase[start + j])
            newer[j] = older[j] = 0.0
        for n in range(sines.size - 1, -1, -1):
            amount = sines[n]
            for j in range(LANES):
                next_one = twice[j] * newer[j] - older[j] + amount
                older[j] = newer[j]
                newer[j] = next_one
        for j in range(count):
            total[start + j] = newer[j] * np.sin(phase[start + j])
    return total
