"""Means of spectra over the widths of points, in a loop: only what is kept of a running sum is stored."""

import numpy as np

from jiyuu.compiled.entry import ComplexRow, ComplexTable, Row
from jiyuu.compiled.loops import loop


@loop()
def _between(values: ComplexRow, places: Row) -> ComplexRow:
    """(n,) at places (n,): cubic through the four nearest (Lagrange)."""
    found = np.empty(places.size, dtype=np.complex128)
    for i in range(places.size):
        k = min(max(int(np.floor(places[i])), 1), values.size - 3)
        t = places[i] - k
        found[i] = (values[k - 1] * (-t * (t - 1) * (t - 2) / 6) + values[k] * ((t + 1) * (t - 1) * (t - 2) / 2)
                    - values[k + 1] * ((t + 1) * t * (t - 2) / 2) + values[k + 2] * ((t + 1) * t * (t - 1) / 6))
    return found


@loop()
def means(
    spectra: ComplexRow, shift: int, count: int, bins: int, edges: Row, places: Row, width: float
) -> ComplexTable:
    """(count, n) of as many spectra, each with its first bin `shift` behind the last one's: the mean of each over an
    octave's part between edges (n + 1,), `width` in natural logarithms; its value at places (n,) where those are less
    than a bin apart. Edges and places in bins, of which there are so many.

    The mean is over octaves, not hertz, or it would lean where the gain changes within a point; its own curvature is
    taken out again, so that a sharp peak is not flattened."""
    first = max(int(edges[0]) - 4, 0)
    size = min(int(edges[-1]) + 5, bins) - first
    found = np.empty((count, places.size), dtype=np.complex128)
    share, total = np.empty(size, dtype=np.complex128), np.empty(size + 1, dtype=np.complex128)
    mean = np.empty(places.size, dtype=np.complex128)
    for row in range(count):
        begins = row * shift + first
        for b in range(size):
            share[b] = spectra[begins + b] * (1.0 / max(first + b, 1))
        # A bin's share of the integral is its value and a little of its curvature (midpoint rule, next order).
        total[0] = complex(0.0, 0.0)
        total[1] = share[0]
        for b in range(1, size - 1):
            bend = (share[b + 1] - share[b]) - (share[b] - share[b - 1])
            total[b + 1] = total[b] + (share[b] + bend / 24)
        total[size] = total[size - 1] + share[size - 1]
        sums = _between(total, edges - first + 0.5)
        narrow = 0
        for i in range(mean.size):
            mean[i] = (sums[i + 1] - sums[i]) / width
            narrow += 1 if edges[i + 1] - edges[i] < 1 else 0
        for i in range(mean.size):
            bend = complex(0.0, 0.0)
            if 0 < i < mean.size - 1:
                bend -= ((mean[i + 1] - mean[i]) - (mean[i] - mean[i - 1])) / 24
            if 1 < i < mean.size - 2:
                bend += 3 / 640 * ((mean[i + 2] - 4 * mean[i + 1] + 6 * mean[i]) - 4 * mean[i - 1] + mean[i - 2])
            found[row, i] = mean[i] + bend
        if narrow:
            there = _between(spectra[begins : begins + size], places - first)
            for i in range(mean.size):
                if edges[i + 1] - edges[i] < 1:
                    found[row, i] = there[i]
    return found
