"""A low-frequency oscillator, from hours to the middle of what is heard."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from jiyuu.arrays import FloatArray

Shape = Literal["sine", "triangle", "rise", "fall", "square", "pulse"]


@dataclass(frozen=True, slots=True)
class Lfo:
    """phase in turns; width: share of a period that a pulse is high; unipolar: 0 to 1 instead of ±1."""

    shape: Shape = "sine"
    rate_hz: float = 1.0
    phase: float = 0.0
    width: float = 0.5
    unipolar: bool = False

    def at(self, times_s: FloatArray) -> FloatArray:
        """sin 2πφ; a triangle that starts at 0 and rises; −1 to 1 and the reverse; +1 first."""
        turns = self.rate_hz * times_s + self.phase
        part = turns - np.floor(turns)
        if self.shape == "sine":
            found = np.sin(2 * np.pi * part)
        elif self.shape == "triangle":
            found = 1 - np.abs(4 * ((part + 0.25) % 1.0) - 2)
        elif self.shape == "rise":
            found = 2 * part - 1
        elif self.shape == "fall":
            found = 1 - 2 * part
        else:
            found = np.where(part < (0.5 if self.shape == "square" else self.width), 1.0, -1.0)
        return np.asarray((found + 1) / 2 if self.unipolar else found)
