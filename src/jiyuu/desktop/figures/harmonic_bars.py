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
        self._beside_db: FloatArray | None = None
        self._at = self._beside = ""
        self.setMinimumWidth(24 * STEP)

    def sizeHint(self) -> QSize:
        return QSize(30 * STEP, 40 * STEP)

    def show_bars(
        self, harmonics_db: FloatArray | None, at: str, *, beside_db: FloatArray | None = None, beside: str = ""
    ) -> None:
        """harmonics_db (20,) re the first; at: the level in words; None where there is nothing to show. beside_db: of
        another way to make as much distortion, drawn hollow, with its name."""
        self._levels, self._at = harmonics_db, at
        self._beside_db, self._beside = (None, "") if harmonics_db is None else (beside_db, beside)
        self.describe()

    def words(self) -> tuple[str, ...]:
        if self._levels is None:
            return ("No harmonics to show.",)
        each = (f"{i + 1}: {self._text(float(self._levels[i]))} dB" for i in range(1, SHOWN))
        if self._beside_db is None:
            return (f"Harmonics {self._at}", *each)
        other = (f"{i + 1}: {self._text(float(self._beside_db[i]))} dB" for i in range(1, SHOWN))
        return (f"Harmonics {self._at}", *each, f"Hollow: {self._beside}", *other)

    def rows(self) -> list[tuple[object, ...]]:
        if self._levels is None:
            return []
        columns = [self._levels, *([] if self._beside_db is None else [self._beside_db])]
        names = ("harmonic", "level_db", "behind_level_db")[: 1 + len(columns)]
        return [names, *((i + 1, *map(float, row)) for i, row in enumerate(zip(*columns, strict=True)))]

    @staticmethod
    def _long(level_db: float, room: float) -> float:
        return room * max(level_db - FLOOR_DB, 0.0) / -FLOOR_DB

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
        wrapped = int(Qt.TextFlag.TextWordWrap)
        below = painter.boundingRect(head, wrapped, title).bottom()
        painter.drawText(head, wrapped, title)
        if self._levels is None:
            return
        painter.setFont(font)
        if self._beside_db is not None:
            painter.setPen(QColor(palette.quiet))
            painter.drawText(QRectF(STEP, below, self.width() - 2 * STEP, line), int(Qt.AlignmentFlag.AlignLeft),
                             metrics.elidedText(f"hollow: {self._beside}", Qt.TextElideMode.ElideRight,
                                                self.width() - 2 * STEP))
        number, value = metrics.horizontalAdvance("20 "), metrics.horizontalAdvance("−100")
        top = below + line + 2 * STEP - 2
        count = min(SHOWN, max(int((self.height() - top) // (line + 2)), 1))
        room = max(self.width() - number - value - 4 * STEP, 10)
        for i in range(1, count):
            level = float(self._levels[i])
            y = top + (i - 1) * (line + 2)
            painter.setPen(QColor(palette.quiet))
            painter.drawText(QRectF(STEP, y, number, line), int(Qt.AlignmentFlag.AlignRight), f"{i + 1}")
            lies = 0.25 if self._beside_db is None else 0.1
            painter.fillRect(QRectF(number + 2 * STEP, y + lies * line, self._long(level, room), 0.5 * line),
                             QColor(palette.ink if i % 2 == 0 else palette.quiet))
            if self._beside_db is not None and self._beside_db[i] > FLOOR_DB:
                painter.drawRect(QRectF(number + 2 * STEP, y + 0.65 * line, self._long(float(self._beside_db[i]), room),
                                        0.25 * line))
            painter.setPen(QColor(palette.ink))
            painter.drawText(QRectF(self.width() - value - STEP, y, value, line), int(Qt.AlignmentFlag.AlignRight),
                             self._text(level))
