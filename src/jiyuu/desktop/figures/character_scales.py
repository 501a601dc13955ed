"""Character as a column of measured scales: ends named, letters standing where they measure, what is just noticed as
the ticks."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QPainter, QPen

from jiyuu.desktop.figures.painted import PaintedFigure
from jiyuu.desktop.theme.style import SMALL_PX, THEME
from jiyuu.wording.numbers import ends_text

NAME_PX, END_PX, VALUE_PX, TOP_PX = 132.0, 104.0, 96.0, 22.0
LEAST_NOTICED = 4.0  # just-noticeable differences that a scale spans at least
MOST_TICKS = 60
DOT_PX = 3.0  # half of one
APART_PX = 11.0  # letters of one scale stand no closer


@dataclass(frozen=True, slots=True)
class Mark:
    """A letter on a scale; value None where it has none. measured: of the unit, beside what its drawing says."""

    letter: str
    colour: str
    value: float | None
    uncertainty: float
    measured: float | None = None
    measured_doubt: float = 0.0


@dataclass(frozen=True, slots=True)
class ScaleRow:
    """One quantity. jnd: the spacing of its ticks, None without any."""

    title: str
    unit: str
    low: str
    high: str
    jnd: float | None
    marks: tuple[Mark, ...]


class CharacterScales(PaintedFigure):
    """Rows share their height; what has no value is named at the right."""

    def __init__(self) -> None:
        super().__init__("Character: letters as drawn, dots as measured; a tick for every difference that is noticed")
        self._rows: tuple[ScaleRow, ...] = ()
        self.setMinimumSize(420, 300)

    def show_rows(self, rows: Sequence[ScaleRow]) -> None:
        self._rows = tuple(rows)
        self.describe()

    def words(self) -> tuple[str, ...]:
        """One line a quantity, lowest first."""
        lines = []
        for row in self._rows:
            known = sorted((mark for mark in row.marks if mark.value is not None), key=lambda mark: mark.value or 0.0)
            if known:
                lines.append(f"{row.title}, {row.low} to {row.high}: " + ", ".join(
                    f"{mark.letter} {_number(mark.value)}" + (
                        "" if mark.measured is None else f" (measured {_number(mark.measured)})")
                    for mark in known) + f" {row.unit}.")
        return tuple(lines)

    def rows(self) -> list[tuple[object, ...]]:
        """Quantities by letters."""
        found: list[tuple[object, ...]] = [
            ("quantity", "unit", "letter", "value", "uncertainty", "jnd", "measured", "measured_uncertainty")]
        found += [(row.title, row.unit, mark.letter, mark.value, mark.uncertainty, row.jnd, mark.measured,
                   None if mark.measured is None else mark.measured_doubt) for row in self._rows for mark in row.marks]
        return found if len(found) > 1 else []

    # Drawing

    def span_of(self, row: ScaleRow) -> tuple[float, float] | None:
        """Ends of a scale in its unit; None where nothing stands on it."""
        known = [value for mark in row.marks for value in (mark.value, mark.measured) if value is not None]
        if not known:
            return None
        low, high = min(known), max(known)
        wanted = max((high - low) * 1.15, LEAST_NOTICED * (row.jnd or 0.0), 1e-6 + 0.1 * abs(high))
        middle = (low + high) / 2
        return middle - wanted / 2, middle + wanted / 2

    def x_of(self, row: ScaleRow, value: float) -> float:
        """Of a value on its scale."""
        span = self.span_of(row)
        left, right = NAME_PX + END_PX, self.width() - END_PX - VALUE_PX
        if span is None:
            return left
        return left + (value - span[0]) / (span[1] - span[0]) * (right - left)

    def paint(self, painter: QPainter) -> None:
        if self._rows:
            height = (self.height() - TOP_PX - 4) / len(self._rows)
            for i, row in enumerate(self._rows):
                self._paint_row(painter, row, TOP_PX + (i + 0.62) * height)

    def _paint_row(self, painter: QPainter, row: ScaleRow, y: float) -> None:
        palette = THEME.palette
        left, right = NAME_PX + END_PX, self.width() - END_PX - VALUE_PX
        painter.setFont(THEME.font(px=SMALL_PX))
        painter.setPen(QColor(palette.ink))
        painter.drawText(QRectF(6, y - 9, NAME_PX - 6, 18), Qt.AlignmentFlag.AlignVCenter, row.title)
        painter.setPen(QColor(palette.quiet))
        painter.drawText(QRectF(NAME_PX, y - 9, END_PX - 8, 18),
                         Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, row.low)
        painter.drawText(QRectF(right + 8, y - 9, END_PX - 8, 18), Qt.AlignmentFlag.AlignVCenter, row.high)
        painter.setPen(QPen(QColor(palette.strong_rule), 1))
        painter.drawLine(QPointF(left, y), QPointF(right, y))
        span = self.span_of(row)
        if span is None:
            return
        if row.jnd and (span[1] - span[0]) / row.jnd <= MOST_TICKS:
            first = int(span[0] / row.jnd) - 1
            for k in range(first, first + MOST_TICKS + 3):
                value = k * row.jnd
                if span[0] <= value <= span[1]:
                    x = self.x_of(row, value)
                    painter.drawLine(QPointF(x, y - 3), QPointF(x, y + 3))
        self._paint_marks(painter, row, y)
        none = [mark.letter for mark in row.marks if mark.value is None]
        known = [mark.value for mark in row.marks if mark.value is not None]
        ends = _number(min(known)) if min(known) == max(known) else ends_text(min(known), max(known))
        painter.setFont(THEME.font(px=SMALL_PX))
        painter.setPen(QColor(palette.quiet))
        missing = f"  ({', '.join(none)} –)" if none else ""
        painter.drawText(QRectF(self.width() - VALUE_PX - 34, y - 9, VALUE_PX + 28, 18),
                         Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, f"{ends} {row.unit}{missing}")

    def _paint_marks(self, painter: QPainter, row: ScaleRow, y: float) -> None:
        painter.setFont(THEME.font(px=SMALL_PX + 2, bold=True))
        metrics = QFontMetricsF(painter.font())
        known = sorted((one for one in row.marks if one.value is not None),
                       key=lambda one: (one.value or 0.0, one.letter))
        places = [self.x_of(row, mark.value or 0.0) for mark in known]
        for mark, x, written in zip(known, places, dodged(places, APART_PX), strict=True):
            assert mark.value is not None
            ink = QColor(mark.colour)
            painter.setPen(QPen(ink, 2))
            wide = abs(self.x_of(row, mark.value + mark.uncertainty) - x)
            if wide > 2:
                painter.drawLine(QPointF(x - wide, y), QPointF(x + wide, y))
            painter.drawLine(QPointF(x, y - 4), QPointF(x, y + 4))
            if abs(written - x) > 1:
                painter.setPen(QPen(ink, 1))
                painter.drawLine(QPointF(x, y - 4), QPointF(written, y - 6))
            painter.drawText(QPointF(written - metrics.horizontalAdvance(mark.letter) / 2, y - 7), mark.letter)
        for mark in row.marks:
            if mark.measured is not None:
                self._paint_measured(painter, row, mark, mark.measured, y)

    def _paint_measured(self, painter: QPainter, row: ScaleRow, mark: Mark, value: float, y: float) -> None:
        x, ink = self.x_of(row, value), QColor(mark.colour)
        wide = abs(self.x_of(row, value + mark.measured_doubt) - x)
        painter.setPen(QPen(ink, 2))
        if wide > DOT_PX:
            painter.drawLine(QPointF(x - wide, y), QPointF(x + wide, y))
        painter.setBrush(ink)
        painter.drawEllipse(QPointF(x, y), DOT_PX, DOT_PX)
        painter.setBrush(Qt.BrushStyle.NoBrush)


def dodged(places: Sequence[float], apart: float) -> list[float]:
    """Rising places moved so that neighbours stand at least that far apart, groups staying about their middles."""
    groups: list[list[float]] = []  # [middle, count]
    for x in places:
        groups.append([x, 1.0])
        while len(groups) > 1:
            (left, many), (right, more) = groups[-2:]
            if right - left >= apart * (many + more) / 2:
                break
            groups[-2:] = [[(left * many + right * more) / (many + more), many + more]]
    found = []
    for middle, count in groups:
        found += [middle + apart * (k - (count - 1) / 2) for k in range(int(count))]
    return found


def _number(value: float | None) -> str:
    if value is None:
        return "–"
    shown = 0.0 if abs(value) < 5e-4 else value
    return f"{shown:.0f}" if abs(shown) >= 100 else f"{shown:.3g}".replace("-", "−")
