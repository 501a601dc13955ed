"""A curve known at points: where it crosses a level, how steep it is, where it is highest, all between the points."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray


@dataclass(frozen=True, slots=True, eq=False)
class SampledCurve:
    """Level in dB over octaves, both (n,), octave = log2 of frequency, uniform and rising."""

    octave: FloatArray
    level: FloatArray

    @staticmethod
    def hz(octave: float) -> float:
        return float(2.0**octave)

    def at(self, octave: float) -> float:
        return float(np.interp(octave, self.octave, self.level))

    def falls_through(self, level_db: float, start: int, direction: int) -> float | None:
        """Octave at which the level first passes below level_db, walking from index start."""
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

    def slope(self, low: float, high: float) -> float | None:
        """Least squares of dB on octaves, or None over less than half an octave."""
        low, high = max(low, float(self.octave[0])), min(high, float(self.octave[-1]))
        if high - low < 0.5:
            return None
        # Between its very ends, not from grid point to grid point: near a knee that would move the slope.
        places = np.linspace(low, high, 193)
        return float(np.polyfit(places - low, np.interp(places, self.octave, self.level), 1)[0])

    def extremum(self, index: int) -> tuple[float, float]:
        """(octave, level) of the highest or lowest point of the curve through a point and its neighbours: a parabola,
        bent by two neighbours more where there are any (a sharp peak is no parabola at this spacing)."""
        if not 0 < index < self.level.size - 1:
            return float(self.octave[index]), float(self.level[index])
        a, b, c = self.level[index - 1 : index + 2]
        bend, lean = a - 2 * b + c, 0.5 * (c - a)
        if bend == 0:
            return float(self.octave[index]), float(b)
        third = fourth = 0.0
        if 1 < index < self.level.size - 2:
            e, d = self.level[index - 2], self.level[index + 2]
            third = (d - 2 * c + 2 * a - e) / 12
            fourth = (d - 4 * c + 6 * b - 4 * a + e) / 24
        # Level at shift t: b + (lean - third)·t + (bend/2 - fourth)·t² + third·t³ + fourth·t⁴
        one, two = lean - third, bend / 2 - fourth
        shift = float(np.clip(-lean / bend, -1, 1))
        for _ in range(3):
            slope = one + 2 * two * shift + 3 * third * shift**2 + 4 * fourth * shift**3
            change = 2 * two + 6 * third * shift + 12 * fourth * shift**2
            if change * bend <= 0:
                break
            shift = float(np.clip(shift - slope / change, -1, 1))
        level = b + shift * (one + shift * (two + shift * (third + shift * fourth)))
        return float(self.octave[index] + shift * (self.octave[1] - self.octave[0])), float(level)
