"""The right supporting figure of the Response step: local slope with its ruler, curve minus curve, harmonics, trace."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import cached_property

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QKeySequence, QPainter, QPen, QShortcut
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from jiyuu.arrays import FloatArray
from jiyuu.desktop.figures.frequency_figure import FrequencyFigure
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.figures.rulers import volts_of_hz
from jiyuu.desktop.figures.spectrum_figure import SpectrumFigure
from jiyuu.desktop.figures.time_figure import TimeFigure, shown_piece
from jiyuu.desktop.parts.frame import narrow, under
from jiyuu.desktop.parts.later_pages import LaterPages
from jiyuu.desktop.parts.page_buttons import page_buttons
from jiyuu.desktop.sounding import Sounded
from jiyuu.desktop.theme.pens import clear, cosmetic
from jiyuu.desktop.theme.style import STEP, THEME
from jiyuu.errors import MeasurementError
from jiyuu.measurement.curve_reading import CurveReading, SlopeWindow, read_curve
from jiyuu.prediction.response import GRID_HZ, Predicted
from jiyuu.quantities import signed

PREDICTED = "predicted"
DIFFERENCE = "difference"
SLOPE, MINUS, HARMONICS, TRACE = range(4)


class Stretch(pg.LinearRegionItem):
    """Its edges stand upright, so that nothing is to be smoothed: smoothed, it would take as long as all curves."""

    def paint(self, painter: QPainter, *arguments: object) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        super().paint(painter, *arguments)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)


class SlopeRuler:
    """The stretch over which the slope is fitted, to be taken by its ends on the slope figure; says what it reads."""

    def __init__(self, figure: FrequencyFigure) -> None:
        self._figure = figure
        self.region = Stretch(movable=True)
        self.region.setZValue(-20)
        figure.add(self.region)
        self.region.sigRegionChangeFinished.connect(self._moved)
        self._curve: tuple[FloatArray, str] | None = None
        self.cutoff_octave: float | None = None
        self._direction = 1
        self.window = SlopeWindow()
        self.reading: CurveReading | None = None
        self.restyle()

    def show(self, level_db: FloatArray, mode: str) -> None:
        """Read a mode's curve over GRID_HZ and lay the ruler where its window is."""
        self._curve = level_db, mode
        try:
            self.reading = read_curve(GRID_HZ, level_db, window=self.window)
        except MeasurementError:
            self.reading = None
        found = self.reading
        edge = None if found is None else found.cutoff_3db_hz or found.high_3db_hz
        if found is None or edge is None:
            self.region.setVisible(False)
            self._figure.say_note("")
            return
        self._direction = -1 if found.low_3db_hz is not None and found.high_3db_hz is None else 1
        self.cutoff_octave = float(volts_of_hz(np.array([edge]))[0])
        ends = [self.cutoff_octave + self._direction * o for o in (self.window.from_octaves, self.window.to_octaves)]
        self.region.blockSignals(True)
        self.region.setRegion(sorted(ends))
        self.region.blockSignals(False)
        self.region.setVisible(True)
        self._say(mode)

    def shift(self, octaves: float, *, wider: bool = False) -> None:
        """By keys: move the window, or move its far end only."""
        low, high = self.window.from_octaves, self.window.to_octaves
        low = low if wider else max(low + octaves, 0.0)
        self.window = SlopeWindow(low, max(high + octaves, low + 0.5))
        if self._curve is not None:
            self.show(*self._curve)

    def _moved(self) -> None:
        if self._curve is None or self.cutoff_octave is None:
            return
        low, high = sorted(abs(x - self.cutoff_octave) for x in self.region.getRegion())
        self.window = SlopeWindow(round(low, 3), round(max(high, low + 0.5), 3))
        self.show(*self._curve)

    def _say(self, mode: str) -> None:
        found = self.reading
        if found is None or found.slope_db_per_octave is None:
            self._figure.say_note("The ruler lies past the end of the curve.")
            return
        order = abs(found.slope_db_per_octave) / (20 * np.log10(2))
        asked = mode.rpartition("-")[2]
        slope, of = f"{signed(found.slope_db_per_octave)} dB/oct", f" of {int(asked) / 6:g}" if asked.isdigit() else ""
        window = f"{self.window.from_octaves:.3g} to {self.window.to_octaves:.3g} oct past −3 dB"
        self._figure.say_note(f"{slope}, {window}; order {order:.2f}{of}", brief=f"{slope}, order {order:.2f}{of}")

    def restyle(self) -> None:
        self.region.setBrush(clear(THEME.palette.quiet, 34))
        self.region.setHoverBrush(clear(THEME.palette.quiet, 60))
        for line in self.region.lines:
            line.setPen(QPen(QColor(THEME.palette.quiet), 0, Qt.PenStyle.DashLine))
            line.setHoverPen(QPen(QColor(THEME.palette.ink), 2))


class RightFigures(QWidget):
    """Only the page that is open is drawn, and none is made before it was opened. `sound` makes the traces when they
    are looked at; None where it cannot. `stored` fetches the frequency and level of a run in the book when a difference
    is asked for. `joined` is told of every figure over frequency when it is made."""

    def __init__(
        self, sound: Callable[[Predicted], Sounded | None],
        stored: Callable[[int], tuple[FloatArray, FloatArray] | None],
        joined: Callable[[FrequencyFigure], None],
    ) -> None:
        super().__init__()
        self._sound, self._stored, self._joined = sound, stored, joined
        self._runs: dict[str, int] = {}
        self.slope = FrequencyFigure(
            title="Local slope, dB per octave", unit="dB/oct", level_steps=(6.0, 12.0), strong_step=12.0
        )
        self.slope.set_levels(-32, 20)
        joined(self.slope)
        self.ruler = SlopeRuler(self.slope)
        for keys, octaves, wider in (("[", -0.25, False), ("]", 0.25, False), ("{", -0.25, True), ("}", 0.25, True)):
            shortcut = QShortcut(QKeySequence(keys), self.slope)
            shortcut.setContext(Qt.ShortcutContext.WidgetShortcut)
            shortcut.activated.connect(lambda by=octaves, far=wider: self.ruler.shift(by, wider=far))
        self._known: dict[str, tuple[FloatArray, FloatArray]] = {}
        self._predicted: Predicted | None = None
        self._pen = QPen()
        self.one, self.other = QComboBox(), QComboBox()
        for box, name in ((self.one, "Curve"), (self.other, "Minus curve")):
            box.setAccessibleName(name)
            narrow(box)
            box.activated.connect(lambda _: self._draw_difference())
        self._chosen = QWidget(self)
        self._chosen.hide()  # until there is a page to stand on
        chosen = QHBoxLayout(self._chosen)
        chosen.setContentsMargins(STEP, 0, STEP, 0)
        chosen.addWidget(self.one, 1)
        chosen.addWidget(QLabel("−"))
        chosen.addWidget(self.other, 1)
        self._stack = LaterPages(lambda: self.slope, self._minus_page, lambda: self.spectrum, lambda: self.trace)
        row, self.choice = page_buttons(("Slope", "Minus", "Harmonics", "Trace"), self._stack)
        self._stack.currentChanged.connect(lambda _: self._draw_open())
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(row)
        column.addWidget(self._stack, 1)

    # Pages

    @cached_property
    def difference(self) -> FrequencyFigure:
        """One curve less another one."""
        figure = FrequencyFigure(
            title="Curve minus curve, dB", unit="dB", level_steps=(0.5, 1.0, 3.0, 6.0, 12.0), strong_step=6.0)
        self._joined(figure)
        return figure

    @cached_property
    def spectrum(self) -> SpectrumFigure:
        """Harmonics of the source and of what comes out."""
        figure = SpectrumFigure("Harmonics in and out, dB re 1 V")
        self._joined(figure)
        return figure

    @cached_property
    def trace(self) -> TimeFigure:
        """Both as they go in time."""
        return TimeFigure("Trace, volts")

    def _minus_page(self) -> QWidget:
        page = under(self._chosen, self.difference)
        self._chosen.show()
        return page

    # What can be taken from one another

    def offer(self, name: str, frequency_hz: FloatArray, level_db: FloatArray) -> None:
        """A curve that a difference can be made of."""
        self._known[name] = frequency_hz, level_db
        self._offer_names()

    def withdraw(self, *names: str) -> None:
        for name in names:
            self._known.pop(name, None)
        self._offer_names()

    def offer_runs(self, runs: Mapping[str, int]) -> None:
        """Runs in the book by name, older ones and those of other modes and filters."""
        self._runs = dict(runs)
        self._offer_names()

    def _offer_names(self) -> None:
        names = [*((PREDICTED,) if self._predicted else ()), *self._known,
                 *(self._predicted.modes if self._predicted else ()), *self._runs]
        if [self.one.itemText(i) for i in range(self.one.count())] != names:
            last = next(iter(self._known), names[-1] if names else "")
            for box, wanted in ((self.one, PREDICTED), (self.other, last)):
                before = box.currentText()
                box.clear()
                box.addItems(names)
                box.setCurrentText(before if before in names else wanted)
        if self._stack.currentIndex() == MINUS:
            self._draw_difference()

    def _values(self, name: str) -> tuple[FloatArray, FloatArray] | None:
        if name in self._known:
            return self._known[name]
        if name in self._runs:
            return self._stored(self._runs[name])
        predicted = self._predicted
        if predicted is None:
            return None
        if name == PREDICTED:
            return GRID_HZ, predicted.level_db[predicted.chosen]
        return (GRID_HZ, predicted.level_db[predicted.modes.index(name)]) if name in predicted.modes else None

    def _draw_difference(self) -> None:
        one, other = self._values(self.one.currentText()), self._values(self.other.currentText())
        if one is None or other is None:
            self.difference.forget(DIFFERENCE)
            return
        inside = (one[0] >= other[0][0]) & (one[0] <= other[0][-1])
        hertz = one[0][inside]
        if hertz.size < 2:
            self.difference.forget(DIFFERENCE)
            return
        values = one[1][inside] - np.interp(np.log2(hertz), np.log2(other[0]), other[1])
        self.difference.show_curve(PlotCurve(DIFFERENCE, hertz, values), self._pen)
        reach = float(np.clip(np.percentile(np.abs(values), 98) * 1.3, 0.6, 60))
        self.difference.set_levels(-reach, reach)
        rms = float(np.sqrt(np.mean(values**2)))
        self.difference.say_note(f"{self.one.currentText()} − {self.other.currentText()}: {rms:.2f} dB RMS",
                                 brief=f"{rms:.2f} dB RMS")

    # What is predicted

    def show_predicted(self, predicted: Predicted, pen: QPen) -> None:
        first = self._predicted is None or self._predicted.modes != predicted.modes
        self._predicted, self._pen = predicted, pen
        if first:
            self._offer_names()
        self._draw_open()

    def settle(self) -> None:
        """The hand has slowed down: read the slope, which takes longer than a frame of a drag may."""
        predicted = self._predicted
        if predicted is not None:
            self.ruler.show(predicted.level_db[predicted.chosen], predicted.modes[predicted.chosen])

    def _draw_open(self) -> None:
        predicted, page = self._predicted, self._stack.currentIndex()
        if predicted is None:
            return
        if page == SLOPE:
            self.slope.show_curve(PlotCurve(PREDICTED, GRID_HZ, predicted.slope_db_per_octave), self._pen)
        elif page == MINUS:
            self._draw_difference()
        else:
            self._draw_sound(predicted, page)

    def _draw_sound(self, predicted: Predicted, page: int) -> None:
        sounded = self._sound(predicted)
        if sounded is None:
            return
        quiet, thin = cosmetic(THEME.palette.quiet, 1.1), cosmetic(THEME.palette.strong_rule, 1.0)
        solid = cosmetic(self._pen.color(), 2.4)
        if page == HARMONICS:
            self.spectrum.show_lines("source", sounded.line_hz, sounded.source_db, quiet)
            self.spectrum.show_lines("output", sounded.line_hz, sounded.output_db[predicted.chosen], solid)
            return
        piece, milliseconds = shown_piece(sounded.source_v, sounded.sample_rate_hz, sounded.period_s)
        self.trace.forget(*(name for name in self.trace.shown_names() if name not in ("source", *sounded.modes)))
        self.trace.show_curve(PlotCurve("source", milliseconds, sounded.source_v[piece]), quiet, labelled=True)
        for i, mode in enumerate(sounded.modes):
            own = i == predicted.chosen
            self.trace.show_curve(PlotCurve(mode, milliseconds, sounded.output_v[i][piece]), solid if own else thin,
                                  labelled=own or len(sounded.modes) <= 4,
                                  colour=self._pen.color().name() if own else None)
        highest = max(float(np.abs(v).max()) for v in (sounded.source_v, sounded.output_v[predicted.chosen]))
        self.trace.show_span(float(milliseconds[-1]), max(highest, 0.1))
        self.trace.place_labels()

    def restyle(self) -> None:
        """What `show_predicted` does not draw again."""
        self.ruler.restyle()
