"""Why two filters differ: for each quantity one ruled length divided by causes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QPainter, QPen

from jiyuu.desktop.figures.painted import PaintedFigure
from jiyuu.desktop.theme.style import SMALL_PX, THEME
from jiyuu.wording.numbers import signed_digits

NAME_PX, VALUE_PX, TOP_PX, FOOT_PX = 140.0, 120.0, 26.0, 4.0
TALLEST_PX = 56.0


@dataclass(frozen=True, slots=True)
class Divided:
    """A quantity's difference and its shares by cause, largest first; signed, in its unit."""

    title: str
    unit: str
    difference: float
    shares: tuple[tuple[str, float], ...]


class WhyFigure(PaintedFigure):
    """What adds to the difference lies along the rule, what takes from it goes back under it."""

    def __init__(self) -> None:
        super().__init__("Why they differ")
        self._rows: tuple[Divided, ...] = ()
        self._says = ""
        self.setMinimumSize(420, 300)

    def show_rows(self, rows: Sequence[Divided], says: str = "") -> None:
        """says: stands there where there are none, or beside the title."""
        self._rows, self._says = tuple(rows), says
        self.describe()

    def words(self) -> tuple[str, ...]:
        """A line for every quantity."""
        lines = [f"{row.title} {signed_digits(row.difference)} {row.unit}: " + ", ".join(
            f"{signed_digits(share)} by {cause}" for cause, share in row.shares) + "." for row in self._rows]
        return tuple([self._says, *lines] if self._says else lines)

    def rows(self) -> list[tuple[object, ...]]:
        """Quantities by causes."""
        found: list[tuple[object, ...]] = [("quantity", "unit", "difference", "cause", "share")]
        found += [(row.title, row.unit, row.difference, cause, share)
                  for row in self._rows for cause, share in row.shares]
        return found if len(found) > 1 else []

    def paint(self, painter: QPainter) -> None:
        start = QFontMetricsF(THEME.font(px=SMALL_PX, bold=True)).horizontalAdvance(self.title) + 18
        painter.drawText(QPointF(start, 15), self._says)
        if self._rows:
            height = min((self.height() - TOP_PX - FOOT_PX) / len(self._rows), TALLEST_PX)
            for i, row in enumerate(self._rows):
                self._paint_row(painter, row, TOP_PX + (i + 0.5) * height, height)

    def _paint_row(self, painter: QPainter, row: Divided, y: float, height: float) -> None:
        palette = THEME.palette
        left, right = NAME_PX, self.width() - VALUE_PX
        painter.setPen(QColor(palette.ink))
        painter.drawText(QRectF(6, y - 9, NAME_PX - 10, 18), Qt.AlignmentFlag.AlignVCenter, row.title)
        painter.drawText(QRectF(right + 10, y - 9, VALUE_PX - 14, 18), Qt.AlignmentFlag.AlignVCenter,
                         f"{signed_digits(row.difference)} {row.unit}")
        sign = 1.0 if row.difference >= 0 else -1.0
        along = [(cause, sign * share) for cause, share in row.shares if sign * share > 0]
        back = [(cause, sign * share) for cause, share in row.shares if sign * share < 0]
        whole = sum(share for _, share in along)
        if not whole > 0:
            return
        scale = (right - left) / whole
        x = left
        for k, (cause, share) in enumerate(along):
            self._piece(painter, cause, x, x + share * scale, y - 0.12 * height, 0.44 * height, k, back=False)
            x += share * scale
        for k, (cause, share) in enumerate(back):  # what takes from it leads back to the difference that is left
            self._piece(painter, cause, x + share * scale, x, y + 0.28 * height, 0.36 * height, k, back=True)
            x += share * scale
        painter.setPen(QPen(QColor(palette.ink), 2))
        painter.drawLine(QPointF(x, y - 0.42 * height), QPointF(x, y + 0.46 * height))

    @staticmethod
    def _piece(
        painter: QPainter, cause: str, x0: float, x1: float, y: float, tall: float, k: int, *, back: bool
    ) -> None:
        palette = THEME.palette
        area = QRectF(x0, y - tall / 2, x1 - x0, tall)
        painter.setPen(QPen(QColor(palette.ink), 1))
        painter.setBrush(QColor(palette.ground if back or k % 2 else palette.chosen))
        painter.drawRect(area)
        metrics = QFontMetricsF(painter.font())
        if metrics.horizontalAdvance(cause) < area.width() - 6 and tall > metrics.ascent():
            painter.setPen(QColor(palette.ink))
            painter.drawText(area, Qt.AlignmentFlag.AlignCenter, cause)
