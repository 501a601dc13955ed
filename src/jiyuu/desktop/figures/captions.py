"""What is written over the curves of a figure: its title, what is out of date, a note, what the pointer reads. A note
gives way to the curves: it says less, goes to the foot, or gets more room over them."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFontMetrics

from jiyuu.arrays import FloatArray
from jiyuu.desktop.theme.pens import clear
from jiyuu.desktop.theme.style import SMALL_PX, THEME

MARGIN_PX = 4  # around the letters of a caption
MOST_SHARE = 0.55  # of a figure's height, that captions over the curves may take
Curve = tuple[FloatArray, FloatArray]  # x, and height


class Captions:
    """curves: those that a note keeps off, as they are drawn."""

    def __init__(self, view: pg.ViewBox, title: str, curves: Callable[[], list[Curve]]) -> None:
        self._view, self._curves = view, curves
        self._levels: tuple[float, float] | None = None
        self._top = 0.0  # of the levels, with the room that a note needs
        self._heading, self._full, self._brief = title, "", ""
        self._reading = pg.TextItem(anchor=(1, 0))
        self._title, self._why, self._note = (pg.TextItem(anchor=(0, 0)) for _ in range(3))
        for item in (self._reading, self._title, self._why, self._note):
            item.setParentItem(view)

    # What is said

    def say_why(self, text: str) -> bool:
        """A line under the title, for what is out of date and why; whether that is news."""
        if text == self.why:
            return False
        self._why.setText(text, QColor(THEME.palette.stale))
        self._why.setVisible(bool(text))
        return True

    @property
    def why(self) -> str:
        return str(self._why.toPlainText())

    def say_note(self, text: str, brief: str) -> None:
        """What the figure shows; brief: the same where the first does not fit into one line, '' for all of it in
        two."""
        self._full, self._brief = text, brief or text

    @property
    def note(self) -> str:
        return self._full

    def say_reading(self, text: str) -> None:
        """Opposite the title; '' to take it away."""
        self._reading.setText(text, QColor(THEME.palette.ink))
        self._reading.setVisible(bool(text))

    @property
    def reading(self) -> str:
        return str(self._reading.toPlainText())

    def title_px(self) -> QRectF:
        """Where the title stands, from the view's upper left."""
        return QRectF(self._title.mapRectToItem(self._view, self._title.boundingRect()))

    def at_foot(self) -> bool:
        """Whether the note gave way to a curve under the title."""
        return bool(self._note.pos().y() > self._view.height() / 2)

    def covers(self) -> bool:
        """Whether a curve runs under the title or the note."""
        low, high = self._view.viewRange()[1]
        said = [self._title, *([self._note] if self._note.isVisible() else [])]
        return any(self._crossed(item, item.pos().y(), (low, high), MARGIN_PX) for item in said)

    # Style and place

    def restyle(self) -> None:
        """In the theme's colours and size of type."""
        palette = THEME.palette
        for item, ink, bold in ((self._title, palette.ink, True), (self._reading, palette.ink, False),
                                (self._why, palette.stale, True), (self._note, palette.quiet, False)):
            item.setFont(THEME.font(px=SMALL_PX, bold=bold))
            item.setColor(QColor(ink))
            item.fill = pg.mkBrush(clear(palette.raised, 215))
            item.setVisible(bool(item.toPlainText()) or item is self._title)

    def place(self) -> None:
        """Under each other, and the note where it covers no curve."""
        view = self._view
        self._fill_title(view.width() - 8)
        self._title.setPos(QPointF(4, 2))
        self._reading.setPos(QPointF(view.width() - 4, 2))
        line = self._title.boundingRect().height()
        self._fill_note(view.width() - 8)
        for item in (self._why, self._note):  # what is longer than the figure is wide goes on in a second line
            item.setTextWidth(-1)
            if item.boundingRect().width() > view.width() - 8:
                item.setTextWidth(max(view.width() - 8, 40.0))
        self._why.setPos(QPointF(4, 2 + line))
        below = self._why.boundingRect().height() if self.why else 0.0
        top, height = 2 + line + below, self._note.boundingRect().height()
        bottom = view.height() - height - 2
        # Under the title, but at the foot where a curve runs there and leaves the foot free; else with more room over
        # the curves, and not at all where that would leave little of them.
        levels = self._whole()
        title_crossed = self._crossed(self._title, 2, levels)  # then what runs there comes down
        under_title = bool(self._full) and (title_crossed or self._crossed(self._note, top, levels))
        lower = under_title and not self._crossed(self._note, bottom, levels)
        fits = lower or not under_title or self._share(self._note, top) < MOST_SHARE
        self._note.setPos(QPointF(4, bottom if lower else top))
        self._note.setVisible(bool(self._full) and fits)
        if under_title and fits and not lower:
            self._raise(self._note, top)
        elif title_crossed:
            self._raise(self._title, 2)
        else:
            self._raise(None, 0)

    def _fill_title(self, room_px: float) -> None:
        metrics = QFontMetrics(THEME.font(px=SMALL_PX, bold=True))
        text = metrics.elidedText(self._heading, Qt.TextElideMode.ElideRight, int(room_px) - 2 * MARGIN_PX)
        if text != self._title.toPlainText():
            self._title.setText(text, QColor(THEME.palette.ink))

    def _fill_note(self, room_px: float) -> None:
        metrics = QFontMetrics(THEME.font(px=SMALL_PX))
        wide = metrics.horizontalAdvance(self._full) + 2 * MARGIN_PX > room_px
        text = self._brief if wide else self._full
        if text != self._note.toPlainText():
            self._note.setText(text, QColor(THEME.palette.quiet))

    # The levels in view

    def set_levels(self, low: float, high: float) -> None:
        """The range of the vertical axis, and what Home goes back to."""
        self._levels, self._top = (low, high), high
        self.show_levels()

    def show_levels(self) -> None:
        """The whole range again, with the room that the note needs."""
        if self._levels is not None:
            self._view.setYRange(self._levels[0], self._top, padding=0)

    @property
    def span(self) -> float | None:
        """Of the levels, None where they are as they come."""
        return None if self._levels is None else self._levels[1] - self._levels[0]

    def _whole(self) -> tuple[float, float]:
        """The range of levels that is in view, as it is without more room for a note."""
        low, high = self._view.viewRange()[1]
        if self._levels is None or max(abs(low - self._levels[0]), abs(high - self._top)) > 1e-6 * (high - low):
            return low, high
        return self._levels

    def _raise(self, item: pg.TextItem | None, top_px: float) -> None:
        """More room over the curves, so that what stands so far under the upper edge is free of them; none where a part
        of the levels is looked at, or where there would be little left of them."""
        if self._levels is None or self._whole() != self._levels:
            return
        (low, high), top = self._levels, self._levels[1]
        share = self._share(item, top_px) if item else 0.0
        if item and share < MOST_SHARE:
            beside = [*self._beside(item), *self._beside(self._title)]
            highest = max((float(values.max()) for values in beside if values.size), default=low)
            top = max(high, low + (min(highest, high) - low) / (1 - share))
        if top != self._top:
            self._top = top
            self.show_levels()

    def _share(self, item: pg.TextItem, top_px: float) -> float:
        """Of the height, that ends under what stands so far under the upper edge."""
        return float((top_px + item.boundingRect().height() + MARGIN_PX) / max(self._view.height(), 1.0))

    def _crossed(
        self, item: pg.TextItem, top_px: float, levels: tuple[float, float], margin_px: float = 0.0
    ) -> bool:
        """Whether a curve runs through what stands so far under the upper edge, less a margin, in a view of such
        levels."""
        y0, y1 = levels
        edges = top_px + margin_px, top_px + item.boundingRect().height() - margin_px
        high, low = (y1 - (y1 - y0) * edge / max(self._view.height(), 1.0) for edge in edges)
        return any(bool(((values > low) & (values < high)).any()) for values in self._beside(item))

    def _beside(self, item: pg.TextItem) -> list[FloatArray]:
        """Of every curve what stands in view as far as that is wide."""
        x0, x1 = self._view.viewRange()[0]
        right = x0 + (x1 - x0) * min((item.boundingRect().width() + 8) / max(self._view.width(), 1.0), 1.0)
        return [values[(x >= x0) & (x <= right) & np.isfinite(values)] for x, values in self._curves()]
