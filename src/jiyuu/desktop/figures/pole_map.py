"""Poles and zeros in units of the cutoff, with the path the poles take as resonance is turned up."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QToolTip, QWidget

from jiyuu.desktop.theme.style import SMALL_PX, THEME
from jiyuu.quantities import shown_hz
from jiyuu.whole_file import write_text

ComplexArray = NDArray[np.complex128]


@dataclass(frozen=True, slots=True, eq=False)
class PoleMap:
    """poles (n,), zeros (z,), locus (steps, n) in units of the cutoff's angular rate; gains (steps,) of the locus."""

    poles: ComplexArray
    zeros: ComplexArray
    locus: ComplexArray
    gains: NDArray[np.float64]
    cutoff_hz: float


class PoleFigure(QWidget):
    """The half plane right of the axis is where a filter oscillates by itself; it is drawn shaded."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self._title = title
        self._map: PoleMap | None = None
        self._colour = "#000000"
        self.setMouseTracking(True)
        self.setMinimumSize(160, 120)
        self.setAccessibleName(title)

    def show_map(self, pole_map: PoleMap, colour: str) -> None:
        self._map, self._colour = pole_map, colour
        unstable = int((pole_map.poles.real > 1e-9).sum())
        words = f"{pole_map.poles.size} poles, {pole_map.zeros.size} zeros, {unstable} poles right of the axis"
        self.setAccessibleDescription(words)
        self.update()

    def _reach(self) -> float:
        """Half width of what is shown, in units of the cutoff."""
        assert self._map is not None
        near = np.abs(np.concatenate([self._map.poles, self._map.zeros, self._map.locus[-1]]))
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
        if self._map is None:
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
        for value in self._map.locus.ravel():
            painter.drawEllipse(self._to_screen(complex(value)), 1.1, 1.1)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(ink, 2))
        for value in self._map.poles:
            place = self._to_screen(complex(value))
            painter.drawLine(place + QPointF(-4, -4), place + QPointF(4, 4))
            painter.drawLine(place + QPointF(-4, 4), place + QPointF(4, -4))
        for value in self._map.zeros:
            painter.drawEllipse(self._to_screen(complex(value)), 4.5, 4.5)
        painter.setPen(QColor(palette.ink))
        painter.setFont(THEME.font(px=SMALL_PX, bold=True))
        painter.drawText(QPointF(6, 14), self._title)
        painter.setPen(QColor(palette.quiet))
        painter.setFont(THEME.font(px=SMALL_PX))
        painter.drawText(QPointF(6, self.height() - 8), "× poles   ○ zeros   · path as resonance rises")
        painter.drawText(QPointF(axis.x() + 4, 14), "oscillates")
        painter.drawText(QPointF(unit.x() + 3, axis.y() - 3), "fc")

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._map is None:
            return
        marks = [*((p, "pole") for p in self._map.poles), *((z, "zero") for z in self._map.zeros)]
        for value, name in marks:
            away = self._to_screen(complex(value)) - event.position()
            if away.x() ** 2 + away.y() ** 2 < 64:
                QToolTip.showText(event.globalPosition().toPoint(), self.reading_of(complex(value), name), self)
                return
        QToolTip.hideText()

    def reading_of(self, value: complex, name: str) -> str:
        """What a mark says: its frequency, and Q where it is one of a pair."""
        assert self._map is not None
        text = f"{name} at {shown_hz(max(abs(value) * self._map.cutoff_hz, 1e-3))}"
        if abs(value.imag) > 1e-6 and abs(value.real) > 1e-9:
            text += f", Q {abs(value) / (2 * abs(value.real)):.3g}"
        return text + (", growing" if value.real > 1e-9 else "")

    def as_csv(self) -> str:
        """Kind, real and imaginary part in units of the cutoff; the locus with its loop gain."""
        assert self._map is not None
        rows = ["kind,loop_gain,real,imaginary"]
        rows += [f"pole,,{p.real:.9g},{p.imag:.9g}" for p in self._map.poles]
        rows += [f"zero,,{z.real:.9g},{z.imag:.9g}" for z in self._map.zeros]
        for gain, values in zip(self._map.gains, self._map.locus, strict=True):
            rows += [f"locus,{gain:.9g},{p.real:.9g},{p.imag:.9g}" for p in values]
        return "\n".join(rows) + "\n"

    def save_csv(self, path: Path) -> None:
        write_text(path, self.as_csv())
