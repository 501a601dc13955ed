"""All curves, bands and labels of a figure as one item a layer, so that a figure of twenty curves redraws as fast as
one of two: per curve only its corners are kept and handed over as one polygon."""

from __future__ import annotations

from dataclasses import dataclass
from typing import cast

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PyQt6 import sip
from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QColor, QFontMetrics, QPainter, QPen, QPolygonF, QTransform
from PyQt6.QtWidgets import QGraphicsItem

from jiyuu.arrays import FloatArray
from jiyuu.desktop.figures.over_view import OverView
from jiyuu.desktop.theme.pens import cosmetic
from jiyuu.desktop.theme.style import SMALL_PX, THEME

BEAD_PX = 4.0  # by which a point is wider than its line
PIECE = 32  # corners of a line that are smoothed at once: of a hundred and more each takes twice as long


@dataclass(slots=True)
class Band:
    """A closed outline between two curves, shaded or hatched."""

    outline: QPolygonF
    colour: QColor
    hatched: bool


@dataclass(slots=True)
class Label:
    """A curve's name at a place on it, in the figure's units, or so many pixels under it."""

    text: str
    colour: QColor
    place: QPointF
    shown: bool = True
    under_px: float = 0.0


class Layer(OverView):
    """Lines, bands and labels by name, in the order of their first showing. A still layer is kept as a picture."""

    def __init__(self, view: pg.ViewBox, *, z: float, still: bool) -> None:
        super().__init__(view, z=z)
        self._lines: dict[str, tuple[list[QPolygonF], QPen]] = {}
        self._combs: dict[str, tuple[FloatArray, FloatArray, QPen]] = {}
        self.dots: dict[str, tuple[QPolygonF, QPen]] = {}
        self.bands: dict[str, Band] = {}
        self.labels: dict[str, Label] = {}
        if still:
            self.setCacheMode(QGraphicsItem.CacheMode.DeviceCoordinateCache)

    def set_line(self, name: str, x: FloatArray, y: FloatArray, pen: QPen) -> None:
        # What overlaps would show where a pen lets through, and dashes would begin anew.
        self.dots.pop(name, None)
        whole = pen.color().alpha() < 255 or pen.style() is not Qt.PenStyle.SolidLine
        self._lines[name] = ([polygon_of(x, y)] if whole else pieces_of(x, y), pen)

    def set_dots(self, name: str, x: FloatArray, y: FloatArray, pen: QPen) -> None:
        """The points that a line of this pen was laid through."""
        bead = cosmetic(pen.color().name(), pen.widthF() + BEAD_PX)
        bead.setCapStyle(Qt.PenCapStyle.RoundCap)
        self.dots[name] = polygon_of(x, y), bead

    def set_comb(self, name: str, x: FloatArray, tops: FloatArray, pen: QPen) -> None:
        """Lines upright at x (n,) from the foot of the view to tops (n,)."""
        self._combs[name] = (x, tops, pen)

    def line_names(self) -> list[str]:
        return list(self._lines)

    def set_band(self, name: str, x: FloatArray, low: FloatArray, high: FloatArray, colour: QColor, *,
                 hatched: bool) -> None:
        outline = polygon_of(np.concatenate([x, x[::-1]]), np.concatenate([high, low[::-1]]))
        self.bands[name] = Band(outline, colour, hatched)

    def forget(self, name: str) -> bool:
        """Whether there was something of that name."""
        known = [held for held in (self._lines, self.dots, self._combs, self.bands, self.labels) if name in held]
        for held in known:
            del held[name]
        return bool(known)

    def paint(self, painter: QPainter, *_: object) -> None:
        # In the widget's own pixels: hatching keeps its spacing and text its size at every zoom.
        to_screen = painter.transform()
        painter.save()
        painter.resetTransform()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for band in self.bands.values():
            if band.hatched:
                painter.setPen(QPen(band.colour, 0.6))
                painter.setBrush(QBrush(band.colour, Qt.BrushStyle.BDiagPattern))
            else:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(band.colour)
            painter.drawPolygon(to_screen.map(band.outline))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        self._paint_combs(painter, to_screen)
        for pieces, pen in self._lines.values():
            painter.setPen(pen)
            for piece in pieces:
                painter.drawPolyline(to_screen.map(piece))
        for dots, pen in self.dots.values():
            painter.setPen(pen)
            painter.drawPoints(to_screen.map(dots))
        font = THEME.font(px=SMALL_PX)
        metrics, paper = QFontMetrics(font), QColor(THEME.palette.raised)
        paper.setAlpha(215)
        painter.setFont(font)
        inside = to_screen.mapRect(QRectF(self._view.viewRect()))
        for label in self.labels.values():
            if not label.shown:
                continue
            box = QRectF(metrics.boundingRect(label.text)).adjusted(-3, -1, 3, 1)
            box.moveCenter(to_screen.map(label.place) + QPointF(0.0, label.under_px))
            box.moveLeft(min(max(box.left(), inside.left() + 2), inside.right() - box.width() - 2))
            painter.fillRect(box, paper)
            painter.setPen(label.colour)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, label.text)
        painter.restore()

    def _paint_combs(self, painter: QPainter, to_screen: QTransform) -> None:
        """Upright lines need no smoothing, and a hundred of them as one smoothed path take as long as the rest."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        inside = to_screen.mapRect(QRectF(self._view.viewRect()))
        for x, tops, pen in self._combs.values():
            painter.setPen(pen)
            if x.size:  # Qt draws some lines or raises
                lines: sip.array[QLineF | None] = sip.array(QLineF, x.size)  # type: ignore[call-arg]
                ends = np.frombuffer(cast(memoryview, lines)).reshape(x.size, 4)  # its memory, filled as a polygon's
                ends[:, 0] = ends[:, 2] = to_screen.m11() * x + to_screen.dx()
                ends[:, 1] = inside.bottom()
                ends[:, 3] = np.clip(to_screen.m22() * tops + to_screen.dy(), inside.top(), inside.bottom())
                painter.drawLines(lines)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)


def polygon_of(x: FloatArray, y: FloatArray) -> QPolygonF:
    """Points (n,), (n,) as one polygon, filled through its memory rather than point by point."""
    polygon = pg.functions.create_qpolygonf(x.size)
    memory = pg.functions.ndarray_from_qpolygonf(polygon)
    memory[:, 0], memory[:, 1] = x, y
    return polygon


def pieces_of(x: FloatArray, y: FloatArray) -> list[QPolygonF]:
    """The same in pieces that a solid line of them is drawn by, each beginning where the last one ended."""
    return [polygon_of(x[i : i + PIECE + 1], y[i : i + PIECE + 1]) for i in range(0, max(x.size - 1, 1), PIECE)]


def bends(values: FloatArray, tolerance: float) -> NDArray[np.bool_]:
    """Which points a polyline needs to stay within a tolerance of the curve: many where it bends, few where it runs
    straight. A chord over n steps leaves a curve of second difference d by n²·d/8."""
    bend = np.zeros(values.size)
    bend[1:-1] = np.abs(values[2:] - 2 * values[1:-1] + values[:-2])
    bend[1:] = np.maximum(bend[1:], bend[:-1])
    steps = np.floor(np.cumsum(np.sqrt(bend / (8 * tolerance)) + 1 / 32))
    kept = np.empty(values.size, dtype=bool)
    kept[1:] = steps[1:] != steps[:-1]
    kept[[0, -1]] = True
    return kept
