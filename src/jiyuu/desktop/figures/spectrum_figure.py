"""A line spectrum over frequency: what a source holds, and what of it survives the filter."""

from __future__ import annotations

import numpy as np
from PyQt6.QtGui import QPen

from jiyuu.arrays import FloatArray
from jiyuu.desktop.figures.frequency_figure import FrequencyFigure
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.figures.rulers import volts_of_hz
from jiyuu.quantities import shown_hz, signed

FLOOR_DB = -90.0


class SpectrumFigure(FrequencyFigure):
    """Each line stands on the floor of the figure; levels in dB re 1 V."""

    def __init__(self, title: str) -> None:
        super().__init__(title=title, unit="dB", level_steps=(6.0, 12.0, 24.0), strong_step=24.0)
        self.set_levels(-66, 24)
        self.hide_cutoff()

    def show_lines(self, name: str, frequency_hz: FloatArray, level_db: FloatArray, pen: QPen) -> None:
        """Lines at frequency_hz (n,) of level_db (n,)."""
        order = np.argsort(frequency_hz)
        hertz, level = frequency_hz[order], np.maximum(level_db[order], FLOOR_DB)
        self._moving.set_comb(name, volts_of_hz(hertz), level, pen)
        self._data[name] = PlotCurve(name, hertz, level)
        self._moving.touched()
        self._place_captions()

    def reading_at(self, x: float, height: float) -> str:
        place = self.place_of(x)
        text = ""
        for name, curve in self._data.items():
            nearest = int(np.argmin(np.abs(volts_of_hz(curve.places) - x)))
            if not text:
                text = shown_hz(float(curve.places[nearest]))
            text += f"  {name} {signed(float(curve.values[nearest]))} dB"
        return text or self.said(place)
