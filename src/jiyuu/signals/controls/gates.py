"""When something begins and ends: what clocks and gates are to the controls that they drive."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray

LOOKED_S = 1e-4  # how finely a control is looked at for where it passes one half
HALVINGS = 44


@dataclass(frozen=True, slots=True, eq=False)
class Gates:
    """rises (m,) in s: what triggers; falls (m,): when the gate that was high then falls, inf where it does not; slides
    (m,): whether the note was slid into, under a gate that was high already."""

    rises: FloatArray
    falls: FloatArray
    slides: FloatArray

    @classmethod
    def of(cls, rises: FloatArray, falls: FloatArray) -> Gates:
        return cls(rises, falls, np.zeros(rises.size, dtype=bool))


def clock(rate_hz: float, until_s: float) -> Gates:
    """High in the first half of each period."""
    rises = np.arange(int(np.floor(until_s * rate_hz)) + 1) / rate_hz
    return Gates.of(rises, rises + 0.5 / rate_hz)


def above_half(control: Callable[[FloatArray], FloatArray], until_s: float) -> Gates:
    """High where a control lies above one half; one that is high at 0 s rises there. Where it passes is found between
    two looks a tenth of a millisecond apart."""
    grid = np.arange(0.0, until_s + LOOKED_S, LOOKED_S)
    high = control(grid) > 0.5
    turns = np.flatnonzero(high[1:] != high[:-1])
    low, up = grid[turns], grid[turns + 1]
    rising = high[turns + 1]
    for _ in range(HALVINGS):
        if not turns.size:
            break
        middle = 0.5 * (low + up)
        passed = (control(middle) > 0.5) == rising
        low, up = np.where(passed, low, middle), np.where(passed, middle, up)
    rises = np.concatenate([[0.0] if high[0] else [], up[rising]])
    falls = up[~rising]
    return Gates.of(rises, np.append(falls, np.full(rises.size - falls.size, np.inf)))
