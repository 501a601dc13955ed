"""Parts and the whole over frequency, with a line to be taken and moved for every filter that goes with the knob."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

import numpy as np
from PyQt6.QtCore import pyqtSignal

from jiyuu.desktop.figures.band_handles import BandHandles
from jiyuu.desktop.figures.frequency_figure import FrequencyFigure
from jiyuu.desktop.figures.movable_line import MovableLine
from jiyuu.desktop.figures.rulers import HIGHEST_V, LOWEST_V, volts_of_hz
from jiyuu.quantities import hz_of_volts, shown_hz, signed, volts_of


class CombinedFigure(FrequencyFigure):
    """The cutoff line moves all of them together, their own lines the spacing."""

    spacing_dragged = pyqtSignal(str, float)  # which filter, octaves above the one in hand
    spacing_dropped = pyqtSignal(str, float)
    band_dragged = pyqtSignal(int, float, float)  # which, Hz, dB
    band_dropped = pyqtSignal(int, float, float)

    def __init__(self) -> None:
        self._tied: dict[str, MovableLine] = {}
        super().__init__(title="Parts and whole, dB re the input", unit="dB", level_steps=(3.0, 6.0, 12.0),
                         strong_step=12.0)
        self.set_levels(-60, 24)
        self.handles = BandHandles(self, self.band_dragged.emit, self.band_dropped.emit)

    def show_tied(self, tied: Mapping[str, float], cutoff_hz: float) -> None:
        """A line for each, where it stands."""
        for name in [name for name in self._tied if name not in tied]:
            self.remove(self._tied.pop(name))
        for k, (name, octaves) in enumerate(tied.items()):
            if name not in self._tied:
                self._tied[name] = self._line(name, 0.14 + 0.08 * (k % 4))
            hertz = cutoff_hz * 2.0**octaves
            self._tied[name].place(volts_of(hertz), f"{name} {signed(octaves, 2)} oct, {shown_hz(hertz)}")

    def tied_lines(self) -> dict[str, MovableLine]:
        """By the filter's name."""
        return dict(self._tied)

    def _line(self, name: str, height: float) -> MovableLine:
        line = MovableLine(angle=90, bounds=(LOWEST_V, HIGHEST_V))
        line.label.setPosition(height)
        line.restyle()
        line.sigDragged.connect(partial(self._moved, name, self.spacing_dragged))
        line.sigPositionChangeFinished.connect(partial(self._moved, name, self.spacing_dropped))
        self.add(line)
        return line

    def _moved(self, name: str, said: object, *_: object) -> None:
        octaves = volts_of(hz_of_volts(self._tied[name].value())) - self._cutoff.value()
        said.emit(name, octaves)  # type: ignore[attr-defined]

    def _marked_at(self) -> list[float]:
        """Where a curve turns: that is what is looked at."""
        found: list[float] = []
        for curve in self._data.values():
            turns = np.flatnonzero(np.diff(np.sign(np.diff(curve.values)))) + 1
            found += volts_of_hz(curve.places[turns]).tolist()
        return found

    def restyle_lines(self) -> None:
        super().restyle_lines()
        for line in self._tied.values():
            line.restyle()
