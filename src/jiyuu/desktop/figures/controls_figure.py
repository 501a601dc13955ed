"""What moves, each control as its own small curve over the same time, with its value at the moment looked at."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QFontMetrics, QPainter, QPaintEvent, QPen, QPolygonF

from jiyuu.arrays import FloatArray
from jiyuu.desktop.figures.painted import PaintedFigure
from jiyuu.desktop.theme.style import SMALL_PX, STEP, THEME

POINTS = 500


class ControlsFigure(PaintedFigure):
    """A lane a control, from its least to its greatest value."""

    def __init__(self) -> None:
        super().__init__("Controls")
        self._times: FloatArray = np.zeros(0)
        self._curves: dict[str, FloatArray] = {}
        self._moment = 0.0
        self.setMinimumHeight(20 * STEP)

    def sizeHint(self) -> QSize:
        return QSize(380, 60 * STEP)

    def show_controls(self, times_s: FloatArray, curves: dict[str, FloatArray]) -> None:
        self._times, self._curves = times_s, curves
        self.describe()

    def show_moment(self, time_s: float) -> None:
        self._moment = time_s
        self.update()

    def words(self) -> tuple[str, ...]:
        if not self._curves:
            return ("Nothing moves.",)
        return tuple(f"{name}: {curve.min():.3g} to {curve.max():.3g}." for name, curve in self._curves.items())

    def rows(self) -> list[tuple[object, ...]]:
        if not self._curves:
            return []
        return [("time_s", *self._curves), *zip(self._times.tolist(), *(c.tolist() for c in self._curves.values()),
                                               strict=True)]

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter, palette = QPainter(self), THEME.palette
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), QColor(palette.raised))
        painter.setFont(THEME.font(px=SMALL_PX, bold=True))
        metrics = QFontMetrics(painter.font())
        line = metrics.height()
        painter.setPen(QColor(palette.ink))
        painter.drawText(QPointF(STEP, line), "Controls over the same time")
        if not self._curves:
            painter.setPen(QColor(palette.quiet))
            painter.setFont(THEME.font(px=SMALL_PX))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
                             "Nothing moves yet. Choose a starting point under Moves.")
            return
        painter.setFont(THEME.font(px=SMALL_PX))
        names = max(metrics.horizontalAdvance(name) for name in self._curves) + 3 * STEP
        left = min(float(names), 0.3 * self.width())
        right = self.width() - metrics.horizontalAdvance("−0.000") - 3 * STEP
        top = line + 2 * STEP
        tall = (self.height() - top - STEP) / len(self._curves)
        thin = slice(None, None, max(self._times.size // POINTS, 1))
        seconds = float(self._times[-1]) if self._times.size else 1.0
        x = left + (right - left) * self._times[thin] / seconds
        at = left + (right - left) * min(self._moment / seconds, 1.0)
        for i, (name, curve) in enumerate(self._curves.items()):
            y0 = top + i * tall
            low, high = float(curve.min()), float(curve.max())
            span = max(high - low, 1e-9)
            y = y0 + tall - 4 - (tall - 8) * (curve[thin] - low) / span
            painter.setPen(QPen(QColor(palette.rule), 1))
            painter.drawLine(QPointF(left, y0 + tall), QPointF(right, y0 + tall))
            painter.setPen(QColor(palette.ink))
            painter.drawText(QRectF(STEP, y0, left - 2 * STEP, tall), Qt.AlignmentFlag.AlignVCenter,
                             metrics.elidedText(name, Qt.TextElideMode.ElideRight, int(left - 2 * STEP)))
            painter.setPen(QPen(QColor(palette.ink), 1.4))
            painter.drawPolyline(QPolygonF([QPointF(float(a), float(b)) for a, b in zip(x, y, strict=True)]))
            value = float(np.interp(self._moment, self._times, curve))
            painter.drawText(QRectF(right + STEP, y0, self.width() - right - 2 * STEP, tall),
                             Qt.AlignmentFlag.AlignVCenter, f"{value:.2f}".replace("-", "−"))
        painter.setPen(QPen(QColor(palette.ink), 1, Qt.PenStyle.DashDotLine))
        painter.drawLine(QPointF(at, top), QPointF(at, self.height() - STEP))
