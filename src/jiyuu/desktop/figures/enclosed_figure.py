"""A picture or a recording that lies in the logbook: the picture itself, the outline of the sound."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter, QPen

from jiyuu.desktop.figures.painted import PaintedFigure
from jiyuu.desktop.theme.style import THEME
from jiyuu.signals.envelope import Envelope

TOP_PX, MARGIN_PX = 24.0, 8.0


class EnclosedFigure(PaintedFigure):
    """Nothing is altered by being looked at."""

    def __init__(self) -> None:
        super().__init__("Enclosed")
        self._image: QImage | None = None
        self._sound: Envelope | None = None
        self._says = ""

    def show_picture(self, name: str, image: QImage) -> None:
        """As it is, no larger than it is."""
        self._show(name, image, None, f"{image.width()} × {image.height()} points." if not image.isNull() else
                   "This picture cannot be read.")

    def show_sound(self, name: str, sound: Envelope) -> None:
        """Its outline over time."""
        channels = "mono" if sound.channels == 1 else f"{sound.channels} channels"
        self._show(name, None, sound, f"{sound.seconds:.2f} s, {sound.sample_rate_hz} Hz, {channels}, peak "
                                      f"{100 * max(abs(sound.lowest.min()), sound.highest.max()):.1f} % of full scale.")

    def show_nothing(self, name: str, why: str) -> None:
        """Why nothing is seen."""
        self._show(name, None, None, why)

    def _show(self, name: str, image: QImage | None, sound: Envelope | None, says: str) -> None:
        self.title, self._image, self._sound, self._says = name, image, sound, says
        self.setAccessibleName(name)
        self.describe()

    def words(self) -> tuple[str, ...]:
        """What it is."""
        return (f"{self.title}: {self._says}",)

    def rows(self) -> list[tuple[object, ...]]:
        """The outline of a sound; of a picture nothing."""
        if self._sound is None:
            return []
        sound = self._sound
        return [("seconds", "lowest", "highest"),
                *zip(sound.begins_s.tolist(), sound.lowest.tolist(), sound.highest.tolist(), strict=True)]

    def paint(self, painter: QPainter) -> None:
        room = QRectF(MARGIN_PX, TOP_PX + 14, self.width() - 2 * MARGIN_PX, self.height() - TOP_PX - 14 - MARGIN_PX)
        painter.drawText(QPointF(7, TOP_PX + 6), self._says)
        if self._image is not None and not self._image.isNull():
            size = self._image.size().toSizeF()
            scale = min(room.width() / size.width(), room.height() / size.height(), 1.0)
            size *= max(scale, 0.0)
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(QRectF(room.left() + (room.width() - size.width()) / 2, room.top(), size.width(),
                                     size.height()), self._image)
        elif self._sound is not None:
            self._paint_sound(painter, room, self._sound)

    @staticmethod
    def _paint_sound(painter: QPainter, room: QRectF, sound: Envelope) -> None:
        painter.drawText(QRectF(room.left(), room.bottom() - 14, 80, 16), Qt.AlignmentFlag.AlignLeft, "0 s")
        painter.drawText(QRectF(room.right() - 80, room.bottom() - 14, 80, 16), Qt.AlignmentFlag.AlignRight,
                         f"{sound.seconds:.3g} s")
        room = room.adjusted(0, 0, 0, -18)
        middle, half = room.center().y(), room.height() / 2
        top = max(abs(sound.lowest.min()), sound.highest.max(), 1e-9)
        painter.setPen(QPen(QColor(THEME.palette.rule), 1))
        painter.drawLine(QPointF(room.left(), middle), QPointF(room.right(), middle))
        wide = max(room.width() / sound.lowest.size, 1.0)
        painter.setPen(QPen(QColor(THEME.palette.ink), wide, Qt.PenStyle.SolidLine, Qt.PenCapStyle.FlatCap))
        for i, (low, high) in enumerate(zip(sound.lowest, sound.highest, strict=True)):
            x = room.left() + room.width() * (i + 0.5) / sound.lowest.size
            painter.drawLine(QPointF(x, middle - half * low / top + 0.5), QPointF(x, middle - half * high / top - 0.5))
