"""A hatched band between two curves, for what is out of date. The hatching keeps its spacing at every zoom."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QColor, QPainter, QPen, QPolygonF


class HatchedBand(pg.GraphicsObject):
    """x, low, high (n,) in the figure's units."""

    def __init__(
        self, x: NDArray[np.float64], low: NDArray[np.float64], high: NDArray[np.float64], colour: QColor
    ) -> None:
        super().__init__()
        along = np.concatenate([x, x[::-1]])
        across = np.concatenate([high, low[::-1]])
        self._outline = QPolygonF([QPointF(float(a), float(b)) for a, b in zip(along, across, strict=True)])
        self._colour = colour

    def boundingRect(self) -> QRectF:
        return self._outline.boundingRect()

    def paint(self, painter: QPainter, *_: Any) -> None:
        # A pattern brush is scaled with the painter; drawn in the widget's own pixels its lines stay even.
        on_screen = painter.transform().map(self._outline)
        painter.save()
        painter.resetTransform()
        painter.setPen(QPen(self._colour, 0.6))
        painter.setBrush(QBrush(self._colour, Qt.BrushStyle.BDiagPattern))
        painter.drawPolygon(on_screen)
        painter.restore()
