"""A curve known at points: where it crosses a level, how steep it is, where it is highest, all between the points."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray

SLOPE_CELLS = 384
STEEP_DB, BENT_DB = 0.05, 0.002  # between neighbours: what four or five points tell no longer well enough
CLOSE_DB = 1e-4  # the same, of an extremum that was come near to: further on rounding hides it


@dataclass(frozen=True, slots=True, eq=False)
class SampledCurve:
    """Level in dB over octaves, both (n,), octave = log2 of frequency, uniform and rising. exact: the level at any
    octaves (m,), where it is known between the points; asked where a curve bends too sharply for them."""

    octave: FloatArray
    level: FloatArray
    exact: Callable[[FloatArray], FloatArray] | None = None
    within: tuple[float, float] | None = None  # octaves between which slopes may be read

    def upside_down(self) -> SampledCurve:
        exact = self.exact
        return SampledCurve(self.octave, -self.level, None if exact is None else lambda octave: -exact(octave),
                            self.within)

    def beyond(self, direction: int) -> int:
        """Points that lie outside `within`, at the low (direction +1) or high (−1) end."""
        if self.within is None:
            return 0
        low, high = self.within
        return int(np.sum(self.octave < low) if direction > 0 else np.sum(self.octave > high))

    def deepest(self) -> int:
        """Index of the lowest point that is no end."""
        return 1 + int(np.argmin(self.level[1:-1]))

    def may_read(self, octave: float) -> bool:
        low, high = self.within or (float(self.octave[0]), float(self.octave[-1]))
        return low <= octave <= high

    @staticmethod
    def hz(octave: float) -> float:
        return float(2.0**octave)

    def at(self, octave: float) -> float:
        if self.exact is not None:
            return float(self.exact(np.array([octave]))[0])
        return float(np.interp(octave, self.octave, self.level))

    def falls_through(
        self, level_db: float, start: int, direction: int, top: float | None = None
    ) -> float | None:
        """Octave at which the level first passes below level_db, walking from index start; top: octave of the peak
        beside it, which may be all of it that stands above."""
        if top is not None and self.exact is not None:
            beyond = np.flatnonzero((direction * (self.octave - top) > 0) & (self.level < level_db))
            if not beyond.size:
                return None
            outside = int(beyond[0] if direction > 0 else beyond[-1])
            inside = outside - direction
            if direction * (float(self.octave[inside]) - top) <= 0:
                return self._exact_crossing(top, float(self.octave[outside]), level_db)
            return self._crossing(inside, outside, level_db)
        index = np.arange(start, self.level.size) if direction > 0 else np.arange(start, -1, -1)
        below = np.flatnonzero(self.level[index] < level_db)
        if below.size == 0 or below[0] == 0:
            return None
        return self._crossing(int(index[below[0] - 1]), int(index[below[0]]), level_db)

    def last_fall(self, level_db: float, direction: int) -> float | None:
        """Octave of the outermost crossing of level_db, seen from the stopband on the `direction` side."""
        above = np.flatnonzero(self.level >= level_db)
        if above.size == 0:
            return None
        edge = int(above[-1] if direction > 0 else above[0])
        beyond = edge + direction
        return self._crossing(edge, beyond, level_db) if 0 <= beyond < self.level.size else None

    def _crossing(self, above: int, below: int, level_db: float) -> float:
        share = (self.level[above] - level_db) / (self.level[above] - self.level[below])
        step = below - above
        if self.exact is not None and abs(self.level[above] - self.level[below]) > STEEP_DB:
            return self._exact_crossing(float(self.octave[above]), float(self.octave[below]), level_db)
        if min(above - step, below + step) >= 0 and max(above - step, below + step) < self.level.size:
            # The flank of a sharp peak is no straight line between two points: cubic through four, by Newton.
            a, b, c, d = (float(self.level[i]) for i in (above - step, above, below, below + step))
            one, two, three = c - a / 3 - b / 2 - d / 6, (a + c) / 2 - b, (d - a) / 6 + (b - c) / 2
            for _ in range(2):
                slope = one + share * (2 * two + 3 * three * share)
                if slope >= 0:
                    break  # in the noise; the line will do
                share -= (b + share * (one + share * (two + three * share)) - level_db) / slope
            share = min(max(share, 0.0), 1.0)
        return float(self.octave[above] + share * (self.octave[below] - self.octave[above]))

    def _exact_crossing(self, a: float, b: float, level_db: float) -> float:
        """By halving and by the secant in turns (Dowell and Jarratt 1971, BIT: the Illinois rule)."""
        assert self.exact is not None
        at_a, at_b = (float(v) - level_db for v in self.exact(np.array([a, b])))
        if at_a * at_b > 0:  # the points lie on the other side of the level by a hair
            return a if abs(at_a) < abs(at_b) else b
        for _ in range(30):
            place = (a * at_b - b * at_a) / (at_b - at_a) if at_b != at_a else 0.5 * (a + b)
            found = float(self.exact(np.array([place]))[0]) - level_db
            if abs(found) < 1e-10 or abs(b - a) < 1e-13:
                break
            if found * at_b < 0:
                a, at_a = b, at_b
            else:
                at_a *= 0.5
            b, at_b = place, found
        return place

    def _exact_extremum(self, index: int) -> tuple[float, float]:
        assert self.exact is not None
        step = float(self.octave[1] - self.octave[0])
        place, level = float(self.octave[index]), float(self.level[index])
        sign = 1.0 if self.level[index] >= self.level[index - 1] else -1.0
        # Nine points at a time around the best of them, ever nearer together; then a curve through five.
        for _ in range(12):
            around = place + step * np.linspace(-1, 1, 9)
            levels = self.exact(around)
            best = int(np.clip(np.argmax(sign * levels), 1, 7))
            place, level, step = float(around[best]), float(levels[best]), step / 4
            if abs(levels[best - 1] - 2 * levels[best] + levels[best + 1]) < CLOSE_DB:
                shift, level = _top_of(*self.exact(place + step * np.arange(-2.0, 3.0)).tolist())
                return place + shift * step, level
        return place, level

    def slope(self, low: float, high: float) -> float | None:
        """Least squares of dB on octaves, or None over less than half an octave."""
        first, last = self.within or (float(self.octave[0]), float(self.octave[-1]))
        low, high = max(low, first), min(high, last)
        if high - low < 0.5:
            return None
        # Between its very ends, not from grid point to grid point: near a knee that would move the slope.
        # In the middles of equal cells: with points on both ends these would count twice.
        places = low + (high - low) * (np.arange(SLOPE_CELLS) + 0.5) / SLOPE_CELLS
        level = self.exact(places) if self.exact is not None else np.interp(places, self.octave, self.level)
        return float(np.polyfit(places - low, level, 1)[0])

    def extremum(self, index: int) -> tuple[float, float]:
        """(octave, level) of the highest or lowest point of the curve through a point and its neighbours: a parabola,
        bent by two neighbours more where there are any (a sharp peak is no parabola at this spacing)."""
        if not 0 < index < self.level.size - 1:
            return float(self.octave[index]), float(self.level[index])
        a, b, c = self.level[index - 1 : index + 2]
        if self.exact is not None and abs(a - 2 * b + c) > BENT_DB:
            return self._exact_extremum(index)
        beside = self.level[index - 2 : index + 3] if 1 < index < self.level.size - 2 else (3 * a - 3 * b + c, a, b, c,
                                                                                          a - 3 * b + 3 * c)
        shift, level = _top_of(*(float(point) for point in beside))
        return float(self.octave[index] + shift * (self.octave[1] - self.octave[0])), level


def _top_of(e: float, a: float, b: float, c: float, d: float) -> tuple[float, float]:
    """(where, how high) the highest or lowest point lies of what goes through five that stand alike far apart, in steps
    from the middle one: a parabola through three, bent by the two outer ones."""
    bend, lean = a - 2 * b + c, 0.5 * (c - a)
    if bend == 0:
        return 0.0, b
    third = (d - 2 * c + 2 * a - e) / 12
    fourth = (d - 4 * c + 6 * b - 4 * a + e) / 24
    # Level at shift t: b + (lean - third)·t + (bend/2 - fourth)·t² + third·t³ + fourth·t⁴
    one, two = lean - third, bend / 2 - fourth
    shift = min(max(-lean / bend, -1.0), 1.0)
    for _ in range(3):
        slope = one + 2 * two * shift + 3 * third * shift**2 + 4 * fourth * shift**3
        change = 2 * two + 6 * third * shift + 12 * fourth * shift**2
        if change * bend <= 0:
            break
        shift = min(max(shift - slope / change, -1.0), 1.0)
    return shift, b + shift * (one + shift * (two + shift * (third + shift * fourth)))
