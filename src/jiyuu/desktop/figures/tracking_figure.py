"""Cents out of tune over control volts, with the bands that count as in tune."""

from __future__ import annotations

import math

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QPen

from jiyuu.arrays import FloatArray
from jiyuu.desktop.figures.plot import Axis
from jiyuu.desktop.figures.ruled import RuledFigure
from jiyuu.desktop.figures.rulers import LevelAxis
from jiyuu.desktop.theme.pens import clear
from jiyuu.desktop.theme.style import SMALL_PX, THEME
from jiyuu.quantities import shown_hz, signed

BANDS_CENTS = (20.0, 5.0, 2.0)
MARK_PX = 11


class VoltAxis(Axis):
    """Under the figure: control volts; above it, given hertz at 0 V, the pitch they mean."""

    def __init__(self, side: str = "bottom", *, as_hertz: bool = False) -> None:
        super().__init__(side)
        self._as_hertz = as_hertz
        self.zero_hz = 32.703
        self.setStyle(tickLength=0, tickTextOffset=2)

    def ticks(self, minVal: float, maxVal: float, size: float) -> list[tuple[float, list[float]]]:
        room = 80 if self._as_hertz else 60
        every = next((e for e in (0.1, 0.25, 0.5, 1.0, 2.0) if (maxVal - minVal) / e * room <= size), 5.0)
        first, last = math.ceil(minVal / every - 1e-9), math.floor(maxVal / every + 1e-9)
        return [(every, [i * every for i in range(first, last + 1)])]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        if self._as_hertz:
            return [shown_hz(self.zero_hz * 2.0**value) for value in values]
        return [f"{signed(value, 2).rstrip('0').rstrip('.').lstrip('+')} V" for value in values]


class TrackingFigure(RuledFigure):
    """x is control volts. Steps in tune are dots, steps out of tune crosses in the colour of attention."""

    column = "volts"
    lowest, highest = -0.4, 8.4

    def __init__(self) -> None:
        self._hertz = VoltAxis("top", as_hertz=True)
        steps = (1.0, 5.0, 10.0, 50.0, 100.0)
        axes = {"left": LevelAxis(steps, "cents"), "bottom": VoltAxis(), "top": self._hertz}
        super().__init__(title="Out of tune, cents against 1 V per octave", unit="cents", axes=axes,
                         level_steps=steps, strong_step=1e6)
        self._dots = pg.ScatterPlotItem(size=MARK_PX, pxMode=True)
        self._crosses = pg.ScatterPlotItem(size=MARK_PX + 3, symbol="x", pxMode=True)
        self._zero = pg.InfiniteLine(0.0, angle=0)
        self._tune = pg.TextItem(anchor=(0.5, 1))
        for item in (self._zero, self._dots, self._crosses, self._tune):
            item.setZValue(20)
            self.add(item)
        self._tune.setVisible(False)
        self._low_cents, self._high_cents = -30.0, 30.0
        self.set_levels(self._low_cents, self._high_cents)
        self.restyle()

    def x_of(self, places: FloatArray) -> FloatArray:
        return places

    def place_of(self, x: float) -> float:
        return x

    def said(self, place: float) -> str:
        return f"{signed(place, 2)} V"

    def lines(self, left: float, right: float) -> list[tuple[float, bool]]:
        return [(float(x), x == 0) for x in range(math.ceil(left), math.floor(right) + 1)]

    def show_scale(self, volts: FloatArray, zero_hz: float, tolerance_cents: float) -> None:
        """Range of volts, the pitch at 0 V, and the bands with the one in force strongest."""
        self._hertz.zero_hz = zero_hz
        self._hertz.picture = None
        self._hertz.update()
        low, high = float(volts.min()), float(volts.max())
        room = max(0.05 * (high - low), 0.1)
        self.lowest, self.highest = low - room, high + room
        view = self.view
        span = self.highest - self.lowest
        view.setLimits(xMin=self.lowest - 0.1 * span, xMax=self.highest + 0.1 * span, minXRange=0.05 * span)
        view.setXRange(self.lowest, self.highest, padding=0)
        ends = np.array([self.lowest - span, self.highest + span])
        widths = sorted({*BANDS_CENTS, tolerance_cents}, reverse=True)
        for name in [name for name in self._still.bands if name.startswith("±")]:
            self._still.forget(name)
        for cents in widths:
            own = cents == tolerance_cents
            shade = clear(THEME.palette.quiet, 46 if own else 16)
            self._still.set_band(f"±{cents:g}", ends, np.full(2, -cents), np.full(2, cents), shade, hatched=False)
        self._still.touched()

    def show_marks(self, volts: FloatArray, cents: FloatArray, inside: NDArray[np.bool_], ink: str) -> None:
        """A mark a step; inside (m,): whether it is in tune."""
        palette = THEME.palette
        self._dots.setData(volts[inside], cents[inside], pen=pg.mkPen(palette.raised, width=1.5), brush=pg.mkBrush(ink))
        self._crosses.setData(volts[~inside], cents[~inside], pen=pg.mkPen(palette.attention, width=1),
                              brush=pg.mkBrush(palette.attention))
        self.fit_to(cents)

    def clear_marks(self) -> None:
        self._dots.clear()
        self._crosses.clear()
        self._tune.setVisible(False)
        self._moving.forget("in tune")
        self._moving.touched()

    def _marked_at(self) -> list[float]:
        return [float(volts) for item in (self._dots, self._crosses) for volts in item.data["x"]]

    def show_span(self, from_v: float | None, to_v: float | None, ink: str, text: str) -> None:
        """The stretch that is in tune, as a bar at the foot; None where nothing is."""
        self._tune.setVisible(from_v is not None)
        if from_v is None or to_v is None:
            self._moving.forget("in tune")
        else:
            tall = self._high_cents - self._low_cents
            foot, half = self._low_cents + 0.035 * tall, 0.015 * tall
            margin = 0.008 * (self.highest - self.lowest)  # one step alone is still to be seen
            ends = np.array([from_v - margin, to_v + margin])
            self._moving.set_band("in tune", ends, np.full(2, foot - half), np.full(2, foot + half), QColor(ink),
                                  hatched=False)
            self._tune.setText(text, QColor(THEME.palette.ink))
            middle = 0.5 * (from_v + to_v)
            room = 0.16 * (self.highest - self.lowest)
            self._tune.setPos(float(np.clip(middle, self.lowest + room, self.highest - room)), foot + half)
        self._moving.touched()

    def fit_to(self, cents: FloatArray) -> None:
        """A range of cents that holds the steps and shows the bands, with room for the title and the bar."""
        low, high = min(float(cents.min(initial=0.0)), -8.0), max(float(cents.max(initial=0.0)), 8.0)
        span = high - low
        self._low_cents, self._high_cents = low - 0.16 * span, high + 0.16 * span
        self.set_levels(self._low_cents, self._high_cents)

    def restyle_lines(self) -> None:
        if not hasattr(self, "_zero"):  # the base restyles before the lines are there
            return
        self._zero.setPen(QPen(QColor(THEME.palette.ink), 0, Qt.PenStyle.SolidLine))
        self._tune.setFont(THEME.font(px=SMALL_PX, bold=True))
