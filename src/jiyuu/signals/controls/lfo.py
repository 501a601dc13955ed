"""A low-frequency oscillator, from hours to the middle of what is heard."""

from __future__ import annotations

from typing import Literal

import numpy as np

from jiyuu.arrays import FloatArray

Shape = Literal["sine", "triangle", "rise", "fall", "square", "pulse"]


def lfo(shape: Shape, turns: FloatArray, width: FloatArray | float, unipolar: bool) -> FloatArray:
    """After so many turns (n,): sin 2πφ; a triangle that starts at 0 and rises; −1 to 1 and the reverse; +1 first."""
    part = turns - np.floor(turns)
    if shape == "sine":
        found = np.sin(2 * np.pi * part)
    elif shape == "triangle":
        found = 1 - np.abs(4 * (part + 0.25 - (part >= 0.75)) - 2)
    elif shape == "rise":
        found = 2 * part - 1
    elif shape == "fall":
        found = 1 - 2 * part
    else:
        found = np.where(part < (0.5 if shape == "square" else width), 1.0, -1.0)
    return np.asarray((found + 1) / 2 if unipolar else found)
