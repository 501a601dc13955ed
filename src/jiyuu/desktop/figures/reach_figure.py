"""The reach of the cutoff: every control's span on one frequency ruler, and what lies outside the limits."""

from __future__ import annotations

import numpy as np
from PyQt6.QtGui import QColor, QFontMetricsF, QPen

from jiyuu.circuits.reach import EAR_HIGH_HZ, EAR_LOW_HZ, Reach
from jiyuu.desktop.figures.frequency_figure import FrequencyFigure
from jiyuu.desktop.figures.plot import Axis
from jiyuu.desktop.theme.pens import clear
from jiyuu.desktop.theme.style import SMALL_PX, THEME
from jiyuu.quantities import hz_of_volts, shown_hz, volts_of
from jiyuu.wording.reach import dead_line

TOGETHER = "Together"
_HALF = 0.3  # half height of a bar, in rows


class _RowAxis(Axis):
    """Left of the figure: the name of each control."""

    def __init__(self) -> None:
        super().__init__("left")
        self.names: list[str] = []
        self.setStyle(tickLength=0, tickTextOffset=3, autoExpandTextSpace=False)
        self.setWidth(round(QFontMetricsF(THEME.font(px=SMALL_PX)).horizontalAdvance(TOGETHER) + 10))

    def ticks(self, minVal: float, maxVal: float, size: float) -> list[tuple[float, list[float]]]:
        return [(1.0, [float(i) for i in range(len(self.names))])]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        return [self.names[round(value)] for value in values]


class ReachFigure(FrequencyFigure):
    """A bar for each control: where it can take the cutoff while the others stand as they do. Hatched: travel that does
    nothing. The tick is where the cutoff stands."""

    def __init__(self) -> None:
        self._rows = _RowAxis()
        super().__init__(title="Where each control can take the cutoff", unit="", level_steps=(1.0,),
                         strong_step=1000.0, left=self._rows)
        self._reach: Reach | None = None
        self.view.setMouseEnabled(x=True, y=False)

    def show_reach(self, found: Reach, ink: str) -> None:
        """One row a control, the whole at the foot."""
        self._reach = found
        palette, layer = THEME.palette, self._moving
        for name in [*layer.bands, *layer.line_names()]:
            layer.forget(name)
        moving = [c for c in found.controls if c.high != c.low or c is found.controls[0]]
        rows = [*(c.name for c in reversed(moving))]
        self._rows.names = [TOGETHER, *rows]
        self._rows.picture = None
        self._rows.update()
        self.set_levels(-0.8, len(rows) + 1.1)
        now = sum(control.now for control in found.controls)
        floor, ceiling = volts_of(found.lowest_hz), volts_of(found.highest_hz)
        low_end, high_end = max(floor, volts_of(EAR_LOW_HZ)), min(ceiling, volts_of(EAR_HIGH_HZ))
        top = len(rows) + 2.0
        for name, left, right in (("under", self.lowest - 2, low_end), ("over", high_end, self.highest + 2)):
            self._bar(f"outside {name}", left, right, -2.0, top, clear(palette.strong_rule, 90), hatched=False)
        tick = QPen(QColor(palette.ink), 2.2)
        for control in moving:
            row = float(self._rows.names.index(control.name))
            others = now - control.now
            left, right = sorted((others + control.low, others + control.high))
            live_left, live_right = min(max(left, low_end), high_end), min(max(right, low_end), high_end)
            self._bar(control.name, live_left, live_right, row - _HALF, row + _HALF, clear(ink, 120),
                      hatched=False)
            if left < low_end:
                self._bar(f"{control.name} under", left, min(low_end, right), row - _HALF, row + _HALF,
                          QColor(palette.attention), hatched=True)
            if right > high_end:
                self._bar(f"{control.name} over", max(high_end, left), right, row - _HALF, row + _HALF,
                          QColor(palette.attention), hatched=True)
            layer.set_line(f"{control.name} now", np.full(2, now), np.array([row - _HALF, row + _HALF]), tick)
        self._bar(TOGETHER, volts_of(found.low_hz), volts_of(found.high_hz), -_HALF, _HALF, clear(ink, 220),
                  hatched=False)
        pen = QPen(QColor(palette.ink), 1.2)
        for name, place in (("lowest", floor), ("highest", ceiling)):
            layer.set_line(name, np.full(2, place), np.array([-2.0, top]), pen)
        layer.touched()

    def rows(self) -> list[str]:
        """From the foot up."""
        return list(self._rows.names)

    def _bar(self, name: str, left: float, right: float, low: float, high: float, colour: QColor, *, hatched: bool
             ) -> None:
        if right - left > 1e-6:
            self._moving.set_band(name, np.array([left, right]), np.full(2, low), np.full(2, high), colour,
                                  hatched=hatched)

    def reading_at(self, x: float, height: float) -> str:
        text = super().reading_at(x, height)
        row = round(height)
        if self._reach is None or not 0 <= row < len(self._rows.names):
            return text
        name = self._rows.names[row]
        if name == TOGETHER:
            return f"{text}  together {shown_hz(self._reach.low_hz)} to {shown_hz(self._reach.high_hz)}"
        dead = [dead_line(part) for part in self._reach.dead if part.control == name]
        return f"{text}  {dead[0] if dead else f'{name}: all of its travel is of use'}"

    def as_csv(self, separator: str = ",") -> str:
        """A row a control: where it can take the cutoff while the others stand as they do."""
        if self._reach is None:
            return ""
        now = sum(control.now for control in self._reach.controls)
        rows = [separator.join(("control", "low_hz", "high_hz", "now_hz"))]
        for control in self._reach.controls:
            low, high = sorted((now - control.now + control.low, now - control.now + control.high))
            rows.append(separator.join((control.name, *(f"{hz_of_volts(v):.7g}" for v in (low, high, now)))))
        return "\n".join(rows) + "\n"
