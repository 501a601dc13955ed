"""Points of a figure to be taken and moved: each band at its frequency and gain."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import pyqtgraph as pg

from jiyuu.desktop.figures.frequency_figure import FrequencyFigure
from jiyuu.desktop.theme.pens import cosmetic
from jiyuu.desktop.theme.style import THEME
from jiyuu.quantities import hz_of_volts, volts_of

SIZE_PX = 13
Said = Callable[[int, float, float], object]  # which, hertz, dB


class BandHandles:
    """As many points as there are bands, in their order."""

    def __init__(self, figure: FrequencyFigure, dragged: Said, dropped: Said) -> None:
        self._figure, self._dragged, self._dropped = figure, dragged, dropped
        self.points: list[pg.TargetItem] = []

    def show(self, bands: Sequence[tuple[float, float]], colour: str) -> None:
        """(Hz, dB) of each."""
        while len(self.points) > len(bands):
            self._figure.removeItem(self.points.pop())
        while len(self.points) < len(bands):
            self.points.append(self._point(len(self.points)))
        for point, (hertz, gain_db) in zip(self.points, bands, strict=True):
            point.blockSignals(True)
            point.setPos(volts_of(hertz), gain_db)
            point.blockSignals(False)
            point.setPen(cosmetic(colour, 2.0))
            point.setBrush(pg.mkBrush(THEME.palette.raised))

    def _point(self, which: int) -> pg.TargetItem:
        point = pg.TargetItem(movable=True, size=SIZE_PX, symbol="o", hoverPen=cosmetic(THEME.palette.ink, 2.0))
        point.setZValue(40)
        point.setToolTip(f"Band {which + 1}: across its frequency, upwards its gain; Q is typed under Stage.")
        point.sigPositionChanged.connect(lambda _: self._say(which, self._dragged))
        point.sigPositionChangeFinished.connect(lambda _: self._say(which, self._dropped))
        self._figure.add(point)
        return point

    def _say(self, which: int, said: Said) -> None:
        place = self.points[which].pos()
        said(which, hz_of_volts(float(place.x())), float(place.y()))
