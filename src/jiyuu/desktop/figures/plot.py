"""A view between its axes, and nothing else: pyqtgraph's own plot makes a menu of sixty controls for every figure,
which takes as long as the rest of it and nobody can open here."""

from __future__ import annotations

import pyqtgraph as pg
from PyQt6.QtCore import QObject, QRectF
from PyQt6.QtWidgets import QGraphicsGridLayout, QGraphicsItem, QWidget

from jiyuu.desktop.theme.style import THEME

PLACES = {"top": (1, 1), "bottom": (3, 1), "left": (2, 0), "right": (2, 2)}  # row and column
ABOVE_IMAGES = 0.5
MARGINS_PX = (2, 2, 8, 2)
OVER_PX = 2.0


class Axis(pg.AxisItem):
    """Of numbers alone: the label that pyqtgraph would set anew with every colour, range and font is never shown."""

    def _updateLabel(self) -> None:
        self._adjustSize()
        self.picture = None
        self.update()

    def boundingRect(self) -> QRectF:
        """With the tops of large figures, for which pyqtgraph's four fifths of a line are too low."""
        return QRectF(super().boundingRect()).adjusted(0.0, -OVER_PX * THEME.scale, 0.0, 0.0)

    def tickValues(self, minVal: float, maxVal: float, size: float) -> list[tuple[float, list[float]]]:
        """Fewer numbers in larger type: kinds of axes choose them by a length in pixels of usual type."""
        return self.ticks(minVal, maxVal, size / THEME.scale)

    def ticks(self, minVal: float, maxVal: float, size: float) -> list[tuple[float, list[float]]]:
        """Steps with the values that are named in each, over a length so many pixels long."""
        return list(super().tickValues(minVal, maxVal, size))


class Plot(pg.GraphicsView):
    """axes: by the side they stand on; a side that is not named has none."""

    def __init__(self, axes: dict[str, pg.AxisItem], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.enableMouse(False)
        self.view, self.axes = pg.ViewBox(enableMenu=False), axes
        self.view.setDefaultPadding(0)
        frame, layout = pg.GraphicsWidget(), QGraphicsGridLayout()
        frame.setLayout(layout)
        layout.setContentsMargins(*MARGINS_PX)
        layout.setSpacing(0)
        layout.addItem(self.view, 2, 1)
        for side, axis in axes.items():
            axis.linkToView(self.view)
            layout.addItem(axis, *PLACES[side])
            axis.setZValue(ABOVE_IMAGES)
            axis.setFlag(QGraphicsItem.GraphicsItemFlag.ItemNegativeZStacksBehindParent)
        layout.setRowStretchFactor(2, 100)
        layout.setColumnStretchFactor(1, 100)
        self._layout = layout
        self.setCentralItem(frame)

    def add(self, item: QGraphicsItem | QObject) -> None:
        """What is drawn in the view's own measures; it does not move the view."""
        self.view.addItem(item, ignoreBounds=True)

    def stand_beside(self, item: pg.GraphicsWidget) -> None:
        """To the right of the view, where no axis stands."""
        self._layout.addItem(item, *PLACES["right"])

    def remove(self, item: QGraphicsItem | QObject) -> None:
        self.view.removeItem(item)
