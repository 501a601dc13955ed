"""The walk: ten stations on a line, each with the state of its step for the filter in hand."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import QPointF, QRect, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFontMetrics, QKeyEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QAbstractButton, QHBoxLayout, QWidget

from jiyuu.bench.step import Step
from jiyuu.bench.walk import StepState, walk
from jiyuu.desktop.theme.style import SMALL_PX, STEP, THEME


class Station(QAbstractButton):
    """One step: a mark on the line (empty, filled, hatched, crossed) and its name."""

    def __init__(self, number: int, step: Step, *, last: bool) -> None:
        super().__init__()
        self.number, self.step, self._last = number, step, last
        self.state = StepState.OPEN
        self.setCheckable(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.show_state(StepState.OPEN)

    def show_state(self, state: StepState) -> None:
        self.state = state
        words = state.value
        key = f" (Ctrl+{self.number % 10})" if self.number <= 10 else ""
        self.setToolTip(f"{self.step.name}: {words}{key}\n{self.step.purpose}")
        self.setAccessibleName(f"Step {self.number}, {self.step.name}: {words}")
        self.update()

    def sizeHint(self) -> QSize:
        metrics = QFontMetrics(THEME.font(px=SMALL_PX, bold=True))
        return QSize(metrics.horizontalAdvance(self.step.name) + 3 * STEP, metrics.height() + 24)

    def minimumSizeHint(self) -> QSize:
        return QSize(8 * STEP, self.sizeHint().height())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        palette, middle = THEME.palette, self.width() / 2
        painter.setPen(QPen(QColor(palette.strong_rule), 1.2))
        y = 11.0
        painter.drawLine(QPointF(0 if self.number > 1 else middle, y),
                         QPointF(middle if self._last else self.width(), y))
        self._draw_mark(painter, QPointF(middle, y))
        painter.setFont(THEME.font(px=SMALL_PX, bold=self.isChecked()))
        painter.setPen(QColor(palette.ink))
        metrics = QFontMetrics(painter.font())
        text = QRect(0, 21, self.width(), metrics.height() + 2)
        # Larger type may leave less room than the name takes: then its beginning has to do, the whole is in the tip.
        shown = metrics.elidedText(self.step.name, Qt.TextElideMode.ElideRight, self.width() - 2)
        painter.drawText(text, Qt.AlignmentFlag.AlignHCenter, shown)
        if self.isChecked():
            width = metrics.horizontalAdvance(shown)
            painter.fillRect(QRect(round(middle - width / 2), self.height() - 3, width, 3), QColor(palette.ink))
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(palette.ink), 1, Qt.PenStyle.DotLine))
            painter.drawRect(self.rect().adjusted(1, 1, -2, -1))

    def _draw_mark(self, painter: QPainter, centre: QPointF) -> None:
        palette = THEME.palette
        radius = 6.0
        painter.setBrush(QColor(palette.ground))
        painter.setPen(QPen(QColor(palette.ink), 1.4))
        if self.state is StepState.DONE:
            painter.setBrush(QColor(palette.ink))
            painter.drawEllipse(centre, radius, radius)
            painter.setPen(QPen(QColor(palette.ground), 1.8))
            tick = [centre + QPointF(-3, 0), centre + QPointF(-0.8, 2.4), centre + QPointF(3.2, -2.4)]
            painter.drawPolyline(QPolygonF(tick))
        elif self.state is StepState.STALE:
            painter.setPen(QPen(QColor(palette.stale), 1.6))
            painter.drawEllipse(centre, radius, radius)
            for shift in (-3, 0, 3):
                painter.drawLine(centre + QPointF(shift - 2, 3.2), centre + QPointF(shift + 2, -3.2))
        elif self.state is StepState.OUTSIDE:
            painter.setPen(QPen(QColor(palette.attention), 1.8))
            painter.drawRect(round(centre.x() - 6), round(centre.y() - 6), 12, 12)
            painter.drawLine(centre + QPointF(0, -3.6), centre + QPointF(0, 0.8))
            painter.drawPoint(centre + QPointF(0, 3.4))
        else:
            painter.drawEllipse(centre, 4.0, 4.0)


class WalkView(QWidget):
    """Navigation, session plan and checklist in one."""

    chosen = pyqtSignal(str)  # key of a step

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Walk")
        row = QHBoxLayout(self)
        row.setContentsMargins(STEP, 2, STEP, 2)
        row.setSpacing(0)
        steps = walk()
        self.stations = {step.key: Station(i, step, last=i == len(steps)) for i, step in enumerate(steps, start=1)}
        for key, station in self.stations.items():
            row.addWidget(station, 1)
            station.clicked.connect(lambda _=False, name=key: self.chosen.emit(name))
        THEME.changed.connect(self._settle)

    def _settle(self) -> None:
        self.updateGeometry()

    def show_step(self, key: str) -> None:
        """Which one is looked at."""
        for name, station in self.stations.items():
            station.setChecked(name == key)

    def show_states(self, states: Mapping[str, StepState]) -> None:
        """Where every step stands, by key."""
        for key, state in states.items():
            self.stations[key].show_state(state)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        moves = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        names = list(self.stations)
        here = next((i for i, name in enumerate(names) if self.stations[name].hasFocus()), None)
        if event.key() in moves and here is not None:
            self.stations[names[(here + moves[Qt.Key(event.key())]) % len(names)]].setFocus()
        else:
            super().keyPressEvent(event)
