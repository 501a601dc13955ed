"""What is drawn all over a view, in its units."""

from __future__ import annotations

import pyqtgraph as pg
from PyQt6.QtCore import QRectF


class OverView(pg.GraphicsObject):
    """As large as what the view shows, and drawn anew when that is another range. z: what it stands over."""

    def __init__(self, view: pg.ViewBox, *, z: float) -> None:
        super().__init__()
        self._view = view
        self.setZValue(z)
        view.sigRangeChanged.connect(lambda *_: self.touched())

    def touched(self) -> None:
        """Draw anew."""
        self.prepareGeometryChange()
        self.update()

    def boundingRect(self) -> QRectF:
        return QRectF(self._view.viewRect())
