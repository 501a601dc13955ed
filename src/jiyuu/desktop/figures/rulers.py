"""Rulers and ruling. Over frequency, the same in every figure: x is volts at 1 V/octave, 0 V at C4; hertz above, notes
below."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QPainter, QPen
from PyQt6.QtWidgets import QGraphicsItem

from jiyuu.desktop.figures.over_view import OverView
from jiyuu.desktop.figures.plot import Axis
from jiyuu.desktop.theme.style import SMALL_PX, THEME
from jiyuu.quantities import C4_HZ, hz_of_volts, in_thousands

ROOM_PX = 8.0  # at least, between ruled lines
NAMED = (((1, 2, 5), 1.0), ((1, 3), 1.58))  # digits of a decade, octaves between the nearest of them
HERTZ_PX = 22.0  # from one number to the next, at least
LOWEST_V, HIGHEST_V = math.log2(16 / C4_HZ), math.log2(21_000 / C4_HZ)


def volts_of_hz(frequency_hz: NDArray[np.float64]) -> NDArray[np.float64]:
    """x of a frequency (n,)."""
    return np.asarray(np.log2(np.asarray(frequency_hz) / C4_HZ))


def decade_lines(left: float, right: float) -> list[tuple[float, bool]]:
    """x of every digit of every decade between two x, and whether it begins a decade."""
    every = ((math.log2(digit * 10**decade / C4_HZ), digit == 1) for decade in range(6) for digit in range(1, 10))
    return [(x, strong) for x, strong in every if left <= x <= right]


class HertzAxis(Axis):
    """Above the figure, or on its left: numbers at 1, 2 and 5 of every decade or as many as there is room for, a line
    for every tenth."""

    def __init__(self, side: str = "top") -> None:
        super().__init__(side)
        self.setStyle(tickLength=0, tickTextOffset=2)

    def ticks(self, minVal: float, maxVal: float, size: float) -> list[tuple[float, list[float]]]:
        octave_px = size / max(maxVal - minVal, 1e-9)
        digits = next((digits for digits, octaves in NAMED if octaves * octave_px >= HERTZ_PX), (1,))
        named: list[float] = []
        plain: list[float] = []
        for decade in range(6):
            for digit in range(1, 10):
                volts = math.log2(digit * 10**decade / C4_HZ)
                if minVal <= volts <= maxVal:
                    (named if digit in digits else plain).append(volts)
        if maxVal - minVal < 3:
            return [(1.0, named + plain)]
        return [(1.0, named), (0.1, plain)]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        if spacing < 0.5:
            return ["" for _ in values]
        return [in_thousands(hz_of_volts(value)) for value in values]


class NoteAxis(Axis):
    """Below the figure: octaves as C and their control volts."""

    def __init__(self) -> None:
        super().__init__("bottom")
        self.setStyle(tickLength=0, tickTextOffset=2)

    def ticks(self, minVal: float, maxVal: float, size: float) -> list[tuple[float, list[float]]]:
        # As many octaves between numbers as their width asks for, counted from C4.
        room = size / 74
        every = next((n for n in (1, 2, 3, 4) if (maxVal - minVal) / n <= room), 5)
        first, last = math.ceil(minVal / every), math.floor(maxVal / every)
        return [(float(every), [float(i * every) for i in range(first, last + 1)])]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        return [f"C{4 + round(v)} {'+' if v > 0 else '−' if v < 0 else ''}{abs(round(v))} V" for v in values]


class Ruling(OverView):
    """The ruled ground of a figure: the ruler's lines, and level lines at the first of `level_steps` that leaves room
    between them."""

    def __init__(
        self, view: pg.ViewBox, level_steps: tuple[float, ...], strong_step: float,
        lines: Callable[[float, float], list[tuple[float, bool]]],
    ) -> None:
        super().__init__(view, z=-100)
        self._steps, self._strong, self._lines = level_steps, strong_step, lines
        self.setCacheMode(QGraphicsItem.CacheMode.DeviceCoordinateCache)

    def paint(self, painter: QPainter, *_: object) -> None:
        rect = self._view.viewRect()
        palette = THEME.palette
        fine, strong = QPen(QColor(palette.rule), 0), QPen(QColor(palette.strong_rule), 0)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        for x, is_strong in self._lines(rect.left(), rect.right()):
            painter.setPen(strong if is_strong else fine)
            painter.drawLine(QPointF(x, rect.top()), QPointF(x, rect.bottom()))
        low, high = sorted((rect.top(), rect.bottom()))
        most = max(self._view.height(), 1.0) / ROOM_PX
        step = next((s for s in self._steps if (high - low) / s <= most), self._steps[-1])
        if (high - low) / step < 200:
            for i in range(math.ceil(low / step), math.floor(high / step) + 1):
                y = i * step
                painter.setPen(strong if abs(y / self._strong - round(y / self._strong)) < 1e-9 else fine)
                painter.drawLine(QPointF(rect.left(), y), QPointF(rect.right(), y))


class LevelAxis(Axis):
    """Left of the figure: whole steps of the ruling, a true minus sign."""

    def __init__(self, steps: tuple[float, ...], unit: str) -> None:
        super().__init__("left")
        self._steps, self._unit = steps, unit
        self.setStyle(tickLength=0, tickTextOffset=3, autoExpandTextSpace=False)
        self.setWidth(round(QFontMetricsF(THEME.font(px=SMALL_PX)).horizontalAdvance("−180°") + 8))

    def ticks(self, minVal: float, maxVal: float, size: float) -> list[tuple[float, list[float]]]:
        room = max(size / 26, 1)
        step = next((s for s in self._steps if (maxVal - minVal) / s <= room), self._steps[-1])
        half = 7 * (maxVal - minVal) / max(size, 1)  # a number whose half would be cut off is left out
        first, last = math.ceil((minVal + half) / step), math.floor((maxVal - half) / step)
        return [(step, [i * step for i in range(first, last + 1)])]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        return [f"{'−' if v < 0 else ''}{abs(v) + 0.0:g}{self._unit if self._unit == '°' else ''}" for v in values]


def restyle_axis(axis: pg.AxisItem) -> None:
    """Type and ink of the theme."""
    axis.setCacheMode(QGraphicsItem.CacheMode.DeviceCoordinateCache)
    axis.setPen(QPen(Qt.PenStyle.NoPen))
    axis.setTextPen(QColor(THEME.palette.quiet))
    axis.setStyle(tickFont=THEME.font(px=SMALL_PX), tickAlpha=0)
