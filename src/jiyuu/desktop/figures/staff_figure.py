"""The figure that is played, written on a ruled staff over the same time: height is pitch, weight is accent, a tie is a
slide. The notes of its first round are written by hand or by key; what comes round again follows."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFontMetrics, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen

from jiyuu.desktop.figures.painted import PaintedFigure
from jiyuu.desktop.figures.spectrogram_figure import UprightHertz
from jiyuu.desktop.theme.style import SMALL_PX, STEP, THEME
from jiyuu.patch.controls import FigureDocument, FigureStep
from jiyuu.prediction.moving import Sung
from jiyuu.signals.controls.figure import step_at, swung_s

EDGE = 2  # px beside the ruler of the figure above, so that both stand over each other
SPAN = 30  # semitones from foot to top


class StaffFigure(PaintedFigure):
    """Left and Right choose a step, Up and Down move it by a semitone (Shift: an octave), A accents, S slides, T ties,
    R or Delete makes a rest; a click puts the step where it is clicked."""

    step_changed = pyqtSignal(int, object)  # which, FigureStep

    def __init__(self) -> None:
        super().__init__("Figure")
        self._figure: FigureDocument | None = None
        self._notes: tuple[Sung, ...] = ()
        self._seconds, self._moment, self.chosen = 4.0, 0.0, 0
        self.setMinimumHeight(22 * STEP)
        self.setToolTip(str(StaffFigure.__doc__))

    def sizeHint(self) -> QSize:
        return QSize(600, 24 * STEP)

    def show_figure(self, figure: FigureDocument | None, notes: tuple[Sung, ...], seconds: float) -> None:
        self._figure, self._notes, self._seconds = figure, notes, seconds
        if figure is not None:
            self.chosen = min(self.chosen, len(figure.steps) - 1)
        self.describe()

    def show_moment(self, time_s: float) -> None:
        self._moment = time_s
        self.update()

    def words(self) -> tuple[str, ...]:
        if self._figure is None:
            return ("No figure is played.",)
        return tuple(f"Step {i + 1}: {_in_words(step)}." for i, step in enumerate(self._figure.steps))

    def rows(self) -> list[tuple[object, ...]]:
        if self._figure is None:
            return []
        names = ("semitones", "gate", "accent", "slide", "tie", "rest", "velocity")
        return [("step", *names), *((i + 1, *(getattr(step, name) for name in names))
                                    for i, step in enumerate(self._figure.steps))]

    # Places

    @property
    def _margin(self) -> float:
        return UprightHertz.wide() + EDGE

    def _x(self, time_s: float) -> float:
        return self._margin + (self.width() - self._margin - 2 * STEP) * time_s / self._seconds

    def _y(self, semitones: float) -> float:
        foot, low = self.height() - 4 * STEP, self._lowest()
        return foot - (foot - 2 * STEP) * (semitones - low) / SPAN

    def _lowest(self) -> float:
        steps = () if self._figure is None else self._figure.steps
        return min([-5.0, *(step.semitones for step in steps if not step.rest)])

    def step_at(self, x: float) -> int | None:
        """Which step of the figure stands there."""
        if self._figure is None:
            return None
        time_s = (x - self._margin) / max(self.width() - self._margin - 2 * STEP, 1) * self._seconds
        if time_s < 0:
            return None
        return step_at(time_s, self._figure.step_s, self._figure.swing) % len(self._figure.steps)

    # Drawing

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter, palette = QPainter(self), THEME.palette
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), QColor(palette.raised))
        painter.setFont(THEME.font(px=SMALL_PX))
        metrics = QFontMetrics(painter.font())
        if self._figure is None:
            painter.setPen(QColor(palette.quiet))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter,
                             "No figure is played. A starting point with one writes it here.")
            return
        for semitones in (0, 7, 12, 19, 24):
            y = self._y(semitones)
            painter.setPen(QPen(QColor(palette.strong_rule if semitones % 12 == 0 else palette.rule), 1))
            painter.drawLine(QPointF(self._margin, y), QPointF(self.width(), y))  # under the last head, all of it
            if semitones % 12 == 0:
                painter.setPen(QColor(palette.quiet))
                painter.drawText(QRectF(0, y - 8, self._margin - STEP, 16), Qt.AlignmentFlag.AlignRight
                                 | Qt.AlignmentFlag.AlignVCenter, f"{semitones:+d}" if semitones else "root")
        self._draw_chosen(painter)
        before: Sung | None = None
        for note in self._notes:
            self._draw_note(painter, note, before)
            before = note
        painter.setPen(QPen(QColor(palette.ink), 1, Qt.PenStyle.DashDotLine))
        painter.drawLine(QPointF(self._x(self._moment), 0), QPointF(self._x(self._moment), self.height()))
        words = f"step {self.chosen + 1}: {_in_words(self._figure.steps[self.chosen])}"
        place = QRectF(self._margin, self.height() - metrics.height(), metrics.horizontalAdvance(words) + STEP,
                       metrics.height())
        painter.fillRect(place, QColor(palette.raised))  # the moment must not stand in the words
        painter.setPen(QColor(palette.quiet))
        painter.drawText(place, Qt.AlignmentFlag.AlignLeft, words)

    def _draw_chosen(self, painter: QPainter) -> None:
        assert self._figure is not None
        left, right = (self._x(swung_s(n, self._figure.step_s, self._figure.swing))
                       for n in (self.chosen, self.chosen + 1))
        painter.fillRect(QRectF(left, 0, right - left, self.height() - 4 * STEP), QColor(THEME.palette.chosen))

    def _draw_note(self, painter: QPainter, note: Sung, before: Sung | None) -> None:
        palette = THEME.palette
        y = self._y(12 * note.octaves)
        left, right = self._x(note.start_s), max(self._x(note.stop_s), self._x(note.start_s) + 3)
        size = 5.5 if note.accent else 3.6
        head = QPointF(min(left + size, self.width() - size - 1), y)  # of what begins as the time ends, all of it too
        painter.setPen(QPen(QColor(palette.ink), 2.2 if note.accent else 1.2))
        painter.drawLine(head, QPointF(max(right - 1, head.x()), y))
        painter.setBrush(QColor(palette.ink))
        painter.drawEllipse(head, size, 0.75 * size)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if note.slide and before is not None:
            old = self._y(12 * before.octaves)
            arc = QPainterPath(QPointF(self._x(before.start_s) + 3, old - 5))
            arc.quadTo(QPointF(0.5 * (self._x(before.start_s) + left), min(old, y) - 14), QPointF(left + 4, y - 5))
            painter.setPen(QPen(QColor(palette.ink), 1.4))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPath(arc)

    # Hands

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        which = self.step_at(event.position().x())
        if which is None or self._figure is None:
            return
        self.setFocus()
        already = which == self.chosen
        self.chosen = which
        foot = self.height() - 4 * STEP
        semitones = round(self._lowest() + SPAN * (foot - event.position().y()) / max(foot - 2 * STEP, 1))
        if already and event.button() == Qt.MouseButton.LeftButton and event.position().y() < foot:
            self._change(semitones=float(min(max(semitones, -120), 120)), rest=False)
        self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if self._figure is None or event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            super().keyPressEvent(event)
            return
        step = self._figure.steps[self.chosen]
        leap = 12.0 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        acts: dict[int, Callable[[], None]] = {
            Qt.Key.Key_Left: lambda: self._choose(-1), Qt.Key.Key_Right: lambda: self._choose(1),
            Qt.Key.Key_Up: lambda: self._change(semitones=min(step.semitones + leap, 120.0), rest=False),
            Qt.Key.Key_Down: lambda: self._change(semitones=max(step.semitones - leap, -120.0), rest=False),
            Qt.Key.Key_A: lambda: self._change(accent=not step.accent),
            Qt.Key.Key_S: lambda: self._change(slide=not step.slide),
            Qt.Key.Key_T: lambda: self._change(tie=not step.tie),
            Qt.Key.Key_R: lambda: self._change(rest=not step.rest),
            Qt.Key.Key_Delete: lambda: self._change(rest=True),
        }
        if event.key() in acts:
            acts[event.key()]()
        else:
            super().keyPressEvent(event)

    def _choose(self, by: int) -> None:
        assert self._figure is not None
        self.chosen = (self.chosen + by) % len(self._figure.steps)
        self.update()

    def _change(self, **changes: object) -> None:
        assert self._figure is not None
        step = self._figure.steps[self.chosen].model_copy(update=changes)
        self.step_changed.emit(self.chosen, step)


def _in_words(step: FigureStep) -> str:
    if step.rest:
        return "a rest"
    words = [f"{step.semitones:+g} semitones".replace("-", "−")]
    words += [word for word, on in (("accent", step.accent), ("slide", step.slide), ("tie", step.tie)) if on]
    return ", ".join(words)
