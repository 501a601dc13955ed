"""A ruled figure: curves, bands, labels on the curves, hover reading, zoom, copy, save."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFocusEvent, QKeyEvent, QPen
from PyQt6.QtWidgets import QWidget

from jiyuu.arrays import FloatArray
from jiyuu.desktop.figures.cursor import ReadingCursor
from jiyuu.desktop.figures.labels import place_labels
from jiyuu.desktop.figures.layer import Label, Layer, bends
from jiyuu.desktop.figures.movable_line import captions_px
from jiyuu.desktop.figures.plot import Plot
from jiyuu.desktop.figures.rulers import Ruling, restyle_axis
from jiyuu.desktop.figures.saving import Figure
from jiyuu.desktop.theme.pens import clear
from jiyuu.desktop.theme.style import SMALL_PX, THEME
from jiyuu.quantities import signed


@dataclass(frozen=True, slots=True, eq=False)
class PlotCurve:
    """A finished curve, ready to draw: places (n,) in the ruler's unit, values (n,) in the figure's."""

    name: str
    places: FloatArray
    values: FloatArray


MARGIN_PX = 4  # around the letters of a caption
HAIRS = 4000  # over the height of a figure: as far as what is drawn may be from what is meant
MOST_SHARE = 0.4  # of a figure's height, that captions over the curves may take


class RuledFigure(Plot, Figure):
    """One figure over a ruler. `unit` is that of the vertical axis. A kind of figure says what its ruler measures: x of
    a place, a place in words, the heading of its column."""

    refused = pyqtSignal(str)
    column = ""  # heading of the places in a table
    lowest, highest = 0.0, 1.0  # ends of the ruler, x

    def __init__(
        self, *, title: str, unit: str, axes: dict[str, pg.AxisItem], level_steps: tuple[float, ...],
        strong_step: float, parent: QWidget | None = None,
    ) -> None:
        super().__init__(axes, parent)
        self.title, self._unit = title, unit
        self._hair = level_steps[0] / 240  # a tenth of a pixel or so at the usual zoom, or by the levels in view
        self._data: dict[str, PlotCurve] = {}
        self._levels: tuple[float, float] | None = None
        self._top = 0.0  # of the levels, with the room that a note needs
        view = self.view
        span = self.highest - self.lowest
        view.setLimits(xMin=self.lowest - 0.1 * span, xMax=self.highest + 0.1 * span, minXRange=0.05 * span)
        view.setXRange(self.lowest, self.highest, padding=0)
        self._ruling = Ruling(view, level_steps, strong_step, self.lines)
        self._still = Layer(view, z=0, still=True)
        self._moving = Layer(view, z=5, still=False)
        for item in (self._ruling, self._still, self._moving):
            self.add(item)
        self._reading = pg.TextItem(anchor=(1, 0))
        self._reading.setParentItem(view)
        self._title_item = pg.TextItem(anchor=(0, 0))
        self._title_item.setParentItem(view)
        self._why = pg.TextItem(anchor=(0, 0))
        self._why.setParentItem(view)
        self._note = pg.TextItem(anchor=(0, 0))
        self._note.setParentItem(view)
        self._cursor = ReadingCursor(self)
        self.add(self._cursor)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(
            lambda position: self.figure_menu(position, ("Whole range (Home)", self.show_all)))
        self.setAccessibleName(title)
        self._proxy = pg.SignalProxy(self.scene().sigMouseMoved, rateLimit=60, slot=self._hover)
        view.sigResized.connect(lambda *_: self._place_captions())
        THEME.changed.connect(self.restyle)
        self.restyle()

    # The ruler

    def x_of(self, places: FloatArray) -> FloatArray:
        """x of places (n,) in the ruler's unit."""
        raise NotImplementedError

    def place_of(self, x: float) -> float:
        """The place in the ruler's unit at an x."""
        raise NotImplementedError

    def said(self, place: float) -> str:
        """A place in words, for the reading under the pointer."""
        raise NotImplementedError

    def lines(self, left: float, right: float) -> list[tuple[float, bool]]:
        """x of the ruled lines within a stretch, and whether each is a strong one."""
        raise NotImplementedError

    # What is shown

    def show_curve(
        self, curve: PlotCurve, pen: QPen, *, labelled: bool = False, colour: str | None = None, still: bool = False
    ) -> None:
        """Draw a curve, or redraw the one of that name. still: it does not move while a control is dragged."""
        layer = self._still if still else self._moving
        x, y = self.x_of(curve.places), curve.values
        kept = bends(y, self._hair if self._levels is None else max(self._hair, np.ptp(self._levels) / HAIRS))
        layer.set_line(curve.name, x[kept], y[kept], pen)
        self._data[curve.name] = curve
        if labelled:
            ink = QColor(colour or THEME.palette.quiet)
            known = self._moving.labels.get(curve.name)
            if known is None:
                self._moving.labels[curve.name] = Label(curve.name, ink, QPointF(float(x[0]), float(y[0])), shown=False)
            else:
                known.colour = ink
        layer.touched()

    def show_band(self, name: str, places: FloatArray, low: FloatArray, high: FloatArray, colour: str,
                  *, hatched: bool) -> None:
        """A band between two curves: uncertainty, or hatched for what is out of date."""
        self._still.set_band(
            name, self.x_of(places), low, high, clear(colour, 150 if hatched else 70), hatched=hatched
        )
        self._still.touched()

    def forget(self, *names: str) -> None:
        """Take curves and bands away."""
        for name in names:
            self._data.pop(name, None)
        for layer in (self._still, self._moving):
            lost = [layer.forget(name) for name in names]
            if any(lost):  # else what is kept as a picture stays one
                layer.touched()

    def focusInEvent(self, event: QFocusEvent) -> None:
        """Whoever listens is told what is drawn."""
        self.setAccessibleDescription(". ".join(self.words()))
        super().focusInEvent(event)

    def shown_names(self) -> list[str]:
        return list(self._data)

    def band_names(self) -> list[str]:
        return [*self._moving.bands, *self._still.bands]

    def curve(self, name: str) -> PlotCurve | None:
        return self._data.get(name)

    def say_why(self, text: str) -> None:
        """A line under the title, for what is out of date and why; empty to take it away."""
        if text == self._why.toPlainText():
            return
        self._why.setText(text, QColor(THEME.palette.stale))
        self._why.setVisible(bool(text))
        self._place_captions()

    def reason(self) -> str:
        """What is said of what is out of date."""
        return str(self._why.toPlainText())

    def note(self) -> str:
        """What is said about what the figure shows."""
        return str(self._note.toPlainText())

    def note_at_foot(self) -> bool:
        """Whether the note gave way to a curve under the title."""
        return bool(self._note.pos().y() > self.view.height() / 2)

    def note_covers(self) -> bool:
        """Whether a curve runs under the note."""
        low, high = self.view.viewRange()[1]
        return bool(self.note()) and self._crossed(
            self._note.pos().y() + MARGIN_PX, self._note.boundingRect().height() - 2 * MARGIN_PX, (low, high))

    def reading(self) -> str:
        """What the pointer or the cursor reads."""
        return str(self._reading.toPlainText())

    def say_note(self, text: str) -> None:
        """A line under the title about what the figure shows; empty to take it away."""
        if not text and not self._note.toPlainText():
            return
        if text != self._note.toPlainText():
            self._note.setText(text, QColor(THEME.palette.quiet))
            self._note.setVisible(bool(text))
        self._place_captions()

    def move_labels(self) -> None:
        """Labels follow their curves up and down; cheap enough for every step of a drag."""
        for name, label in self._moving.labels.items():
            curve, x = self._data[name], label.place.x()
            label.place.setY(float(np.interp(x, self.x_of(curve.places), curve.values)))

    def place_labels(self) -> None:
        """Each label where its curve stands farthest from the others, from marks and from labels already placed."""
        view, (x0, x1) = self.view, self.view.viewRange()[0]
        curves = {name: (self.x_of(curve.places), curve.values) for name, curve in self._data.items()}
        place_labels(self._moving.labels, curves, view.viewRange(), (view.width(), view.height()),
                     self._marked_px(x0, x1, max(view.width(), 1.0)), captions_px(view))
        self._moving.touched()
        if self._note.toPlainText():
            self._place_captions()

    def _marked_px(self, x0: float, x1: float, width: float) -> list[float]:
        """Where marks stand that a label should keep off, in pixels from the left end x0 to x1 of the view."""
        return []

    # Style

    def restyle(self) -> None:
        if self.closed:  # the theme outlives it
            return
        palette = THEME.palette
        self.setBackground(palette.raised)
        for item in (self._ruling, self._still):  # kept as pictures, which know of no theme
            item.update()
        for axis in self.axes.values():
            restyle_axis(axis)
        self._title_item.setText(self.title)
        for item, ink, bold in ((self._title_item, palette.ink, True), (self._reading, palette.ink, False),
                                (self._why, palette.stale, True), (self._note, palette.quiet, False)):
            item.setFont(THEME.font(px=SMALL_PX, bold=bold))
            item.setColor(QColor(ink))
            item.fill = pg.mkBrush(clear(palette.raised, 215))
            item.setVisible(bool(item.toPlainText()))
        self.restyle_lines()
        self._place_captions()

    def restyle_lines(self) -> None:
        """Overridden by figures with lines to be taken and moved."""

    def _place_captions(self) -> None:
        view = self.view
        self._title_item.setPos(QPointF(4, 2))
        self._reading.setPos(QPointF(view.width() - 4, 2))
        line = self._title_item.boundingRect().height()
        for item in (self._why, self._note):  # what is longer than the figure is wide goes on in a second line
            item.setTextWidth(-1)
            if item.boundingRect().width() > view.width() - 8:
                item.setTextWidth(max(view.width() - 8, 40.0))
        self._why.setPos(QPointF(4, 2 + line))
        below = self._why.boundingRect().height() if self._why.toPlainText() else 0.0
        top, height = 2 + line + below, self._note.boundingRect().height()
        bottom = view.height() - height - 2
        # Under the title, but at the foot where a curve runs there and leaves the foot free; else with more room over
        # the curves.
        levels = self._whole()
        under_title = bool(self.note()) and self._crossed(top, height, levels)
        lower = under_title and not self._crossed(bottom, height, levels)
        self._note.setPos(QPointF(4, bottom if lower else top))
        self._raise(top + height + MARGIN_PX if under_title and not lower else 0.0)

    def _whole(self) -> tuple[float, float]:
        """The range of levels that is in view, as it is without more room for a note."""
        low, high = self.view.viewRange()[1]
        if self._levels is None or max(abs(low - self._levels[0]), abs(high - self._top)) > 1e-6 * (high - low):
            return low, high
        return self._levels

    def _raise(self, stripe: float) -> None:
        """More room over the curves, so that a stripe so high under the upper edge, in pixels, is free of them; none
        where a part of the levels is looked at, or where there would be little left of them."""
        if self._levels is None or self._whole() != self._levels:
            return
        low, high = self._levels
        share, top = stripe / max(self.view.height(), 1.0), high
        if 0 < share < MOST_SHARE:
            highest = max(float(values.max()) for values in self._beside_note() if values.size)
            top = max(high, low + (min(highest, high) - low) / (1 - share))
        if top != self._top:
            self._top = top
            self.view.setYRange(low, top, padding=0)

    def _crossed(self, top: float, height: float, levels: tuple[float, float]) -> bool:
        """Whether a curve runs through that stripe, as far as the note is wide; in pixels, of a view of such levels."""
        y0, y1 = levels
        high, low = (y1 - (y1 - y0) * edge / max(self.view.height(), 1.0) for edge in (top, top + height))
        return any(bool(((values > low) & (values < high)).any()) for values in self._beside_note())

    def _beside_note(self) -> list[FloatArray]:
        """Of every curve what stands in view as far as the note is wide."""
        x0, x1 = self.view.viewRange()[0]
        right = x0 + (x1 - x0) * min((self._note.boundingRect().width() + 8) / max(self.view.width(), 1.0), 1.0)
        curves = [(self.x_of(curve.places), curve.values) for curve in self._data.values()]
        return [values[(x >= x0) & (x <= right) & np.isfinite(values)] for x, values in curves]

    # Reading, zooming, keys

    def _hover(self, event: tuple[QPointF]) -> None:
        view = self.view
        position = event[0]
        inside = view.sceneBoundingRect().contains(position)
        self._reading.setVisible(inside)
        if not inside:
            self._reading.setText("")
            return
        point = view.mapSceneToView(position)
        self._reading.setText(self.reading_at(point.x(), point.y()), QColor(THEME.palette.ink))

    def reading_at(self, x: float, height: float) -> str:
        """What the pointer says: the place, and the value of the nearest curve there."""
        place = self.place_of(x)
        text = self.said(place)
        nearest: tuple[float, str, float] | None = None
        for name, curve in self._data.items():
            if not curve.places[0] <= place <= curve.places[-1]:
                continue
            value = float(np.interp(x, self.x_of(curve.places), curve.values))
            if np.isfinite(value) and (nearest is None or abs(value - height) < nearest[0]):
                nearest = (abs(value - height), name, value)
        if nearest is not None:
            text += f"  {nearest[1]} {signed(nearest[2])} {self._unit}"
        return text

    def wheelEvent(self, event: object) -> None:
        super().wheelEvent(event)
        self.place_labels()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, view = event.key(), self.view
        way = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(key), 0)
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            factor = 0.8 if key == Qt.Key.Key_Plus else 1.25
            view.scaleBy((factor, factor))
            self.place_labels()
        elif key == Qt.Key.Key_Home:
            self.show_all()
        elif way and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._cursor.step(way, large=bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        elif way and event.modifiers() & Qt.KeyboardModifier.AltModifier:
            (low, high), _ = view.viewRange()
            view.setXRange(low + 0.1 * way * (high - low), high + 0.1 * way * (high - low), padding=0)
            self.place_labels()
        elif key in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            self._cursor.turn(-1 if key == Qt.Key.Key_PageUp else 1)
        elif key == Qt.Key.Key_Escape and self._cursor.isVisible():
            self._cursor.put_away()
        else:
            super().keyPressEvent(event)

    def set_levels(self, low: float, high: float) -> None:
        """The range of the vertical axis, and what Home goes back to."""
        self._levels, self._top = (low, high), high
        self.view.setYRange(low, high, padding=0)
        if self._note.toPlainText():
            self._place_captions()

    def show_all(self) -> None:
        """The whole ruler again, and the whole range of levels."""
        self.view.setXRange(self.lowest, self.highest, padding=0)
        if self._levels is not None:
            self.view.setYRange(self._levels[0], self._top, padding=0)
        self.place_labels()

    def read_out(self, x: float, name: str | None) -> str:
        """Says what stands at x on a curve (the nearest where none is named), as the pointer would."""
        curve = self._data.get(name or "")
        height = 0.0 if curve is None else float(np.interp(x, self.x_of(curve.places), curve.values))
        text = self.reading_at(x, height)
        self._reading.setText(text, QColor(THEME.palette.ink))
        self._reading.setVisible(True)
        self.setAccessibleDescription(text)
        return text

    # Values and words

    def as_csv(self, separator: str = ",") -> str:
        """All curves on the first one's places, units in the heading."""
        if not self._data:
            return ""
        curves = list(self._data.values())
        places = curves[0].places
        columns = [np.interp(places, c.places, c.values) for c in curves]
        unit = {"dB": "db", "°": "deg", "dB/oct": "db_per_octave"}.get(self._unit, self._unit)
        heading = separator.join([self.column, *(f"{c.name} {unit}".replace(" ", "_") for c in curves)])
        rows = [separator.join(f"{v:.9g}" for v in row) for row in zip(places, *columns, strict=True)]
        return "\n".join([heading, *rows]) + "\n"

    def words(self) -> tuple[str, ...]:
        """Every curve by its ends and its highest and lowest point."""
        said = [self.title, *(text for text in (self.reason(), self.note()) if text)]
        for name, curve in self._data.items():
            finite = np.flatnonzero(np.isfinite(curve.values))
            if not finite.size:
                continue
            high, low = finite[np.argmax(curve.values[finite])], finite[np.argmin(curve.values[finite])]
            said.append(f"{name}: highest {signed(float(curve.values[high]))} {self._unit} at "
                        f"{self.said(float(curve.places[high]))}, lowest {signed(float(curve.values[low]))} "
                        f"{self._unit} at {self.said(float(curve.places[low]))}")
        return tuple(said)

    def refuse(self, text: str) -> None:
        self.refused.emit(text)
