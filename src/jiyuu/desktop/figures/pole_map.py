"""Poles and zeros in units of the cutoff, with the path the poles take as resonance is turned up."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QToolTip

from jiyuu.desktop.figures.painted import PaintedFigure
from jiyuu.desktop.theme.style import SMALL_PX, THEME
from jiyuu.prediction.response import PoleMap
from jiyuu.quantities import shown_hz

LINE_PX = 16  # a caption under the title


class PoleFigure(PaintedFigure):
    """The half plane right of the axis is where a filter oscillates by itself; it is drawn shaded."""

    def __init__(self, title: str) -> None:
        super().__init__(title)
        self.map: PoleMap | None = None
        self._colour = "#000000"
        self.setMouseTracking(True)
        self.setMinimumSize(160, 120)

    def show_map(self, pole_map: PoleMap, colour: str) -> None:
        self.map, self._colour = pole_map, colour
        self.describe()

    def words(self) -> tuple[str, ...]:
        """How many there are, and where each stands."""
        if self.map is None:
            return ()
        unstable = int((self.map.poles.real > 1e-9).sum())
        head = f"{self.map.poles.size} poles, {self.map.zeros.size} zeros, {unstable} poles right of the axis"
        return (head, *(self.reading_of(complex(p), "pole") for p in self.map.poles),
                *(self.reading_of(complex(z), "zero") for z in self.map.zeros))

    def _reach(self) -> float:
        """Half width of what is shown, in units of the cutoff."""
        assert self.map is not None
        near = np.abs(np.concatenate([self.map.poles, self.map.zeros, self.map.locus[-1]]))
        return float(np.clip(1.15 * near.max(initial=1.0), 1.5, 4.0))

    def _to_screen(self, value: complex) -> QPointF:
        reach = self._reach()
        scale = min((self.width() - 16) / (1.5 * reach), (self.height() - 16) / (2 * reach))
        middle = QPointF(self.width() * 0.66, self.height() / 2)
        return QPointF(middle.x() + value.real * scale, middle.y() - value.imag * scale)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        palette = THEME.palette
        painter.fillRect(self.rect(), QColor(palette.raised))
        if self.map is None:
            return
        axis, unit = self._to_screen(0j), self._to_screen(1 + 0j)
        shade = QColor(palette.attention)
        shade.setAlpha(22)
        painter.fillRect(QRectF(axis.x(), 0, self.width() - axis.x(), self.height()), shade)
        painter.setPen(QPen(QColor(palette.strong_rule), 1))
        painter.drawLine(QPointF(0, axis.y()), QPointF(self.width(), axis.y()))
        painter.drawLine(QPointF(axis.x(), 0), QPointF(axis.x(), self.height()))
        radius = unit.x() - axis.x()
        painter.setPen(QPen(QColor(palette.rule), 1, Qt.PenStyle.DashLine))
        painter.drawEllipse(axis, radius, radius)
        ink = QColor(self._colour)
        path = QColor(ink)
        path.setAlpha(110)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(path)
        for value in self.map.locus.ravel():
            painter.drawEllipse(self._to_screen(complex(value)), 1.1, 1.1)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(ink, 2))
        for value in self.map.poles:
            place = self._to_screen(complex(value))
            painter.drawLine(place + QPointF(-4, -4), place + QPointF(4, 4))
            painter.drawLine(place + QPointF(-4, 4), place + QPointF(4, -4))
        for value in self.map.zeros:
            painter.drawEllipse(self._to_screen(complex(value)), 4.5, 4.5)
        painter.setPen(QColor(palette.ink))
        painter.setFont(THEME.font(px=SMALL_PX, bold=True))
        painter.drawText(QPointF(6, 14), self.title)
        below = 14 + (LINE_PX if 6 + painter.fontMetrics().horizontalAdvance(self.title) > axis.x() else 0)
        painter.setPen(QColor(palette.quiet))
        painter.setFont(THEME.font(px=SMALL_PX))
        painter.drawText(QPointF(6, self.height() - 8), "× poles   ○ zeros   · path as resonance rises")
        painter.drawText(QPointF(axis.x() + 4, below), "oscillates")
        painter.drawText(QPointF(unit.x() + 3, axis.y() - 3), "fc")

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self.map is None:
            return
        marks = [*((p, "pole") for p in self.map.poles), *((z, "zero") for z in self.map.zeros)]
        for value, name in marks:
            away = self._to_screen(complex(value)) - event.position()
            if away.x() ** 2 + away.y() ** 2 < 64:
                QToolTip.showText(event.globalPosition().toPoint(), self.reading_of(complex(value), name), self)
                return
        QToolTip.hideText()

    def reading_of(self, value: complex, name: str) -> str:
        """What a mark says: its frequency, and Q where it is one of a pair."""
        assert self.map is not None
        text = f"{name} at {shown_hz(max(abs(value) * self.map.cutoff_hz, 1e-3))}"
        if abs(value.imag) > 1e-6 and abs(value.real) > 1e-9:
            text += f", Q {abs(value) / (2 * abs(value.real)):.3g}"
        return text + (", growing" if value.real > 1e-9 else "")

    def rows(self) -> list[tuple[object, ...]]:
        """Kind, real and imaginary part in units of the cutoff; the locus with its loop gain."""
        if self.map is None:
            return []
        rows: list[tuple[object, ...]] = [("kind", "loop_gain", "real", "imaginary")]
        rows += [("pole", "", p.real, p.imag) for p in self.map.poles]
        rows += [("zero", "", z.real, z.imag) for z in self.map.zeros]
        for gain, values in zip(self.map.gains, self.map.locus, strict=True):
            rows += [("locus", gain, p.real, p.imag) for p in values]
        return rows
