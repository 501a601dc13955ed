"""A sum of sines of whole multiples of a phase."""

import numpy as np

from jiyuu.compiled.entry import Row
from jiyuu.compiled.loops import loop

LANES = 64  # samples side by side


@loop("contract")
def summed(phase: Row, sines: Row) -> Row:
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
