"""A ruled figure: curves, bands, labels on the curves, hover reading, zoom, copy, save."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFocusEvent, QKeyEvent, QPen
from PyQt6.QtWidgets import QWidget

from jiyuu.arrays import FloatArray
from jiyuu.desktop.figures.captions import Captions
from jiyuu.desktop.figures.cursor import ReadingCursor
from jiyuu.desktop.figures.labels import place_labels
from jiyuu.desktop.figures.layer import Label, Layer, bends
from jiyuu.desktop.figures.movable_line import captions_px
from jiyuu.desktop.figures.plot import Plot
from jiyuu.desktop.figures.rulers import Ruling, restyle_axis
from jiyuu.desktop.figures.saving import Figure
from jiyuu.desktop.theme.pens import clear
from jiyuu.desktop.theme.style import THEME
from jiyuu.quantities import signed


@dataclass(frozen=True, slots=True, eq=False)
class PlotCurve:
    """A finished curve, ready to draw: places (n,) in the ruler's unit, values (n,) in the figure's."""

    name: str
    places: FloatArray
    values: FloatArray


HAIRS = 4000  # over the height of a figure: as far as what is drawn may be from what is meant


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
        view = self.view
        span = self.highest - self.lowest
        view.setLimits(xMin=self.lowest - 0.1 * span, xMax=self.highest + 0.1 * span, minXRange=0.05 * span)
        view.setXRange(self.lowest, self.highest, padding=0)
        self._ruling = Ruling(view, level_steps, strong_step, self.lines)
        self._still = Layer(view, z=0, still=True)
        self._moving = Layer(view, z=5, still=False)
        for item in (self._ruling, self._still, self._moving):
            self.add(item)
        self.captions = Captions(view, title, self._drawn)
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
        self, curve: PlotCurve, pen: QPen, *, labelled: bool = False, colour: str | None = None, still: bool = False,
        dotted: bool = False,
    ) -> None:
        """Draw a curve, or redraw the one of that name. still: it does not move while a control is dragged;
        dotted: with its points, because nothing is known between them."""
        layer = self._still if still else self._moving
        x, y = self.x_of(curve.places), curve.values
        kept = bends(y, max(self._hair, (self.captions.span or 0.0) / HAIRS))
        layer.set_line(curve.name, x[kept], y[kept], pen)
        if dotted:
            layer.set_dots(curve.name, x, y, pen)
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

    def dotted_names(self) -> list[str]:
        return [*self._moving.dots, *self._still.dots]

    def band_names(self) -> list[str]:
        return [*self._moving.bands, *self._still.bands]

    def curve(self, name: str) -> PlotCurve | None:
        return self._data.get(name)

    def _drawn(self) -> list[tuple[FloatArray, FloatArray]]:
        """x and heights of every curve."""
        return [(self.x_of(curve.places), curve.values) for curve in self._data.values()]

    def say_why(self, text: str) -> None:
        """A line under the title, for what is out of date and why; empty to take it away."""
        if self.captions.say_why(text):
            self._place_captions()

    def say_note(self, text: str, brief: str = "") -> None:
        """A line under the title about what the figure shows; empty to take it away. brief: the same for a narrow
        figure."""
        if text or self.captions.note:
            self.captions.say_note(text, brief)
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
                     [(x - x0) / (x1 - x0) * max(view.width(), 1.0) for x in self._marked_at()], captions_px(view))
        self._moving.touched()
        self._place_captions()

    def names_at(self) -> dict[str, float]:
        """x at which the name of each curve stands, where it is shown."""
        return {name: label.place.x() for name, label in self._moving.labels.items() if label.shown}

    def _marked_at(self) -> list[float]:
        """x of marks that the name of a curve should keep off."""
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
        self.captions.restyle()
        self.restyle_lines()
        self._place_captions()

    def restyle_lines(self) -> None:
        """Overridden by figures with lines to be taken and moved."""

    def _place_captions(self) -> None:
        self.captions.place()

    # Reading, zooming, keys

    def _hover(self, event: tuple[QPointF]) -> None:
        view = self.view
        position = event[0]
        inside = view.sceneBoundingRect().contains(position)
        point = view.mapSceneToView(position)
        self.captions.say_reading(self.reading_at(point.x(), point.y()) if inside else "")

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
        self.captions.set_levels(low, high)
        self._place_captions()

    def show_all(self) -> None:
        """The whole ruler again, and the whole range of levels."""
        self.view.setXRange(self.lowest, self.highest, padding=0)
        self.captions.show_levels()
        self.place_labels()

    def read_out(self, x: float, name: str | None) -> str:
        """Says what stands at x on a curve (the nearest where none is named), as the pointer would."""
        curve = self._data.get(name or "")
        height = 0.0 if curve is None else float(np.interp(x, self.x_of(curve.places), curve.values))
        text = self.reading_at(x, height)
        self.captions.say_reading(text)
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
        said = [self.title, *(text for text in (self.captions.why, self.captions.note) if text)]
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
