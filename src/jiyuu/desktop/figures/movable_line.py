"""A line in a figure to be taken and moved: a cutoff, a position of a control."""

from __future__ import annotations

import pyqtgraph as pg
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QColor, QPen

from jiyuu.desktop.theme.pens import clear
from jiyuu.desktop.theme.style import SMALL_PX, THEME


class MovableLine(pg.InfiniteLine):
    """Moves within its bounds; double-click takes it back to where it was made to stand."""

    reset = pyqtSignal()

    def __init__(self, *, angle: int, bounds: tuple[float, float]) -> None:
        super().__init__(
            angle=angle, movable=True, bounds=bounds, label="",
            labelOpts={"position": 0.06 if angle == 90 else 0.015, "movable": False,
                       "anchors": [(0, 0.5), (1, 0.5)] if angle == 90 else [(0, 0), (0, 1)]},
        )
        self.setZValue(30)

    def restyle(self) -> None:
        palette = THEME.palette
        self.setPen(QPen(QColor(palette.ink), 0, Qt.PenStyle.DashDotLine))
        self.setHoverPen(QPen(QColor(palette.ink), 2))
        self.label.setColor(QColor(palette.ink))
        self.label.fill = pg.mkBrush(clear(palette.raised, 225))
        self.label.setFont(THEME.font(px=SMALL_PX, bold=True))

    def say_at(self, share: float, *, above: bool) -> None:
        """Where along a level line its label begins, and on which side of it, wherever the line is."""
        self.label.anchors = [(0, 1)] * 2 if above else [(0, 0)] * 2
        self.label.setPosition(share)

    def place(self, value: float, text: str) -> None:
        """Move it without saying so."""
        self.blockSignals(True)
        self.setValue(value)
        self.blockSignals(False)
        if text and self.label.isVisible():
            self.label.setFormat(text)
        elif text:
            self.label.format = text
            self.label.setVisible(True)  # which sets it too
        elif self.label.isVisible():
            self.label.setVisible(False)  # its ground would stand there alone

    def mouseDoubleClickEvent(self, event: object) -> None:
        self.reset.emit()


def captions_px(view: pg.ViewBox) -> list[tuple[float, float, float]]:
    """x and y of the middle of what every line in a view says, from its upper left, and half the width."""
    lines = [line for line in view.childGroup.childItems() if isinstance(line, pg.InfiniteLine) and line.isVisible()]
    labels = [line.label for line in lines if getattr(line, "label", None) is not None and line.label.isVisible()]
    grounds = [label.mapRectToItem(view, label.boundingRect()) for label in labels]
    return [(ground.center().x(), ground.center().y(), 0.5 * ground.width()) for ground in grounds]
