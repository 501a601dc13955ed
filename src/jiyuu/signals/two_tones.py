"""Two tones at once: what is played to hear which products a filter makes of them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError

LOWEST_HZ, HIGHEST_HZ = 20.0, 18_000.0
LEAST_APART_HZ = 10.0
TOLD_APART_HZ = 5.0  # products and tones from each other, or one would be read for the other
FADE_S = 0.01


@dataclass(frozen=True, slots=True)
class TwoTones:
    """level_v: peak volts of each. Raises SignalError for two that are out of range, or whose products would fall onto
    one another."""

    low_hz: float
    high_hz: float
    level_v: float

    def __post_init__(self) -> None:
        low, high = self.low_hz, self.high_hz
        if not LOWEST_HZ <= low < high <= HIGHEST_HZ or high - low < LEAST_APART_HZ:
            raise SignalError(f"two tones of {low:g} and {high:g} Hz cannot be told apart here; give two between 20 Hz "
                              "and 18 kHz, the lower one first and 10 Hz or more between them.")
        places = np.sort(np.array([0.0, low, high, self.difference_hz, *self.third_hz]))
        if np.diff(places).min() < TOLD_APART_HZ:
            raise SignalError(f"of two tones of {low:g} and {high:g} Hz one product falls onto another or onto a tone; "
                              "move one of them by some hertz.")
        if not 0 < self.level_v <= 1000:
            raise SignalError(f"a level of {self.level_v:g} V is out of range; give more than 0 and up to 1000 V.")

    @property
    def difference_hz(self) -> float:
        """Where the product of second order lies."""
        return self.high_hz - self.low_hz

    @property
    def third_hz(self) -> tuple[float, float]:
        """Where those of third order lie."""
        return abs(2 * self.low_hz - self.high_hz), 2 * self.high_hz - self.low_hz

    def wave_v(self, t_s: FloatArray) -> FloatArray:
        """(n,) at times (n,), without an end."""
        turns = 2 * np.pi * t_s
        return np.asarray(self.level_v * (np.sin(self.low_hz * turns) + np.sin(self.high_hz * turns)))
