"""What sounds while a patch moves: time across, the frequency ruler upright, level as tone; over it the cutoff between
its bounds, and the moment that is looked at."""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFontMetricsF, QKeyEvent, QPen

from jiyuu.arrays import FloatArray
from jiyuu.desktop.figures.movable_line import MovableLine
from jiyuu.desktop.figures.plot import Axis
from jiyuu.desktop.figures.ruled import PlotCurve, RuledFigure
from jiyuu.desktop.figures.rulers import HertzAxis, volts_of_hz
from jiyuu.desktop.figures.tones import ToneMap, Tones
from jiyuu.desktop.theme.style import SMALL_PX, THEME
from jiyuu.prediction.moving import Spectrogram
from jiyuu.quantities import hz_of_volts, note_and_cents, shown_hz, signed, volts_of

TONES = Tones(-84.0, 0.0)
BEGINS, ASIDE = 0.015, 0.2  # shares of the width at which a label of a level line begins
EDGE = 0.8  # octaves at either end of the scale where a label has room on one side of its line only
FOOT, TOP = volts_of(13.0), volts_of(32_000.0)  # past the stops of a usual filter, so that they are seen
ASKED, GOT = "asked for", "cutoff"


class SecondsAxis(Axis):
    """Under the figure: seconds."""

    def __init__(self) -> None:
        super().__init__("bottom")
        self.setStyle(tickLength=0, tickTextOffset=2)

    def ticks(self, minVal: float, maxVal: float, size: float) -> list[tuple[float, list[float]]]:
        span = maxVal - minVal
        every = next((e for e in (0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2) if span / e * 48 <= size), 5.0)
        first, last = math.ceil(minVal / every), math.floor(maxVal / every)
        return [(float(every), [i * every for i in range(first, last + 1)])]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        return [f"{value:.4g} s" for value in values]


class UprightHertz(HertzAxis):
    """The frequency ruler on the left."""

    def __init__(self) -> None:
        super().__init__("left")
        self.setStyle(autoExpandTextSpace=False)
        self.setWidth(self.wide())

    @staticmethod
    def wide() -> int:
        """px that it takes."""
        return round(QFontMetricsF(THEME.font(px=SMALL_PX)).horizontalAdvance("−180°") + 8)


class SpectrogramFigure(RuledFigure):
    """Drag a bound, drag the moment."""

    bounds_dragged = pyqtSignal(float, float)  # Hz, low and high
    bounds_dropped = pyqtSignal(float, float)
    moment_dragged = pyqtSignal(float)  # s
    moment_dropped = pyqtSignal(float)
    column = "time_s"
    lowest, highest = 0.0, 4.0

    def __init__(self) -> None:
        self._low, self._high = (MovableLine(angle=0, bounds=(FOOT, TOP)) for _ in range(2))
        self._moment = MovableLine(angle=90, bounds=(0.0, 4.0))
        super().__init__(title="What sounds, 6 dB a tone, and the cutoff between its bounds", unit="Hz",
                         axes={"left": UprightHertz(), "bottom": SecondsAxis()}, level_steps=(1.0,), strong_step=5.0)
        self.spectrogram: Spectrogram | None = None
        self._tones = ToneMap(self, TONES)
        self._ruling.setZValue(-80)
        self._ruling.setOpacity(0.35)
        for line in (self._low, self._high):
            self.add(line)
            line.sigDragged.connect(lambda: self.bounds_dragged.emit(*self._bounds()))
            line.sigPositionChangeFinished.connect(lambda: self.bounds_dropped.emit(*self._bounds()))
        self.add(self._moment)
        self._moment.sigDragged.connect(lambda: self.moment_dragged.emit(float(self._moment.value())))
        self._moment.sigPositionChangeFinished.connect(lambda: self.moment_dropped.emit(float(self._moment.value())))
        self.view.setLimits(yMin=FOOT, yMax=TOP, minYRange=1)
        self.set_levels(FOOT, TOP)
        self.show_bounds(None, None)

    def _bounds(self) -> tuple[float, float]:
        low, high = sorted((float(self._low.value()), float(self._high.value())))
        return hz_of_volts(low), hz_of_volts(high)

    @property
    def bound_lines(self) -> tuple[MovableLine, MovableLine]:
        return self._low, self._high

    @property
    def moment_line(self) -> MovableLine:
        return self._moment

    def show_length(self, seconds: float) -> None:
        """How much time is shown."""
        self.highest = seconds
        view = self.view
        view.setLimits(xMin=0, xMax=seconds, minXRange=0.05 * seconds)
        view.setXRange(0, seconds, padding=0)
        self._moment.setBounds((0.0, seconds))

    def show_cutoff(self, times_s: FloatArray, wanted_hz: FloatArray | None, got_hz: FloatArray, ink: str) -> None:
        """Where it goes; wanted: what its routes ask, where that lies beyond a stop."""
        self.forget(ASKED, GOT)
        palette = THEME.palette
        if wanted_hz is not None:
            self.show_curve(PlotCurve(ASKED, times_s, np.clip(volts_of_hz(wanted_hz), FOOT - 1, TOP + 1)),
                            QPen(QColor(palette.attention), 0, Qt.PenStyle.DotLine), labelled=True,
                            colour=palette.attention)
        pen = QPen(QColor(palette.ink), 2.0)
        pen.setCosmetic(True)
        self.show_curve(PlotCurve(GOT, times_s, volts_of_hz(got_hz)), pen, labelled=wanted_hz is not None,
                        colour=palette.ink)
        if wanted_hz is not None:
            self.place_labels()

    def show_bounds(self, low_hz: float | None, high_hz: float | None) -> None:
        """Where the cutoff goes at the least and at the most; None where nothing moves it."""
        above = []
        for line, hertz, word in ((self._low, low_hz, "from"), (self._high, high_hz, "to")):
            line.setVisible(hertz is not None)
            if hertz is not None:
                at = min(max(volts_of(hertz), FOOT), TOP)
                # Away from each other, however near the bounds are; at an edge there is room on one side only.
                above.append(at < FOOT + EDGE if line is self._low else at < TOP - EDGE)
                line.say_at(BEGINS, above=above[-1])
                line.place(at, f"{word} {shown_hz(hertz)}")
        if len(set(above)) == 1 and abs(self._high.value() - self._low.value()) < EDGE:
            self._high.say_at(ASIDE, above=above[-1])

    def show_moment(self, time_s: float) -> None:
        self._moment.place(time_s, f"{time_s:.2f} s")

    def show_sound(self, found: Spectrogram | None, ink: str) -> None:
        self.spectrogram = found
        if found is None:
            self._tones.clear()
        else:
            self._tones.show(found.time_s, volts_of_hz(found.frequency_hz), found.level_db, ink)

    def x_of(self, places: FloatArray) -> FloatArray:
        return places

    def place_of(self, x: float) -> float:
        return x

    def said(self, place: float) -> str:
        return f"{place:.3f} s"

    def lines(self, left: float, right: float) -> list[tuple[float, bool]]:
        step = next(e for e in (0.05, 0.1, 0.5, 1.0, 5.0) if (right - left) / e <= 30)
        return [(i * step, i % 2 == 0) for i in range(math.ceil(left / step), math.floor(right / step) + 1)]

    def reading_at(self, x: float, height: float) -> str:
        hertz = hz_of_volts(height)
        note, cents = note_and_cents(hertz)
        text = f"{x:.3f} s  {shown_hz(hertz)}  {note} {signed(cents, 0)} cents"
        found = self.spectrogram
        if found is None or not found.time_s.size:
            return text
        row = int(np.argmin(np.abs(np.log2(found.frequency_hz / hertz))))
        column = int(np.argmin(np.abs(found.time_s - x)))
        return f"{text}  {signed(float(found.level_db[row, column]))} dB re 1 V"

    def as_csv(self, separator: str = ",") -> str:
        """The cutoff over time; levels stand in the picture."""
        got = self.curve(GOT)
        if got is None:
            return ""
        rows = [f"time_s{separator}cutoff_hz"]
        rows += [f"{t:.7g}{separator}{hz_of_volts(float(v)):.7g}" for t, v in zip(got.places, got.values, strict=True)]
        return "\n".join(rows) + "\n"

    def restyle_lines(self) -> None:
        for line in (self._low, self._high, self._moment):
            line.restyle()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        moves = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        if event.key() in moves and not event.modifiers() & (Qt.KeyboardModifier.ControlModifier
                                                             | Qt.KeyboardModifier.AltModifier):
            step = 0.01 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 0.05
            moment = float(self._moment.value()) + step * moves[Qt.Key(event.key())]
            self.moment_dropped.emit(min(max(moment, 0.0), self.highest))
        else:
            super().keyPressEvent(event)
