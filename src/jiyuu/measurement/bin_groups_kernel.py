"""The loops of `bin_groups`."""

import numpy as np

from jiyuu.compiled.entry import ComplexRow, Places, Row, Table
from jiyuu.compiled.loops import loop


@loop()
def begun(
    hertz: Row, per_octave: float, poles_hz: ComplexRow, within: float, felt_hz: Row, nodes: int
) -> Places:
    """(g + 1,) the first bin of every group, and the end of the last. A new group begins wherever as many widths have
    gone by as there are groups so far; near a pole (n,) they are narrower, and so near as felt_hz (n,) have no more
    bins than nodes."""
    usual = np.log(2.0) / per_octave
    starts = np.empty(hertz.size + 1, dtype=np.int64)
    count, gone, place = 0, 0.0, -1
    for i in range(hertz.size):
        square, least = (hertz[i] * usual) ** 2, 0.0
        for k, pole in enumerate(poles_hz):
            square = min(square, within**2 * (pole.real**2 + (hertz[i] - pole.imag) ** 2))
            if abs(hertz[i] - pole.imag) < felt_hz[k]:
                least = 1 / nodes
        width = np.sqrt(square)
        step = hertz[i + 1] - hertz[i] if i + 1 < hertz.size else hertz[i] - hertz[i - 1]
        gone += max(min(step / width, 1.0), least)
        here = int(np.floor(gone + 1e-9))
        if here != place:
            starts[count] = i
            count += 1
            place = here
    starts[count] = hertz.size
    return starts[: count + 1]


@loop()
def moments(
    hertz: Row, gain: ComplexRow, counts: Row, variance: Row, starts: Places
) -> tuple[ComplexRow, Row, Table]:
    """(gain (g,), variance (g,), rest (g, 6)) of every group: means of gain; the mean's variance; middle, scale, and
    what Lanczos finds in the places re both: second moment, lean, norm of the third polynomial and its own lean."""
    groups = starts.size - 1
    means, left, rest = np.empty(groups, dtype=np.complex128), np.empty(groups), np.empty((groups, 6))
    for g in range(groups):
        first, stop = starts[g], starts[g + 1]
        total, middle, mean = 0.0, 0.0, 0.0j
        for i in range(first, stop):
            total += counts[i]
            middle += counts[i] * hertz[i]
            mean += counts[i] * gain[i]
        middle /= total
        square, spread = 0.0, 0.0
        for i in range(first, stop):
            square += counts[i] * (hertz[i] - middle) ** 2
            spread += counts[i] ** 2 * variance[i]
        scale = max(np.sqrt(square / total), 1e-12)
        second, cube = 0.0, 0.0
        for i in range(first, stop):
            x = (hertz[i] - middle) / scale
            second += counts[i] * x * x
            cube += counts[i] * x * x * x
        second /= total
        lean = cube / total / max(second, 1e-12)
        norm, more = 0.0, 0.0
        for i in range(first, stop):
            x = (hertz[i] - middle) / scale
            third = x * x - lean * x - second
            norm += counts[i] * third * third
            more += counts[i] * x * third * third
        norm /= total
        means[g], left[g] = mean / total, spread / total**2
        rest[g, 0], rest[g, 1], rest[g, 2], rest[g, 3], rest[g, 4] = middle, scale, second, lean, norm
        rest[g, 5] = more / total / norm if norm > 1e-9 else 0.0
    return means, left, rest
