"""The loop of `resampling.taken_at`."""

import numpy as np

from jiyuu.compiled.entry import Row, Table
from jiyuu.compiled.loops import loop


@loop("reassoc", "contract", "nsz")
def taken(padded: Row, position: Row, table: Table) -> Row:
    """padded: the record with half a row of zeros at either end; table (phases + 1, taps) as `taken_at` makes it."""
    phases, taps = table.shape[0] - 1, table.shape[1]
    last = padded.size - taps
    found = np.zeros(position.size)
    for i in range(position.size):
        base = np.floor(position[i])
        first = int(base) + 1  # in the padded record, of the tap farthest to the left
        if first < 0 or first > last:
            continue
        phase = (position[i] - base) * phases
        row = min(int(phase), phases - 1)
        share = phase - row
        near, one, next_one = padded[first : first + taps], table[row], table[row + 1]
        left, right = 0.0, 0.0
        for j in range(taps):
            left += near[j] * one[j]
            right += near[j] * next_one[j]
        found[i] = left + share * (right - left)
    return found
