"""Level as tone, in steps like the heights of a chart, so that a level can be counted as well as seen."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QColor, QImage, QPainter

from jiyuu.arrays import FloatArray
from jiyuu.desktop.figures.contours import ContourNames, Contours, ToneScale
from jiyuu.desktop.figures.plot import Plot
from jiyuu.desktop.theme.style import THEME
from jiyuu.quantities import signed

MARKED = 3  # every how many tones the scale names a level


@dataclass(frozen=True, slots=True)
class Tones:
    """Paper to ink in steps between two levels, in dB or what else is said; what is no number has no tone."""

    lowest_db: float
    highest_db: float
    step_db: float = 6.0
    unit: str = "dB"
    digits: int = 0

    def said(self, level: float, digits: int | None = None) -> str:
        """'+6 dB', '−300 cents'; without a sign where nothing lies under 0."""
        digits = self.digits if digits is None else digits
        return f"{f'{level:.{digits}f}' if self.lowest_db >= 0 else signed(level, digits)} {self.unit}"

    def of(self, level_db: FloatArray) -> NDArray[np.uint8]:
        """Which tone stands for each level."""
        steps = np.floor((np.nan_to_num(level_db, nan=-1e9) - self.lowest_db) / self.step_db)
        return np.asarray(np.clip(steps, -1, round((self.highest_db - self.lowest_db) / self.step_db)) + 1,
                          dtype=np.uint8)

    def colours(self, ink: str) -> NDArray[np.uint8]:
        """(256, 3) colours of the tones in a filter's ink."""
        palette = THEME.palette
        low, high = QColor(palette.raised), QColor(ink)
        if palette.name == "paper":
            high = high.darker(150)
        count = round((self.highest_db - self.lowest_db) / self.step_db) + 2
        share = np.clip(np.arange(256) / (count - 1), 0, 1)[:, np.newaxis] ** 1.3
        ends = np.array([[c.red(), c.green(), c.blue()] for c in (low, high)], dtype=float)
        return np.asarray((1 - share) * ends[0] + share * ends[1]).astype(np.uint8)

    @property
    def levels_db(self) -> FloatArray:
        """Every step, each the lower end of a tone."""
        return np.arange(self.lowest_db, self.highest_db + 0.5 * self.step_db, self.step_db)

    @property
    def marks_db(self) -> tuple[float, ...]:
        """Levels named on the scale."""
        return tuple(self.levels_db[::MARKED])


class _Image(pg.GraphicsObject):
    """A colour for every point, rows from the foot up. It is kept as the window's own pixels are, and set out in
    those: other pictures Qt turns over point by point, ten times as slowly."""

    def __init__(self) -> None:
        super().__init__()
        self._pixels = b""  # of the image, which only points there
        self._image = QImage()
        self._box = QRectF()
        self.setZValue(-90)

    def show(self, tones: NDArray[np.uint8], colours: NDArray[np.uint8], box: QRectF) -> None:
        """tones (p, n); colours (256, 3); box in the figure's units."""
        red, green, blue = colours.astype(np.uint32).T
        rows, columns = tones.shape
        self._pixels = (0xFF000000 | red << 16 | green << 8 | blue)[tones[::-1]].tobytes()
        self._image = QImage(self._pixels, columns, rows, 4 * columns, QImage.Format.Format_RGB32)
        self.prepareGeometryChange()
        self._box = box
        self.update()

    def clear(self) -> None:
        self._image = QImage()
        self.update()

    def boundingRect(self) -> QRectF:
        return self._box

    def paint(self, painter: QPainter, *_: object) -> None:
        if self._image.isNull():
            return
        on_screen = painter.transform().mapRect(self._box)
        painter.save()
        painter.resetTransform()
        painter.drawImage(on_screen, self._image)
        painter.restore()


class ToneMap:
    """The image of a figure's plane, with its scale, and contours where levels for them are given."""

    def __init__(self, figure: Plot, tones: Tones, *, contours_db: tuple[float, ...] = ()) -> None:
        self._tones = tones
        view = figure.view
        self._image = _Image()
        figure.add(self._image)
        self._contours = Contours(view, contours_db)
        self.names = ContourNames(self._contours, view, tones.said)
        for item in (self._contours, self.names):
            figure.add(item)
        self._scale = ToneScale(tones.levels_db, tones.marks_db, tones.said)
        figure.stand_beside(self._scale)

    def show(self, x: FloatArray, y: FloatArray, level_db: FloatArray, ink: str) -> None:
        """level_db (p, n) over x (n,) and y (p,), both even."""
        colours = self._tones.colours(ink)
        dx, dy = float(x[1] - x[0]), float(y[1] - y[0])
        self._image.show(self._tones.of(level_db), colours, QRectF(
            float(x[0]) - dx / 2, float(y[0]) - dy / 2, float(x[-1] - x[0]) + dx, float(y[-1] - y[0]) + dy))
        self._contours.show(x, y, level_db)
        self.names.touched()
        self._scale.show(colours, self._tones.of)

    def clear(self) -> None:
        """Nothing to show."""
        self._image.clear()
        self._contours.clear()
        self.names.touched()
