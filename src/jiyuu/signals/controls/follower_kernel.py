"""The follower's loop over samples."""

import numpy as np

from jiyuu.arrays import DEAD
from jiyuu.compiled.entry import Row
from jiyuu.compiled.loops import loop


@loop()
def follow(goals: Row, up: float, down: float, stands: float) -> Row:
    found = np.empty(goals.size)
    for i in range(goals.size):
        keep = up if goals[i] > stands else down
        stands = goals[i] + keep * (stands - goals[i])
        stands = 0.0 if abs(stands) < DEAD else stands
        found[i] = stands
    return found
