"""A figure over frequency, with a cutoff line to be taken and moved."""

from __future__ import annotations

import pyqtgraph as pg
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QShowEvent
from PyQt6.QtWidgets import QWidget

from jiyuu.arrays import FloatArray
from jiyuu.desktop.figures.movable_line import MovableLine
from jiyuu.desktop.figures.ruled import RuledFigure
from jiyuu.desktop.figures.rulers import (
    HIGHEST_V,
    LOWEST_V,
    HertzAxis,
    LevelAxis,
    NoteAxis,
    decade_lines,
    volts_of_hz,
)
from jiyuu.quantities import hz_of_volts, note_and_cents, shown_hz, signed, volts_of


class FrequencyFigure(RuledFigure):
    """The frequency ruler is the same everywhere: hertz above, notes and volts below."""

    cutoff_dragged = pyqtSignal(float)  # Hz, while the line moves
    cutoff_dropped = pyqtSignal(float)  # Hz, when it is let go
    cutoff_reset = pyqtSignal()
    column = "frequency_hz"
    lowest, highest = LOWEST_V, HIGHEST_V

    def __init__(
        self, *, title: str, unit: str, level_steps: tuple[float, ...], strong_step: float,
        parent: QWidget | None = None, left: pg.AxisItem | None = None,
    ) -> None:
        self._cutoff = MovableLine(angle=90, bounds=(LOWEST_V, HIGHEST_V))
        self._stands_at: tuple[float, str] | None = None
        axes = {"left": left or LevelAxis(level_steps, unit), "bottom": NoteAxis(), "top": HertzAxis()}
        super().__init__(title=title, unit=unit, axes=axes, level_steps=level_steps, strong_step=strong_step,
                         parent=parent)
        self.setAccessibleName(f"{title} over frequency")
        self._cutoff.sigDragged.connect(lambda: self.cutoff_dragged.emit(hz_of_volts(self._cutoff.value())))
        self._cutoff.sigPositionChangeFinished.connect(
            lambda: self.cutoff_dropped.emit(hz_of_volts(self._cutoff.value()))
        )
        self._cutoff.reset.connect(self.cutoff_reset)
        self.add(self._cutoff)

    def x_of(self, places: FloatArray) -> FloatArray:
        return volts_of_hz(places)

    def place_of(self, x: float) -> float:
        return hz_of_volts(x)

    def said(self, place: float) -> str:
        note, cents = note_and_cents(place)
        return f"{shown_hz(place)}  {note} {signed(cents, 0)} c"

    def lines(self, left: float, right: float) -> list[tuple[float, bool]]:
        return decade_lines(left, right)

    def show_cutoff(self, frequency_hz: float, text: str) -> None:
        """The movable cutoff line and what it says; where nobody looks it is moved when somebody does."""
        self._stands_at = frequency_hz, text
        if self.isVisible():
            self._cutoff.place(volts_of(frequency_hz), text)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        if self._stands_at is not None:
            self.show_cutoff(*self._stands_at)

    @property
    def cutoff_line(self) -> pg.InfiniteLine:
        return self._cutoff

    def hide_cutoff(self) -> None:
        self._cutoff.hide()

    def _marked_at(self) -> list[float]:
        return [float(self._cutoff.value())] if self._cutoff.isVisible() else []

    def restyle_lines(self) -> None:
        self._cutoff.restyle()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        moves = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        if event.key() in moves and self._cutoff.isVisible() and not _modified(event):
            fine = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            octaves = moves[Qt.Key(event.key())] * (0.1 if fine else 1.0) / 12
            self.cutoff_dropped.emit(hz_of_volts(self._cutoff.value() + octaves))
        else:
            super().keyPressEvent(event)


def _modified(event: QKeyEvent) -> bool:
    """With Ctrl or Alt the arrows move the cursor or the view."""
    return bool(event.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier))


class Following:
    """Figures over one ruler: zooming one along it zooms all; each keeps its own width."""

    def __init__(self, *figures: FrequencyFigure) -> None:
        self._views: list[pg.ViewBox] = []
        for figure in figures:
            self.join(figure)

    def join(self, figure: FrequencyFigure) -> None:
        """One more, which shows what the others show."""
        if self._views:
            figure.view.setXRange(*self._views[0].viewRange()[0], padding=0)
        self._views.append(figure.view)
        figure.view.sigXRangeChanged.connect(self._follow)

    def _follow(self, source: pg.ViewBox, span: tuple[float, float]) -> None:
        for view in self._views:
            if view is not source and tuple(view.viewRange()[0]) != tuple(span):
                view.blockSignals(True)
                view.setXRange(*span, padding=0)
                view.blockSignals(False)
                view.sigRangeChanged.emit(view, view.viewRange(), [True, False])
                view.update()
