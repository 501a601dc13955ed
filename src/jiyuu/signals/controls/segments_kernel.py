"""Values of a curve in pieces at many times: a control is asked for hundreds of thousands times a second."""

import math

import numpy as np

from jiyuu.compiled.entry import Row, Table
from jiyuu.compiled.loops import loop


@loop()
def at(times: Row, starts: Row, pieces: Table) -> Row:
    """(n,) at times (n,), in whatever order; pieces (4, k): value at the start, slope, goal, 1/time constant."""
    found = np.zeros(times.size)
    place, count = 0, starts.size
    for i in range(times.size):
        time = times[i]
        if time < starts[0]:
            continue
        if time < starts[place]:
            place = np.searchsorted(starts, time, side="right") - 1
        while place + 1 < count and starts[place + 1] <= time:
            place += 1
        since, rate = time - starts[place], pieces[3, place]
        if rate > 0.0:
            found[i] = pieces[2, place] + (pieces[0, place] - pieces[2, place]) * math.exp(-since * rate)
        else:
            found[i] = pieces[0, place] + pieces[1, place] * since
    return found
