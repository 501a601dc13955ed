"""First formant across, second upwards, with vowels by name: where a pair of vowels and a place between them lies."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen

from jiyuu.desktop.figures.painted import PaintedFigure
from jiyuu.desktop.theme.style import SMALL_PX, THEME
from jiyuu.signals.vowels import VOWELS

F1_HZ, F2_HZ = (220.0, 950.0), (680.0, 2700.0)
STEP = 0.05  # of an arrow key
LEFT_PX, TOP_PX, RIGHT_PX, FOOT_PX = 44.0, 22.0, 14.0, 34.0
RULED_HZ = ((250, 350, 500, 700, 900), (800, 1000, 1400, 2000, 2600))


class VowelPlane(PaintedFigure):
    """The point is dragged along the way from one vowel to the other; a vowel that is clicked is gone to from where the
    point began."""

    morph_dragged = pyqtSignal(float)
    morph_dropped = pyqtSignal(float)
    vowel_chosen = pyqtSignal(str)  # to which it goes

    def __init__(self) -> None:
        super().__init__("Formants: F1 across, F2 up, Hz")
        self._from, self._to, self._morph, self._colour = "ɑ", "i", 0.0, "#000000"
        self._point: tuple[float, float] | None = None
        self._dragging = False
        self.setMinimumSize(200, 140)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def show_way(self, start: str, end: str, morph: float, point: tuple[float, float] | None, colour: str) -> None:
        """point: where F1 and F2 of what is heard lie, Hz."""
        self._from, self._to, self._morph, self._point, self._colour = start, end, morph, point, colour
        self.describe()
        self.update()

    def words(self) -> tuple[str, ...]:
        """The way and the place on it."""
        said = [f"From /{self._from}/ to /{self._to}/, at {100 * self._morph:.0f} %"]
        if self._point is not None:
            said.append(f"F1 {self._point[0]:.0f} Hz, F2 {self._point[1]:.0f} Hz")
        return tuple(said)

    def rows(self) -> list[tuple[object, ...]]:
        """Vowels, and what is heard."""
        rows: list[tuple[object, ...]] = [("name", "f1_hz", "f2_hz"), *(
            (letter, formants[0], formants[1]) for letter, formants in VOWELS.items())]
        return rows if self._point is None else [*rows, ("heard", *self._point)]

    def _place(self, f1_hz: float, f2_hz: float) -> QPointF:
        x = np.log(f1_hz / F1_HZ[0]) / np.log(F1_HZ[1] / F1_HZ[0])
        y = np.log(f2_hz / F2_HZ[0]) / np.log(F2_HZ[1] / F2_HZ[0])
        width, height = self.width() - LEFT_PX - RIGHT_PX, self.height() - TOP_PX - FOOT_PX
        return QPointF(LEFT_PX + float(x) * width, TOP_PX + (1 - float(y)) * height)

    def place_of_vowel(self, letter: str) -> QPointF:
        return self._place(*VOWELS[letter][:2])

    def heard_at(self) -> QPointF | None:
        """Where the point is drawn, in the widget's pixels."""
        return None if self._point is None else self._place(*self._point)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        palette = THEME.palette
        painter.fillRect(self.rect(), QColor(palette.raised))
        painter.setFont(THEME.font(px=SMALL_PX))
        for hertz in RULED_HZ[0]:
            top, foot = self._place(hertz, F2_HZ[1]), self._place(hertz, F2_HZ[0])
            painter.setPen(QPen(QColor(palette.rule), 1))
            painter.drawLine(top, foot)
            painter.setPen(QColor(palette.quiet))
            painter.drawText(foot + QPointF(-10, 15), str(hertz))
        for hertz in RULED_HZ[1]:
            left, right = self._place(F1_HZ[0], hertz), self._place(F1_HZ[1], hertz)
            painter.setPen(QPen(QColor(palette.rule), 1))
            painter.drawLine(left, right)
            painter.setPen(QColor(palette.quiet))
            painter.drawText(QPointF(6, left.y() + 4), str(hertz))
        ink = QColor(self._colour)
        painter.setPen(QPen(ink, 1.6, Qt.PenStyle.DashLine))
        painter.drawLine(self.place_of_vowel(self._from), self.place_of_vowel(self._to))
        for letter in VOWELS:
            ends = letter in (self._from, self._to)
            painter.setFont(THEME.font(px=SMALL_PX + (5 if ends else 2), bold=ends))
            painter.setPen(ink if ends else QColor(palette.quiet))
            painter.drawText(self.place_of_vowel(letter) + QPointF(5, -4), letter)
            painter.setBrush(ink if ends else QColor(palette.quiet))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.drawEllipse(self.place_of_vowel(letter), 2.5, 2.5)
        if self._point is not None and all(self._point):
            painter.setPen(QPen(ink, 2.2))
            painter.setBrush(QColor(palette.raised))
            painter.drawEllipse(self._place(*self._point), 6.5, 6.5)
        painter.setPen(QColor(palette.ink))
        painter.setFont(THEME.font(px=SMALL_PX, bold=True))
        painter.drawText(QPointF(6, 14), self.title)
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(palette.ink), 1, Qt.PenStyle.DotLine))
            painter.drawRect(self.rect().adjusted(1, 1, -2, -2))

    def _along(self, position: QPointF) -> float:
        """How far along the way a place is."""
        start, end = self.place_of_vowel(self._from), self.place_of_vowel(self._to)
        way, there = end - start, position - start
        length = way.x() ** 2 + way.y() ** 2
        return float(np.clip((way.x() * there.x() + way.y() * there.y()) / length, 0, 1)) if length else 0.0

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        near = min(VOWELS, key=lambda letter: (self.place_of_vowel(letter) - event.position()).manhattanLength())
        point = self.heard_at()
        if point is not None and (point - event.position()).manhattanLength() < 20:
            self._dragging = True
        elif (self.place_of_vowel(near) - event.position()).manhattanLength() < 24:
            self.vowel_chosen.emit(near)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._dragging:
            self.morph_dragged.emit(self._along(event.position()))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._dragging:
            self._dragging = False
            self.morph_dropped.emit(self._along(event.position()))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        way = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()), 0)
        if way:
            self.morph_dropped.emit(float(np.clip(self._morph + way * STEP, 0, 1)))
        else:
            super().keyPressEvent(event)
