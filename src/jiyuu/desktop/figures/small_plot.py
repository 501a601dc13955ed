"""A small plot of any two columns: a few courses over one axis, with what they are known to, drawn by hand."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QPainter, QPen, QPolygonF

from jiyuu.arrays import FloatArray
from jiyuu.desktop.figures.painted import PaintedFigure
from jiyuu.desktop.theme.pens import cosmetic
from jiyuu.desktop.theme.style import THEME
from jiyuu.quantities import in_thousands


def digits(value: float) -> str:
    """Five digits, as a tick or a reading needs them."""
    return f"{value:.5g}".replace("-", "−")


LEFT_PX, RIGHT_PX, TOP_PX, FOOT_PX = 58.0, 12.0, 56.0, 36.0
TICK_PX = 64.0  # apart, at least
DASHED = (4.0, 2.0)  # of what has no filter's own dash
SAMPLE_PX, SHORT_SAMPLE_PX, WIDE_PX = 36, 21, 400  # of a line beside its name: a filter's dash comes again in it


@dataclass(frozen=True, slots=True, eq=False)
class Course:
    """x and y (n,), NaN where there is nothing; doubt (n,) on either side of y; dash: in widths of the pen; marked:
    points are drawn."""

    name: str
    colour: str
    x: FloatArray
    y: FloatArray
    doubt: FloatArray | None = None
    width: float = 2.0
    dash: tuple[float, ...] = ()
    marked: bool = False
    named: bool = True  # in the figure, where others have names too


class SmallPlot(PaintedFigure):
    """Axes follow what is shown; x may be logarithmic, or written by a function of its own (dates)."""

    def __init__(self, title: str) -> None:
        super().__init__(title)
        self._courses: tuple[Course, ...] = ()
        self._over = self._unit = self._says = ""
        self._log = False
        self._written: Callable[[float], str] = digits
        self._band: tuple[float, float] | None = None
        self.setMinimumSize(280, 170)

    def show_courses(
        self, title: str, courses: Sequence[Course], *, over: str, unit: str, log: bool = False, says: str = "",
        band: tuple[float, float] | None = None, written: Callable[[float], str] = digits,
    ) -> None:
        """over: what x is, with its unit; unit of y; band: a tolerance; says: stands under the title."""
        self.title, self._courses, self._over, self._unit = title, tuple(courses), over, unit
        self._log, self._says, self._band, self._written = log, says, band, written
        self.setAccessibleName(title)
        self.describe()

    def words(self) -> tuple[str, ...]:
        """Ends of each course."""
        lines = [self._says] if self._says else []
        for one in self._courses:
            known = np.isfinite(one.y)
            if known.any():
                first, last = one.y[known][0], one.y[known][-1]
                lines.append(f"{one.name}: {digits(float(first))} to {digits(float(last))} {self._unit}.")
        return tuple(lines)

    def rows(self) -> list[tuple[object, ...]]:
        """Every point."""
        found: list[tuple[object, ...]] = [("course", self._over, self._unit or "value", "uncertainty")]
        for one in self._courses:
            doubt = np.full(one.x.size, np.nan) if one.doubt is None else one.doubt
            found += [(one.name, *(float(value) for value in row)) for row in zip(one.x, one.y, doubt, strict=True)]
        return found if len(found) > 1 else []

    # Drawing

    def _spans(self) -> tuple[tuple[float, float], tuple[float, float]] | None:
        xs = [self._place(one.x[np.isfinite(one.y)]) for one in self._courses]
        ys = [one.y[np.isfinite(one.y)] for one in self._courses]
        if not sum(part.size for part in ys):
            return None
        x, y = np.concatenate(xs), np.concatenate(ys)
        more = [] if self._band is None else [edge for edge in self._band if np.isfinite(edge)]
        for one in self._courses:
            if one.doubt is not None:
                more += [*(one.y - one.doubt)[np.isfinite(one.y)], *(one.y + one.doubt)[np.isfinite(one.y)]]
        y = np.concatenate([y, np.asarray(more, dtype=float)])
        y = y[np.isfinite(y)]
        return _wider(float(x.min()), float(x.max()), 0.03), _wider(float(y.min()), float(y.max()), 0.1)

    def _place(self, x: FloatArray) -> FloatArray:
        return np.log10(np.maximum(x, 1e-12)) if self._log else np.asarray(x)

    def _area(self) -> QRectF:
        return QRectF(LEFT_PX, TOP_PX, max(self.width() - LEFT_PX - RIGHT_PX, 1.0),
                      max(self.height() - TOP_PX - FOOT_PX, 1.0))

    def paint(self, painter: QPainter) -> None:
        spans = self._spans()
        if spans is None:
            painter.drawText(QRectF(8, 22, self.width() - 16, self.height() - 30),
                             Qt.TextFlag.TextWordWrap | Qt.AlignmentFlag.AlignTop, self._says)
        else:
            room = QFontMetricsF(painter.font()).elidedText(self._says, Qt.TextElideMode.ElideRight, self.width() - 16)
            painter.drawText(QPointF(8, 32), room)
            self._paint_axes(painter, *spans)
            self._paint_courses(painter, *spans)

    def _paint_axes(self, painter: QPainter, xs: tuple[float, float], ys: tuple[float, float]) -> None:
        palette, area = THEME.palette, self._area()
        if self._band is not None:
            low, high = (_along(edge, ys, area.bottom(), area.top()) for edge in (
                max(self._band[0], ys[0]), min(self._band[1], ys[1])))
            painter.fillRect(QRectF(area.left(), high, area.width(), low - high), QColor(palette.chosen))
        metrics = QFontMetricsF(painter.font())
        ticks = _ticks(*ys, int(area.height() // 34))
        places = 0 if len(ticks) < 2 else max(-int(np.floor(np.log10(ticks[1] - ticks[0]) + 1e-9)), 0)
        for value in ticks:
            y = _along(value, ys, area.bottom(), area.top())
            painter.setPen(QPen(QColor(palette.rule), 1))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            painter.setPen(QColor(palette.quiet))
            painter.drawText(QRectF(0, y - 9, LEFT_PX - 6, 18),
                             Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                             f"{value + 0.0:.{places}f}".replace("-", "−"))
        last = -1e9
        for value in self._x_ticks(xs, area):
            x = _along(float(self._place(np.array([value]))[0]), xs, area.left(), area.right())
            painter.setPen(QPen(QColor(palette.rule), 1))
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
            text = in_thousands(value) if self._log and value >= 1000 else self._written(value)
            wide = metrics.horizontalAdvance(text)
            if x - wide / 2 > last and x + wide / 2 < self.width() - 2:
                painter.setPen(QColor(palette.quiet))
                painter.drawText(QPointF(x - wide / 2, area.bottom() + 14), text)
                last = x + wide / 2 + 6
        painter.setPen(QColor(palette.quiet))
        painter.drawText(QRectF(area.left(), area.bottom() + 16, area.width(), 18), Qt.AlignmentFlag.AlignRight,
                         self._over)
        painter.drawText(QRectF(0, area.top() - 20, LEFT_PX - 6, 18), Qt.AlignmentFlag.AlignRight, self._unit)

    def _x_ticks(self, xs: tuple[float, float], area: QRectF) -> list[float]:
        if self._written is not digits:  # what is written by a function of its own is written where it is
            return sorted({float(x) for one in self._courses for x in one.x[np.isfinite(one.y)]})
        if self._log:
            return [digit * 10.0**decade for decade in range(int(np.floor(xs[0])), int(np.ceil(xs[1])) + 1)
                    for digit in (1, 2, 5) if xs[0] <= np.log10(digit * 10.0**decade) <= xs[1]]
        return _ticks(*xs, int(area.width() // TICK_PX))

    def _paint_courses(self, painter: QPainter, xs: tuple[float, float], ys: tuple[float, float]) -> None:
        area = self._area()
        painter.save()
        painter.setClipRect(area.adjusted(-6, -6, 6, 6))
        for one in self._courses:
            painter.setPen(cosmetic(one.colour, one.width, dash=one.dash))
            points = [QPointF(_along(float(x), xs, area.left(), area.right()),
                              _along(float(y), ys, area.bottom(), area.top()))
                      for x, y in zip(self._place(one.x), one.y, strict=True) if np.isfinite(y)]
            painter.drawPolyline(QPolygonF(points))
            if one.doubt is not None:
                tall = [float(d) / (ys[1] - ys[0]) * area.height()
                        for d, y in zip(one.doubt, one.y, strict=True) if np.isfinite(y)]
                painter.setPen(QPen(QColor(one.colour), 1.4))
                for point, half in zip(points, tall, strict=True):
                    if half > 1:
                        painter.drawLine(point - QPointF(0, half), point + QPointF(0, half))
            if one.marked:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(QColor(one.colour))
                for point in points:
                    painter.drawEllipse(point, 3.5, 3.5)
                painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.restore()
        self._paint_names(painter, area)

    def _paint_names(self, painter: QPainter, area: QRectF) -> None:
        """What each is called, at the upper right."""
        if len(self._courses) < 2:
            return
        metrics = QFontMetricsF(painter.font())
        x, sample = area.right(), SAMPLE_PX if area.width() > WIDE_PX else SHORT_SAMPLE_PX
        for one in reversed([one for one in self._courses if one.named]):
            wide = metrics.horizontalAdvance(one.name)
            painter.setPen(QColor(THEME.palette.ink))
            painter.drawText(QPointF(x - wide, area.top() - 4), one.name)
            painter.setPen(cosmetic(one.colour, max(one.width, 2.0), dash=one.dash))
            painter.drawLine(QPointF(x - wide - 5 - sample, area.top() - 8), QPointF(x - wide - 5, area.top() - 8))
            x -= wide + sample + 19


def _along(value: float, span: tuple[float, float], start: float, stop: float) -> float:
    return start + (value - span[0]) / (span[1] - span[0]) * (stop - start)


def _wider(low: float, high: float, share: float) -> tuple[float, float]:
    more = (high - low) * share or max(abs(high) * 0.02, 1e-6)
    return low - more, high + more


def _ticks(low: float, high: float, most: int) -> list[float]:
    """Round values between two ends, no more than so many."""
    rough = (high - low) / max(most, 2)
    decade = 10.0 ** np.floor(np.log10(rough))
    step = next(step * decade for step in (1, 2, 5, 10) if step * decade >= rough)
    return [float(k * step) for k in range(int(np.ceil(low / step)), int(np.floor(high / step)) + 1)]
