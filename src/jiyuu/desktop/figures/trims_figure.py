"""The trims of the board as rulers: where each stands, and where it is advised to go."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QFont, QFontMetrics, QPainter, QPaintEvent, QPen, QPolygonF

from jiyuu.circuits.trims import RANGES, Trim, Trims
from jiyuu.desktop.figures.painted import PaintedFigure
from jiyuu.desktop.theme.style import BODY_PX, SMALL_PX, STEP, THEME
from jiyuu.quantities import signed


class TrimsFigure(PaintedFigure):
    """One row a trim: its name, its travel in turns with where it stands, an arrow to where it should go."""

    def __init__(self) -> None:
        super().__init__("Trims")
        self._standing = Trims()
        self._advised: Mapping[Trim, float] = {}
        self._amounts: Mapping[Trim, float] = {}
        self._note = ""

    def show_trims(
        self, standing: Trims, advised: Mapping[Trim, float], amounts: Mapping[Trim, float], note: str
    ) -> None:
        """advised: turns each should be turned by; amounts: what that does, in the trim's unit."""
        self._standing, self._advised, self._amounts, self._note = standing, dict(advised), dict(amounts), note
        self.describe()
        self.update()

    def words(self) -> tuple[str, ...]:
        """What the rows say, in order, and the note."""
        return (*(self._row_text(trim) for trim in Trim), self._note)

    def rows(self) -> list[tuple[object, ...]]:
        return [("trim", "stands_at_turns", "turn_by_turns", "does", "unit"), *(
            (trim.value, self._standing[trim], self._advised.get(trim, 0.0), self._amounts.get(trim, 0.0),
             RANGES[trim].unit) for trim in Trim
        )]

    def minimumSizeHint(self) -> QSize:
        line = QFontMetrics(THEME.font(px=BODY_PX)).height()
        return QSize(220, 10 * line + 2 * STEP)

    def _row_text(self, trim: Trim) -> str:
        turns = self._advised.get(trim, 0.0)
        if not turns:
            return f"{RANGES[trim].title}: leave"
        hand = "clockwise" if turns > 0 else "anticlockwise"
        return f"{RANGES[trim].title}: {abs(turns):.2g} turns {hand}"

    def paintEvent(self, event: QPaintEvent | None) -> None:
        palette = THEME.palette
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), QColor(palette.raised))
        head, small = THEME.font(px=SMALL_PX, bold=True), THEME.font(px=SMALL_PX)
        painter.setFont(head)
        painter.setPen(QColor(palette.ink))
        line = QFontMetrics(head).height()
        painter.drawText(QPointF(6, line), "What to turn")
        painter.setFont(THEME.font(px=SMALL_PX))
        painter.setPen(QColor(palette.quiet))
        painter.drawText(QRectF(6, line + 2, self.width() - 12, 2.2 * line), int(Qt.TextFlag.TextWordWrap), self._note)
        lines = 2 if QFontMetrics(painter.font()).horizontalAdvance(self._note) > self.width() - 12 else 1
        top = (1.3 + lines) * line
        row = max((self.height() - top) / len(Trim), 1.9 * line)
        for i, trim in enumerate(Trim):
            self._draw_row(painter, trim, top + i * row, line, small)
        painter.end()

    def _draw_row(self, painter: QPainter, trim: Trim, y: float, line: int, small: QFont) -> None:
        palette, allowed = THEME.palette, RANGES[trim]
        turns = self._advised.get(trim, 0.0)
        painter.setFont(THEME.font(px=BODY_PX, bold=bool(turns)))
        painter.setPen(QColor(palette.ink if turns else palette.quiet))
        text = self._row_text(trim)
        painter.drawText(QPointF(6, y + 0.8 * line), text)
        if turns:
            metrics = QFontMetrics(THEME.font(px=BODY_PX, bold=True))
            painter.setFont(small)
            painter.setPen(QColor(palette.quiet))
            amount = f"{signed(self._amounts[trim], 2)} {allowed.unit.split(' of ')[0]}"
            at = 6 + metrics.horizontalAdvance(text) + 8
            if at + QFontMetrics(small).horizontalAdvance(amount) < self.width() - 4:
                painter.drawText(QPointF(at, y + 0.8 * line), amount)
        left, right, middle = 10.0, self.width() - 10.0, y + 1.42 * line
        span = allowed.most - allowed.least

        def x_of(value: float) -> float:
            return left + (value - allowed.least) / span * (right - left)

        painter.setPen(QPen(QColor(palette.strong_rule), 1))
        painter.drawLine(QPointF(left, middle), QPointF(right, middle))
        tick = 5.0
        for i in range(int(span / tick) + 1):
            x = x_of(allowed.least + i * tick)
            painter.drawLine(QPointF(x, middle - 3), QPointF(x, middle + 3))
        here, there = x_of(self._standing[trim]), x_of(self._standing[trim] + turns)
        painter.setPen(QPen(QColor(palette.ink), 2.4))
        painter.drawLine(QPointF(here, middle - 6), QPointF(here, middle + 6))
        if turns:
            painter.setPen(QPen(QColor(palette.ink), 1.6))
            painter.drawLine(QPointF(here, middle), QPointF(there, middle))
            way = 1 if there >= here else -1
            painter.setBrush(QColor(palette.ink))
            painter.drawPolygon(QPolygonF([QPointF(there, middle), QPointF(there - way * 7, middle - 4),
                                           QPointF(there - way * 7, middle + 4)]))
            painter.setBrush(Qt.BrushStyle.NoBrush)
