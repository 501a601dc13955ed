"""A ruled figure: curves, bands, labels on the curves, hover reading, zoom, copy, save."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QColor, QGuiApplication, QKeyEvent, QPainter, QPen
from PyQt6.QtSvg import QSvgGenerator
from PyQt6.QtWidgets import QMenu, QWidget

from jiyuu.desktop.figures.layer import Label, Layer, bends
from jiyuu.desktop.figures.rulers import Ruling, restyle_axis
from jiyuu.desktop.theme.style import SMALL_PX, THEME
from jiyuu.errors import JiyuuError
from jiyuu.quantities import signed
from jiyuu.whole_file import write_text, written_whole

FloatArray = NDArray[np.float64]
HALF_NAME_PX = 34  # about, of a curve's name


@dataclass(frozen=True, slots=True, eq=False)
class PlotCurve:
    """A finished curve, ready to draw: places (n,) in the ruler's unit, values (n,) in the figure's."""

    name: str
    places: FloatArray
    values: FloatArray


class RuledFigure(pg.PlotWidget):
    """One figure over a ruler. `unit` is that of the vertical axis. A kind of figure says what its ruler measures: x of
    a place, a place in words, the heading of its column."""

    column = ""  # heading of the places in a table
    lowest, highest = 0.0, 1.0  # ends of the ruler, x

    def __init__(
        self, *, title: str, unit: str, axes: dict[str, pg.AxisItem], level_steps: tuple[float, ...],
        strong_step: float, parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent=parent, axisItems=axes, viewBox=pg.ViewBox(enableMenu=False))
        self._title, self._unit = title, unit
        self._hair = level_steps[0] / 240  # a tenth of a pixel or so at the usual zoom
        self._data: dict[str, PlotCurve] = {}
        plot = self.getPlotItem()
        plot.setMenuEnabled(False)
        plot.hideButtons()
        plot.layout.setContentsMargins(2, 2, 8, 2)
        view = plot.getViewBox()
        view.setDefaultPadding(0)
        span = self.highest - self.lowest
        view.setLimits(xMin=self.lowest - 0.1 * span, xMax=self.highest + 0.1 * span, minXRange=0.05 * span)
        view.setXRange(self.lowest, self.highest, padding=0)
        self._ruling = Ruling(view, level_steps, strong_step, self.lines)
        self._still = Layer(view, z=0, still=True)
        self._moving = Layer(view, z=5, still=False)
        for item in (self._ruling, self._still, self._moving):
            self.addItem(item, ignoreBounds=True)
        self._reading = pg.TextItem(anchor=(1, 0))
        self._reading.setParentItem(view)
        self._title_item = pg.TextItem(anchor=(0, 0))
        self._title_item.setParentItem(view)
        self._why = pg.TextItem(anchor=(0, 0))
        self._why.setParentItem(view)
        self._note = pg.TextItem(anchor=(0, 0))
        self._note.setParentItem(view)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(self._show_menu)
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
        kept = bends(y, self._hair)
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
            name, self.x_of(places), low, high, clear_colour(colour, 150 if hatched else 70), hatched=hatched
        )
        self._still.touched()

    def forget(self, *names: str) -> None:
        """Take curves and bands away."""
        for name in names:
            self._data.pop(name, None)
            for layer in (self._still, self._moving):
                layer.forget(name)
        self._still.touched()
        self._moving.touched()

    def shown_names(self) -> list[str]:
        return list(self._data)

    def curve(self, name: str) -> PlotCurve | None:
        return self._data.get(name)

    def say_why(self, text: str) -> None:
        """A line under the title, for what is out of date and why; empty to take it away."""
        self._why.setText(text, QColor(THEME.palette.stale))
        self._why.setVisible(bool(text))
        self._place_captions()

    def say_note(self, text: str) -> None:
        """A line under the title about what the figure shows; empty to take it away."""
        self._note.setText(text, QColor(THEME.palette.quiet))
        self._note.setFont(THEME.font(px=SMALL_PX))
        self._note.setVisible(bool(text))
        self._place_captions()

    def move_labels(self) -> None:
        """Labels follow their curves up and down; cheap enough for every step of a drag."""
        for name, label in self._moving.labels.items():
            curve, x = self._data[name], label.place.x()
            label.place.setY(float(np.interp(x, self.x_of(curve.places), curve.values)))

    def place_labels(self) -> None:
        """Each label where its curve stands farthest from the others and from labels already placed."""
        view = self.getPlotItem().getViewBox()
        (x0, x1), (y0, y1) = view.viewRange()
        places = np.linspace(x0 + 0.08 * (x1 - x0), x1 - 0.08 * (x1 - x0), 29)
        labels = self._moving.labels
        curves = {name: self._data[name] for name in labels}
        heights = {name: np.interp(places, self.x_of(c.places), c.values) for name, c in curves.items()}
        width, height = max(view.width(), 1.0), max(view.height(), 1.0)
        taken: list[tuple[float, float]] = []
        for name, label in labels.items():
            own = heights[name]
            gap = np.full(places.size, height)
            for other, values in heights.items():
                apart = np.abs(values - own) / (y1 - y0) * height
                if other != name and apart.max() > 3:  # a curve that coincides leaves room for both names
                    gap = np.minimum(gap, apart)
            x_px, y_px = (places - x0) / (x1 - x0) * width, (y1 - own) / (y1 - y0) * height
            for tx, ty in taken:
                distance = np.hypot((x_px - tx) / 4.5, y_px - ty)
                gap = np.minimum(gap, distance)
            ends = self.x_of(curves[name].places[[0, -1]])
            for mark in self._marked_px(x0, x1, width):  # a name on a mark would hide what it says
                gap = np.where(np.abs(x_px - mark) < HALF_NAME_PX, 0.5 * gap, gap)
            inside = (y_px > 30) & (y_px < height - 14) & (places >= ends.min()) & (places <= ends.max())
            score = np.where(inside, np.minimum(gap, 40), -1)
            best = int(np.argmax(score))
            label.shown = bool(score[best] > 7)
            label.place = QPointF(float(places[best]), float(own[best]))
            if label.shown:
                taken.append((float(x_px[best]), float(y_px[best])))
        self._moving.touched()

    def _marked_px(self, x0: float, x1: float, width: float) -> list[float]:
        """Where marks stand that a label should keep off, in pixels from the left end x0 to x1 of the view."""
        return []

    # Style

    def restyle(self) -> None:
        if self.getPlotItem() is None:  # closed: the theme outlives it
            return
        palette = THEME.palette
        self.setBackground(palette.raised)
        for name in ("left", "bottom", "top"):
            restyle_axis(self.getPlotItem().getAxis(name))
        self._title_item.setText(self._title, QColor(palette.ink))
        self._title_item.setFont(THEME.font(px=SMALL_PX, bold=True))
        self._reading.setFont(THEME.font(px=SMALL_PX, numbers=True))
        self._why.setFont(THEME.font(px=SMALL_PX, bold=True))
        for item in (self._title_item, self._reading, self._why, self._note):
            item.fill = pg.mkBrush(clear_colour(palette.raised, 215))
            item.setVisible(bool(item.toPlainText()))
        self.restyle_lines()
        self._place_captions()

    def restyle_lines(self) -> None:
        """Overridden by figures with lines to be taken and moved."""

    def _place_captions(self) -> None:
        view = self.getPlotItem().getViewBox()
        self._title_item.setPos(QPointF(4, 2))
        self._reading.setPos(QPointF(view.width() - 4, 2))
        line = self._title_item.boundingRect().height()
        self._why.setPos(QPointF(4, 2 + line))
        self._note.setPos(QPointF(4, 2 + (2 if self._why.toPlainText() else 1) * line))

    # Reading, zooming, keys

    def _hover(self, event: tuple[QPointF]) -> None:
        view = self.getPlotItem().getViewBox()
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
        key = event.key()
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            factor = 0.8 if key == Qt.Key.Key_Plus else 1.25
            self.getPlotItem().getViewBox().scaleBy((factor, factor))
            self.place_labels()
        elif key == Qt.Key.Key_Home:
            self.show_all()
        else:
            super().keyPressEvent(event)

    def show_all(self) -> None:
        """The whole ruler again."""
        self.getPlotItem().getViewBox().setXRange(self.lowest, self.highest, padding=0)
        self.fit_levels()

    def fit_levels(self) -> None:
        """Overridden by figures with a level range of their own."""

    # Copy and save

    def _show_menu(self, position: QPoint) -> None:
        menu = QMenu(self)
        menu.addAction("Copy picture", self.copy_picture)
        menu.addAction("Copy values", self.copy_values)
        menu.addAction("Whole range (Home)", self.show_all)
        menu.exec(self.mapToGlobal(position))

    def copy_picture(self) -> None:
        clipboard = QGuiApplication.clipboard()
        assert clipboard is not None
        clipboard.setPixmap(self.grab())

    def copy_values(self) -> None:
        """All curves as text with tabs."""
        clipboard = QGuiApplication.clipboard()
        assert clipboard is not None
        clipboard.setText(self.as_csv("\t"))

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

    def save(self, path: Path) -> None:
        """As SVG, PNG or CSV by the ending. Raises JiyuuError for another ending or a place that cannot be written."""
        ending = path.suffix.lower()
        if ending == ".csv":
            write_text(path, self.as_csv())
        elif ending in (".svg", ".png"):
            with written_whole(path) as temporary:
                self._draw_svg(temporary) if ending == ".svg" else self.grab().save(str(temporary), "PNG")
        else:
            raise JiyuuError(f"{path.name} has no ending a figure can have; use .svg, .png or .csv.")

    def _draw_svg(self, path: Path) -> None:
        generator = QSvgGenerator()
        generator.setFileName(str(path))
        generator.setSize(self.size())
        generator.setViewBox(self.rect())
        generator.setTitle(self._title)
        painter = QPainter(generator)
        painter.fillRect(self.rect(), QColor(THEME.palette.raised))
        self.render(painter)
        painter.end()


def clear_colour(colour: str, alpha: int) -> QColor:
    shade = QColor(colour)
    shade.setAlpha(alpha)
    return shade
