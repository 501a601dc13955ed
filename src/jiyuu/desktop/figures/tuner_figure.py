"""A tuner: note, hertz and cents of a tone large, its distance from a target on a ruler, and how to get there."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QFontMetrics, QPainter, QPaintEvent, QPen

from jiyuu.desktop.figures.painted import PaintedFigure
from jiyuu.desktop.theme.style import BODY_PX, SMALL_PX, THEME
from jiyuu.quantities import note_and_cents, shown_hz, signed

REACH_CENTS, TUNED_CENTS = 60.0, 2.0


@dataclass(frozen=True, slots=True)
class TunedTone:
    """A tone beside its target; lines: what there is to say, one sentence each. measured: or read from the drawing."""

    tone_hz: float
    target_hz: float
    cents: float
    concert_a_hz: float
    measured: bool
    lines: tuple[str, ...]


class TunerFigure(PaintedFigure):
    """Empty, with what to do, until there is a tone."""

    def __init__(self) -> None:
        super().__init__("Tuner")
        self._tone: TunedTone | None = None
        self._empty = ""

    def show_tone(self, tone: TunedTone | None, empty: str = "") -> None:
        self._tone, self._empty = tone, empty
        self.setAccessibleDescription(empty if tone is None else " ".join(self.words()))
        self.update()

    def words(self) -> tuple[str, ...]:
        """Everything it says, in order."""
        tone = self._tone
        if tone is None:
            return (self._empty,)
        note, cents = note_and_cents(tone.tone_hz, concert_a_hz=tone.concert_a_hz)
        return (note, f"{signed(cents)} cents", shown_hz(tone.tone_hz), *tone.lines)

    def rows(self) -> list[tuple[object, ...]]:
        head = ("tone_hz", "target_hz", "cents_off", "concert_a_hz", "measured")
        tone = self._tone
        if tone is None:
            return [head]
        return [head, (tone.tone_hz, tone.target_hz, tone.cents, tone.concert_a_hz, tone.measured)]

    def minimumSizeHint(self) -> QSize:
        return QSize(220, 9 * QFontMetrics(THEME.font(px=BODY_PX)).height())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        palette, painter = THEME.palette, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), QColor(palette.raised))
        head = THEME.font(px=SMALL_PX, bold=True)
        line = QFontMetrics(head).height()
        painter.setFont(head)
        painter.setPen(QColor(palette.ink))
        tone = self._tone
        source = "" if tone is None else ", measured" if tone.measured else ", predicted"
        painter.drawText(QPointF(6, line), f"Tuner{source}")
        if tone is None:
            painter.setFont(THEME.font(px=BODY_PX))
            painter.setPen(QColor(palette.quiet))
            painter.drawText(QRectF(6, 1.6 * line, self.width() - 12, 4.0 * line), int(Qt.TextFlag.TextWordWrap),
                             self._empty)
            painter.end()
            return
        note, cents, hertz, *lines = self.words()
        large = THEME.font(px=30, bold=True)
        painter.setFont(large)
        painter.drawText(QPointF(6, 1.3 * line + QFontMetrics(large).ascent()), note)
        at = 6 + QFontMetrics(large).horizontalAdvance(note) + 14
        number = THEME.font(px=15)
        painter.setFont(number)
        painter.drawText(QPointF(at, 1.3 * line + QFontMetrics(number).ascent()), cents)
        painter.drawText(QPointF(at, 1.3 * line + 2.1 * QFontMetrics(number).ascent() + 4), hertz)
        y = 1.3 * line + QFontMetrics(large).height() + 16
        self._draw_ruler(painter, tone, y)
        painter.setFont(THEME.font(px=BODY_PX))
        painter.setPen(QColor(palette.ink))
        painter.drawText(QRectF(6, y + 26, self.width() - 12, self.height() - y - 26), int(Qt.TextFlag.TextWordWrap),
                         "\n".join(lines))
        painter.end()

    def _draw_ruler(self, painter: QPainter, tone: TunedTone, y: float) -> None:
        palette = THEME.palette
        left, right = 14.0, self.width() - 14.0

        def x_of(cents: float) -> float:
            share = (min(max(cents, -REACH_CENTS), REACH_CENTS) + REACH_CENTS) / (2 * REACH_CENTS)
            return left + share * (right - left)

        painter.setPen(QPen(QColor(palette.strong_rule), 1))
        painter.drawLine(QPointF(left, y), QPointF(right, y))
        painter.setFont(THEME.font(px=SMALL_PX))
        for cents in range(-50, 51, 10):
            strong = cents % 50 == 0
            painter.setPen(QPen(QColor(palette.quiet if strong else palette.strong_rule), 1))
            half = 6 if strong else 3
            painter.drawLine(QPointF(x_of(cents), y - half), QPointF(x_of(cents), y + half))
            if strong:
                text = signed(cents, 0) if cents else shown_hz(tone.target_hz)
                width = QFontMetrics(painter.font()).horizontalAdvance(text)
                painter.setPen(QColor(palette.quiet))
                painter.drawText(QPointF(x_of(cents) - width / 2, y + 19), text)
        inside = abs(tone.cents) <= TUNED_CENTS
        painter.setPen(QPen(QColor(palette.ink if inside else palette.attention), 3))
        here = x_of(tone.cents)
        painter.drawLine(QPointF(here, y - 9), QPointF(here, y + 9))
