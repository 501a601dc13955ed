"""A map that shows level as tone: its contour lines with their levels, and the scale of its tones."""

from __future__ import annotations

from collections.abc import Callable
from typing import cast

import contourpy
import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QColor, QFontMetrics, QPainter, QPen, QPolygonF, QTransform

from jiyuu.arrays import FloatArray
from jiyuu.desktop.figures.layer import pieces_of
from jiyuu.desktop.figures.movable_line import captions_px
from jiyuu.desktop.figures.over_view import OverView
from jiyuu.desktop.theme.style import SMALL_PX, THEME

COARSE, FEW = 2, 40  # every second row and column, unless there are few: contours follow a hand
SWATCH_PX, MARGIN_PX = 13, 6
LEAST_APART = 0.8  # of a line, from one number at the scale to the next
NAMES_Z = 25  # over bands and tracks, under lines that are moved
ALONG = 0.35, 0.65, 0.2, 0.8, 0.1, 0.9, 0.5  # shares of a line; around a peak its middle lies on the cutoff
SAID_PX = 60  # at the left, where a line that is moved says where it stands
FEWEST = 7  # points of a line that is named


class Contours(OverView):
    """Lines of equal level over the tones; each is named by a ContourNames."""

    def __init__(self, view: pg.ViewBox, levels_db: tuple[float, ...]) -> None:
        super().__init__(view, z=-70)
        self._levels = levels_db
        self.lines: dict[float, list[FloatArray]] = {}
        self._pieces: dict[float, list[QPolygonF]] = {}

    def show(self, x: FloatArray, y: FloatArray, level_db: FloatArray) -> None:
        """level_db (p, n) over x (n,) and y (p,); NaN where there is none."""
        every = COARSE if min(level_db.shape) > FEW else 1
        shown = level_db[::every, ::every]
        made = contourpy.contour_generator(
            x[::every], y[::every], shown if np.isfinite(shown).all() else np.ma.masked_invalid(shown))
        self.lines = {level: cast(list[FloatArray], made.lines(level)) for level in self._levels}
        self._pieces = {level: [piece for points in lines if len(points) > 3
                                for piece in pieces_of(points[:, 0], points[:, 1])]
                        for level, lines in self.lines.items()}
        self.touched()

    def clear(self) -> None:
        self.lines = {}
        self.touched()

    def paint(self, painter: QPainter, *_: object) -> None:
        palette = THEME.palette
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        halo = QPen(QColor(palette.raised), 2.6)
        line = QPen(QColor(palette.ink), 1.0)
        for pen in (halo, line):
            pen.setCosmetic(True)
        for level in self.lines:
            for pen in (halo, line):
                painter.setPen(pen)
                for piece in self._pieces[level]:
                    painter.drawPolyline(piece)


class ContourNames(OverView):
    """The level of each contour, once, where it is longest in sight; over whatever else is drawn there but the lines
    that a hand moves."""

    def __init__(self, contours: Contours, view: pg.ViewBox, said: Callable[[float], str]) -> None:
        super().__init__(view, z=NAMES_Z)
        self._contours, self._said = contours, said
        self.boxes: dict[str, QRectF] = {}  # where each stands, in pixels, as last painted

    def paint(self, painter: QPainter, *_: object) -> None:
        rect = self._view.viewRect()
        low, high = sorted((rect.top(), rect.bottom()))
        device = painter.transform()
        painter.save()
        painter.resetTransform()
        painter.setFont(THEME.font(px=SMALL_PX))
        self.boxes.clear()
        corner = device.map(rect.topLeft() if device.m22() > 0 else rect.bottomLeft())
        tall = QFontMetrics(painter.font()).height()
        said = [QRectF(x - half, y - tall / 2, 2 * half, tall).translated(corner)
                for x, y, half in captions_px(self._view)]
        for level, lines in self._contours.lines.items():
            points = max(lines, key=len, default=None)
            if points is not None:
                inside = points[(points[:, 0] > rect.left()) & (points[:, 0] < rect.right())
                                & (points[:, 1] > low) & (points[:, 1] < high)]
                self._name(painter, device, inside, self._said(level), said)
        painter.restore()

    def _name(
        self, painter: QPainter, device: QTransform, points: FloatArray, text: str, said: list[QRectF]
    ) -> None:
        """At the first place along the line where it covers no other name, nor what lines say, and is whole in
        sight."""
        metrics = QFontMetrics(painter.font())
        width, height = metrics.horizontalAdvance(text) + 6, metrics.height()
        sight = QRectF(device.mapRect(QRectF(self._view.viewRect()))).adjusted(SAID_PX, 2, -2, -2)
        for share in ALONG if len(points) > FEWEST else ():
            x, y = points[int(share * (len(points) - 1))]
            place = device.map(QPointF(float(x), float(y)))
            box = QRectF(place.x() - width / 2, place.y() - height / 2, width, height)
            if not sight.contains(box) or any(box.intersects(other) for other in (*self.boxes.values(), *said)):
                continue
            self.boxes[text] = box
            painter.fillRect(box, QColor(THEME.palette.raised))
            painter.setPen(QColor(THEME.palette.ink))
            painter.drawText(box, 0x84, text)  # centred
            return


class ToneScale(pg.GraphicsWidget):
    """Which tone stands for which level, in pixels: a column beside the view, with its foot at the view's."""

    def __init__(
        self, levels_db: FloatArray, marks_db: tuple[float, ...], said: Callable[[float], str]
    ) -> None:
        super().__init__()
        self._levels, self._marks, self._said = levels_db, np.array(marks_db), said
        self._swatches: list[QColor] = []
        self._fit()

    def _fit(self) -> None:
        metrics = QFontMetrics(THEME.font(px=SMALL_PX))
        said = (self._said(level) for level in self._named())
        self.setFixedWidth(2 * MARGIN_PX + SWATCH_PX + max(map(metrics.horizontalAdvance, said)))

    def _named(self) -> list[float]:
        """Levels that are named as far as there is room, 0 first: in large type not all of them have it."""
        named = [level for level in self._levels.tolist() if level == 0 or np.abs(level - self._marks).min() < 1e-6]
        return sorted(named, key=lambda level: level != 0)

    def show(self, colours: NDArray[np.uint8], tone: Callable[[FloatArray], NDArray[np.uint8]]) -> None:
        """colours (256, 3) by tone; tone: of levels in dB."""
        self._swatches = [QColor(*colour) for colour in colours[tone(self._levels + 0.1)].tolist()]
        self._fit()
        self.update()

    def paint(self, painter: QPainter, *_: object) -> None:
        if not self._swatches:
            return
        palette, levels, tall = THEME.palette, self._levels, QFontMetrics(THEME.font(px=SMALL_PX)).height()
        foot = self.size().height()
        step = min(SWATCH_PX, (foot - 0.5 * tall) / levels.size)  # half a number stands over the uppermost
        painter.setFont(THEME.font(px=SMALL_PX))
        for i, swatch in enumerate(self._swatches):
            painter.fillRect(QRectF(MARGIN_PX, foot - (i + 1) * step, SWATCH_PX, step), swatch)
        painter.setPen(QColor(palette.ink))
        taken: list[float] = []
        for level in self._named():
            middle = foot - float(np.searchsorted(levels, level)) * step
            if all(abs(middle - other) > LEAST_APART * tall for other in taken):
                taken.append(middle)
                name = self._said(level) if level == 0 else self._said(level).partition(" ")[0]
                top = min(middle - tall / 2, foot - tall)
                painter.drawText(QRectF(MARGIN_PX + SWATCH_PX + 4, top, self.size().width(), tall), 0x81, name)
        painter.setPen(QPen(QColor(palette.edge), 1))
        painter.drawRect(QRectF(MARGIN_PX, foot - levels.size * step, SWATCH_PX, levels.size * step))
