"""A curve put together from pieces that stand, run straight, or go exponentially towards a goal."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.signals.controls.segments_kernel import at


class Segments:
    """Pieces in the order of their beginnings; each lasts until the next one begins. Before the first it is 0."""

    def __init__(self) -> None:
        self._starts: list[float] = []
        self._pieces: list[tuple[float, float, float, float]] = []  # value then, slope, goal, 1/time constant
        self._table: tuple[FloatArray, FloatArray] | None = None

    def add(
        self, start_s: float, value: float, *, slope: float = 0.0, goal: float = 0.0, tau_s: float = np.inf
    ) -> None:
        """From start_s on: value + slope·t where no time constant is given, else towards the goal. A piece that begins
        where the last one does takes its place."""
        while self._starts and self._starts[-1] >= start_s:
            self._starts.pop()
            self._pieces.pop()
        self._starts.append(start_s)
        self._pieces.append((value, slope, goal, 0.0 if np.isinf(tau_s) else 1 / tau_s))
        self._table = None

    def at(self, times_s: FloatArray) -> FloatArray:
        """Values at times (n,)."""
        if self._table is None:
            columns = np.array(self._pieces).reshape(-1, 4).T
            self._table = np.array(self._starts), np.ascontiguousarray(columns)
        starts, pieces = self._table
        if not starts.size:
            return np.zeros(times_s.size)
        return at(times_s, starts, pieces)

    def value(self, time_s: float) -> float:
        """At one time."""
        if not self._starts or time_s < self._starts[0]:
            return 0.0
        place = len(self._starts) - 1
        while self._starts[place] > time_s:
            place -= 1
        value, slope, goal, rate = self._pieces[place]
        since = time_s - self._starts[place]
        return float(goal + (value - goal) * np.exp(-since * rate)) if rate else float(value + slope * since)


def smoothed(changes: list[tuple[float, float]], tau_s: float) -> Segments:
    """(time, value) steps behind one pole, settled on the first value when it begins; tau_s 0: as they are."""
    found = Segments()
    for time_s, goal in changes:
        if tau_s <= 0 or not found._starts:
            found.add(time_s, goal)
        else:
            found.add(time_s, found.value(time_s), goal=goal, tau_s=tau_s)
    return found
