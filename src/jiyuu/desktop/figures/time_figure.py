"""A figure over time in milliseconds, triggered: the trace begins where the signal passes a level upwards."""

from __future__ import annotations

import math

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.desktop.figures.plot import Axis
from jiyuu.desktop.figures.ruled import RuledFigure
from jiyuu.desktop.figures.rulers import LevelAxis
from jiyuu.quantities import signed


class _TimeAxis(Axis):
    def __init__(self) -> None:
        super().__init__("bottom")
        self.setStyle(tickLength=0, tickTextOffset=2)

    def ticks(self, minVal: float, maxVal: float, size: float) -> list[tuple[float, list[float]]]:
        span = maxVal - minVal
        every = next((e for e in (0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50) if span / e * 52 <= size), 100.0)
        first, last = math.ceil(minVal / every), math.floor(maxVal / every)
        return [(float(every), [i * every for i in range(first, last + 1)])]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        return [f"{value:g} ms" for value in values]


SCALES = (1.0, 1.25, 1.6, 2.0, 2.5, 3.2, 4.0, 5.0, 6.3, 8.0)  # volts, and their decades
HEADROOM = 1.04
VOLT_STEPS = tuple(digit * 10.0**decade for decade in range(-4, 3) for digit in (1, 2, 5))


class TimeFigure(RuledFigure):
    """x is milliseconds from the trigger."""

    column = "time_ms"
    lowest, highest = 0.0, 20.0

    def __init__(self, title: str) -> None:
        axes = {"left": LevelAxis(VOLT_STEPS, "V"), "bottom": _TimeAxis()}
        super().__init__(title=title, unit="V", axes=axes, level_steps=VOLT_STEPS, strong_step=5.0)
        self.shown = 0.0, 0.0  # ms, and volts to either side

    def x_of(self, places: FloatArray) -> FloatArray:
        return places

    def place_of(self, x: float) -> float:
        return x

    def said(self, place: float) -> str:
        return f"{signed(place, 2)} ms"

    def lines(self, left: float, right: float) -> list[tuple[float, bool]]:
        step = 1.0 if right - left < 30 else 10.0
        return [(i * step, i % 10 == 0) for i in range(math.ceil(left / step), math.floor(right / step) + 1)]

    def show_span(self, milliseconds: float, highest_v: float) -> None:
        """How much time is shown, and the scale on which so many volts have room. It goes in steps: one that breathed
        with the signal would show every level as the same."""
        decade = 10.0 ** math.floor(math.log10(HEADROOM * highest_v))
        top = next(decade * step for step in (*SCALES, 10.0) if decade * step >= HEADROOM * highest_v)
        if self.shown == (milliseconds, top):
            return
        self.shown = milliseconds, top
        view = self.view
        self.highest = milliseconds
        view.setLimits(xMin=-0.1 * milliseconds, xMax=1.1 * milliseconds, minXRange=0.02 * milliseconds)
        view.setXRange(0.0, milliseconds, padding=0)
        self.set_levels(-top, top)


SHOWN_PERIODS = 3


def shown_piece(record_v: FloatArray, sample_rate_hz: float, period_s: float) -> tuple[slice, FloatArray]:
    """Some periods of a record from its trigger on: (which samples, milliseconds from the trigger)."""
    start = triggered(record_v, sample_rate_hz, after_s=0.1)
    span_s = min(max(SHOWN_PERIODS * period_s, 0.004), 0.2)
    count = min(round(span_s * sample_rate_hz), record_v.size - start)
    return slice(start, start + count), 1000 * np.arange(count) / sample_rate_hz


def triggered(record_v: FloatArray, sample_rate_hz: float, *, level_v: float = 0.0, after_s: float = 0.0) -> int:
    """First sample after a time at which the record passes a level upwards; that time where it never does."""
    start = round(after_s * sample_rate_hz)
    above = record_v[start:] >= level_v
    rises = np.flatnonzero(above[1:] & ~above[:-1])
    return start + (int(rises[0]) + 1 if rises.size else 0)
