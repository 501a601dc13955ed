"""A figure over the travel of a control, with the position in force to be taken and moved."""

from __future__ import annotations

import math

import pyqtgraph as pg
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QPen
from PyQt6.QtWidgets import QWidget

from jiyuu.arrays import FloatArray
from jiyuu.desktop.figures.movable_line import MovableLine
from jiyuu.desktop.figures.plot import Axis
from jiyuu.desktop.figures.ruled import RuledFigure
from jiyuu.desktop.figures.rulers import LevelAxis
from jiyuu.desktop.theme.style import THEME


class TravelAxis(Axis):
    """Under the figure: tenths of the travel, in per cent."""

    def __init__(self) -> None:
        super().__init__("bottom")
        self.setStyle(tickLength=0, tickTextOffset=2)

    def ticks(self, minVal: float, maxVal: float, size: float) -> list[tuple[float, list[float]]]:
        every = next((step for step in (1, 2, 5, 10, 20, 25) if (maxVal - minVal) / step * 40 <= size), 50)
        first, last = math.ceil(minVal / every), math.floor(maxVal / every)
        return [(float(every), [float(i * every) for i in range(first, last + 1) if 0 <= i * every <= 100])]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        return [f"{value:g} %" for value in values]


class ControlFigure(RuledFigure):
    """x is per cent of the travel."""

    position_dragged = pyqtSignal(float)
    position_dropped = pyqtSignal(float)
    position_reset = pyqtSignal()
    column = "position_percent"
    lowest, highest = 0.0, 100.0

    def __init__(
        self, *, title: str, unit: str, level_steps: tuple[float, ...], strong_step: float,
        parent: QWidget | None = None,
    ) -> None:
        self._position = MovableLine(angle=90, bounds=(0.0, 100.0))
        self._onset = pg.InfiniteLine(angle=90, movable=False)
        axes = {"left": LevelAxis(level_steps, unit), "bottom": TravelAxis()}
        super().__init__(title=title, unit=unit, axes=axes, level_steps=level_steps, strong_step=strong_step,
                         parent=parent)
        self.setAccessibleName(f"{title} over the control's travel")
        self._position.sigDragged.connect(lambda: self.position_dragged.emit(float(self._position.value())))
        self._position.sigPositionChangeFinished.connect(
            lambda: self.position_dropped.emit(float(self._position.value()))
        )
        self._position.reset.connect(self.position_reset)
        self._onset.setVisible(False)
        for line in (self._onset, self._position):
            self.add(line)

    def x_of(self, places: FloatArray) -> FloatArray:
        return places

    def place_of(self, x: float) -> float:
        return x

    def said(self, place: float) -> str:
        return f"{place:.1f} %"

    def lines(self, left: float, right: float) -> list[tuple[float, bool]]:
        return [(float(x), x % 50 == 0) for x in range(0, 101, 10) if left <= x <= right]

    def show_position(self, percent: float, text: str = "") -> None:
        self._position.place(percent, text)

    def show_onset(self, percent: float | None) -> None:
        """The onset of self-oscillation as a drawn line."""
        self._onset.setVisible(percent is not None)
        if percent is not None:
            self._onset.setValue(percent)

    def _marked_at(self) -> list[float]:
        return [float(self._onset.value())] if self._onset.isVisible() else []

    def restyle_lines(self) -> None:
        self._position.restyle()
        self._onset.setPen(QPen(QColor(THEME.palette.attention), 0))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        moves = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        if event.key() in moves and not event.modifiers() & (Qt.KeyboardModifier.ControlModifier
                                                             | Qt.KeyboardModifier.AltModifier):
            step = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
            self.position_dropped.emit(float(self._position.value()) + step * moves[Qt.Key(event.key())])
        else:
            super().keyPressEvent(event)
