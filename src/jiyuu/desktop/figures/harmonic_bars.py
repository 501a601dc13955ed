"""Harmonics of a tone at one level as strokes, each with its number and its level."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QFontMetrics, QPainter, QPaintEvent

from jiyuu.arrays import FloatArray
from jiyuu.desktop.figures.painted import PaintedFigure
from jiyuu.desktop.theme.style import SMALL_PX, STEP, THEME
from jiyuu.quantities import signed

FLOOR_DB = -100.0
SHOWN = 10  # as many as have room, from the second on


class HarmonicBars(PaintedFigure):
    """The longer the stroke the louder; the length is in dB re the first harmonic."""

    def __init__(self) -> None:
        super().__init__("Harmonics at the level")
        self._levels: FloatArray | None = None
        self._at = ""
        self.setMinimumWidth(24 * STEP)

    def sizeHint(self) -> QSize:
        return QSize(30 * STEP, 40 * STEP)

    def show_bars(self, harmonics_db: FloatArray | None, at: str) -> None:
        """harmonics_db (20,) re the first; at: the level in words; None where there is nothing to show."""
        self._levels, self._at = harmonics_db, at
        self.describe()

    def words(self) -> tuple[str, ...]:
        if self._levels is None:
            return ("No harmonics to show.",)
        each = (f"{i + 1}: {self._text(float(self._levels[i]))} dB" for i in range(1, SHOWN))
        return (f"Harmonics {self._at}", *each)

    def rows(self) -> list[tuple[object, ...]]:
        if self._levels is None:
            return []
        return [("harmonic", "level_db"), *((i + 1, float(level)) for i, level in enumerate(self._levels))]

    @staticmethod
    def _text(level_db: float) -> str:
        return signed(level_db, 0) if level_db > FLOOR_DB else "—"

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter, palette = QPainter(self), THEME.palette
        painter.fillRect(self.rect(), QColor(palette.raised))
        font, bold = THEME.font(px=SMALL_PX), THEME.font(px=SMALL_PX, bold=True)
        metrics = QFontMetrics(font)
        line = metrics.height()
        painter.setFont(bold)
        painter.setPen(QColor(palette.ink))
        head = QRectF(STEP, 2, self.width() - 2 * STEP, 2 * line)
        title = "Harmonics, dB" if self._levels is None else f"Harmonics {self._at}, dB"
        painter.drawText(head, int(Qt.TextFlag.TextWordWrap), title)
        if self._levels is None:
            return
        painter.setFont(font)
        number, value = metrics.horizontalAdvance("20 "), metrics.horizontalAdvance("−100")
        top = 2 * line + 2 * STEP
        count = min(SHOWN, max(int((self.height() - top) // (line + 2)), 1))
        room = max(self.width() - number - value - 4 * STEP, 10)
        for i in range(1, count):
            level = float(self._levels[i])
            y = top + (i - 1) * (line + 2)
            painter.setPen(QColor(palette.quiet))
            painter.drawText(QRectF(STEP, y, number, line), int(Qt.AlignmentFlag.AlignRight), f"{i + 1}")
            long = room * max(level - FLOOR_DB, 0.0) / -FLOOR_DB
            painter.fillRect(QRectF(number + 2 * STEP, y + 0.25 * line, long, 0.5 * line),
                             QColor(palette.ink if i % 2 == 0 else palette.quiet))
            painter.setPen(QColor(palette.ink))
            painter.drawText(QRectF(self.width() - value - STEP, y, value, line), int(Qt.AlignmentFlag.AlignRight),
                             self._text(level))
