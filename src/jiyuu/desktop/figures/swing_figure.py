"""Levels over the swing of a self-modulation, in octaves each way."""

from __future__ import annotations

import math

from jiyuu.arrays import FloatArray
from jiyuu.desktop.figures.plot import Axis
from jiyuu.desktop.figures.ruled import RuledFigure
from jiyuu.desktop.figures.rulers import LevelAxis


class _SwingAxis(Axis):
    def __init__(self) -> None:
        super().__init__("bottom")
        self.setStyle(tickLength=0, tickTextOffset=2)

    def ticks(self, minVal: float, maxVal: float, size: float) -> list[tuple[float, list[float]]]:
        every = 0.25 if (maxVal - minVal) / 0.25 * 70 <= size else 0.5
        return [(every, [i * every for i in range(math.ceil(minVal / every), math.floor(maxVal / every) + 1)])]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        return [f"±{value:g} oct" if value else "none" for value in values]


class SwingFigure(RuledFigure):
    """x is octaves of swing each way."""

    column = "swing_octaves"
    lowest, highest = 0.0, 3.0

    def __init__(self, title: str) -> None:
        axes = {"left": LevelAxis((6.0, 12.0, 24.0), "dB"), "bottom": _SwingAxis()}
        super().__init__(title=title, unit="dB", axes=axes, level_steps=(6.0, 12.0), strong_step=12.0)
        self.set_levels(-48, 18)  # what is said stands over the curves

    def x_of(self, places: FloatArray) -> FloatArray:
        return places

    def place_of(self, x: float) -> float:
        return x

    def said(self, place: float) -> str:
        return f"±{place:.2f} octaves"

    def lines(self, left: float, right: float) -> list[tuple[float, bool]]:
        return [(0.5 * i, i % 2 == 0) for i in range(math.ceil(2 * left), math.floor(2 * right) + 1)]
