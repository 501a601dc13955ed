"""Figures over the level that drives a filter: what becomes of a tone, of its harmonics, of the resonance."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFontMetrics, QKeyEvent, QPen

from jiyuu.arrays import FloatArray
from jiyuu.circuits.linear import level_db
from jiyuu.desktop.figures.movable_line import MovableLine
from jiyuu.desktop.figures.plot import Axis
from jiyuu.desktop.figures.ruled import RuledFigure
from jiyuu.desktop.figures.rulers import LevelAxis
from jiyuu.desktop.figures.tones import ToneMap, Tones
from jiyuu.desktop.theme.pens import clear
from jiyuu.desktop.theme.style import SMALL_PX, THEME
from jiyuu.prediction.drive_map import DriveMap
from jiyuu.quantities import signed

LOWEST_DB, HIGHEST_DB = -42.0, 32.0
PERCENT_DB = ((0.001, -100), (0.01, -80), (0.1, -60), (1, -40), (3, -30.46), (10, -20), (100, 0))
HARMONIC_TONES = Tones(-96.0, 0.0, 12.0)
HIGHEST_HARMONIC = 20
TOP_PERCENT = 122.0  # of a figure over the travel: room for its title
ABOVE, STOPS = "self-oscillates", "stopped by the tone"


class DriveAxis(Axis):
    """Under a figure dB re 1 V peak, above it the volts."""

    def __init__(self, side: str) -> None:
        super().__init__(side)
        self._volts = side == "top"
        self.setStyle(tickLength=0, tickTextOffset=2)

    def ticks(self, minVal: float, maxVal: float, size: float) -> list[tuple[float, list[float]]]:
        every = next((step for step in (1, 2, 5, 10, 20) if (maxVal - minVal) / step * 54 <= size), 40)
        first, last = math.ceil(minVal / every), math.floor(maxVal / every)
        return [(float(every), [float(i * every) for i in range(first, last + 1) if i * every <= HIGHEST_DB])]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        if not self._volts:
            return [f"{signed(value, 0)} dB" if value else "0 dB" for value in values]
        return [volts_text(10 ** (value / 20)) for value in values]


class PercentAxis(Axis):
    """Right of a figure in dB re the first harmonic: the same in per cent."""

    def __init__(self) -> None:
        super().__init__("right")
        self.setStyle(tickLength=0, tickTextOffset=3)

    def ticks(self, minVal: float, maxVal: float, size: float) -> list[tuple[float, list[float]]]:
        room = 16 * (maxVal - minVal) / max(size, 1)
        return [(1.0, [db for _, db in PERCENT_DB if minVal + room / 2 < db < maxVal - room / 2])]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        names = {db: f"{percent:g} %" for percent, db in PERCENT_DB}
        return [names.get(value, "") for value in values]


def volts_text(volts: float) -> str:
    """'31.6 mV', '1 V'."""
    return f"{volts:.3g} V" if volts >= 0.0999 else f"{1000 * volts:.3g} mV"


class LevelFigure(RuledFigure):
    """x is dB re 1 V peak of what drives the filter; the nominal level is a line to be taken and moved."""

    level_dragged = pyqtSignal(float)  # V peak
    level_dropped = pyqtSignal(float)
    level_reset = pyqtSignal()
    column = "level_db_re_1v"
    lowest, highest = LOWEST_DB, HIGHEST_DB

    def __init__(self, *, title: str, unit: str, level_steps: tuple[float, ...], strong_step: float,
                 axes: dict[str, pg.AxisItem]) -> None:
        self._nominal = MovableLine(angle=90, bounds=(LOWEST_DB, HIGHEST_DB))
        super().__init__(title=title, unit=unit, axes={**axes, "bottom": DriveAxis("bottom")}, level_steps=level_steps,
                         strong_step=strong_step)
        self.setAccessibleName(f"{title} over the level that drives it")
        self._nominal.sigDragged.connect(lambda: self.level_dragged.emit(self.level_v))
        self._nominal.sigPositionChangeFinished.connect(lambda: self.level_dropped.emit(self.level_v))
        self._nominal.reset.connect(self.level_reset)
        self.add(self._nominal)

    @property
    def level_v(self) -> float:
        """Where the line of the nominal level stands, V peak."""
        return float(10 ** (self._nominal.value() / 20))

    def x_of(self, places: FloatArray) -> FloatArray:
        return places

    def place_of(self, x: float) -> float:
        return x

    def said(self, place: float) -> str:
        return f"{signed(place)} dB ({volts_text(10 ** (place / 20))})"

    def lines(self, left: float, right: float) -> list[tuple[float, bool]]:
        return [(float(x), x % 20 == 0) for x in range(-60, 61, 10) if left <= x <= right]

    def show_level(self, level_v: float, text: str = "") -> None:
        self._nominal.place(float(20 * np.log10(level_v)), text)

    def restyle_lines(self) -> None:
        self._nominal.restyle()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        moves = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        plain = not event.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier)
        if event.key() in moves and plain:
            step = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
            self.level_dropped.emit(self.level_v * 10 ** (step * moves[Qt.Key(event.key())] / 20))
        else:
            super().keyPressEvent(event)


class BendFigure(LevelFigure):
    """Gain and what is added to a tone, in one scale of dB with the per cent at its right; the levels from which it
    bends as named lines."""

    def __init__(self) -> None:
        self._marks: list[pg.InfiniteLine] = []
        steps = (5.0, 10.0, 20.0)
        super().__init__(title="Gain in dB; THD, even and odd in dB re the first harmonic", unit="dB",
                         level_steps=steps, strong_step=20.0,
                         axes={"left": LevelAxis(steps, "dB"), "right": PercentAxis(), "top": DriveAxis("top")})
        self.set_levels(-90, 34)
        self.restyle()

    def show_marks(self, marks: list[tuple[str, float]]) -> None:
        """(words, V peak) of each; they stand below each other so that none covers another."""
        for line in self._marks:
            self.remove(line)
        self._marks = []
        for text, volts in sorted(marks, key=lambda mark: mark[1]):
            line = pg.InfiniteLine(20 * np.log10(volts), angle=90, movable=False, label=text, labelOpts={
                "movable": False, "anchors": [(0, 0.5), (1, 0.5)]})
            line.setZValue(31)  # its words stand over the nominal level's line
            self._marks.append(line)
            self.add(line)
        self._style_marks()
        self._place_marks()

    def _place_captions(self) -> None:
        super()._place_captions()
        self._place_marks()

    def _place_marks(self) -> None:
        """Each as high as it can stand beside the title and the words of the others."""
        width, height = max(self.view.width(), 1.0), max(self.view.height(), 1.0)
        (x0, x1), title = self.view.viewRange()[0], self.captions.title_px()
        line = QFontMetrics(THEME.font(px=SMALL_PX)).height() + 1
        rows: list[list[tuple[float, float]]] = [[(0.0, 4 + title.width())]]
        for mark in self._marks:
            place, wide = (float(mark.value()) - x0) / (x1 - x0) * width, mark.label.boundingRect().width()
            left = place if place < width / 2 else place - wide  # towards the middle, as its anchors have it
            free = [row for row, said in enumerate(rows) if all(left > b or left + wide < a for a, b in said)]
            row = free[0] if free else len(rows)
            rows[row:row + 1] = [[*(rows[row] if free else []), (left, left + wide)]]
            down = 2 + 0.5 * title.height() if row == 0 else 2 + title.height() + (row - 0.5) * line
            mark.label.setPosition(max(1 - down / height, 0.0))

    def marks(self) -> list[str]:
        """What the named lines say."""
        return [str(line.label.format) for line in self._marks]

    def said_px(self) -> list[QRectF]:
        """Where the title and what the named lines say stand, from the view's upper left."""
        said = [line.label for line in self._marks]
        return [self.captions.title_px(), *(label.mapRectToItem(self.view, label.boundingRect()) for label in said)]

    def _style_marks(self) -> None:
        palette = THEME.palette
        for line in self._marks:
            line.setPen(QPen(QColor(palette.quiet), 0, Qt.PenStyle.DashLine))
            line.label.setColor(QColor(palette.ink))
            line.label.fill = pg.mkBrush(clear(palette.raised, 225))
            line.label.setFont(THEME.font(px=SMALL_PX))

    def restyle_lines(self) -> None:
        super().restyle_lines()
        self._style_marks()


class OrderAxis(Axis):
    """Left of a figure: every second harmonic."""

    def __init__(self) -> None:
        super().__init__("left")
        self.setStyle(tickLength=0, tickTextOffset=3)

    def ticks(self, minVal: float, maxVal: float, size: float) -> list[tuple[float, list[float]]]:
        every = 1 if (maxVal - minVal) * 14 <= size else 2
        return [(1.0, [float(i) for i in range(2, HIGHEST_HARMONIC + 1, every) if minVal < i < maxVal])]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        return [f"{value:.0f}" for value in values]


class PercentOfTravel(LevelAxis):
    """Left of a figure over the travel: no number where there is only the title."""

    def ticks(self, minVal: float, maxVal: float, size: float) -> list[tuple[float, list[float]]]:
        return [(step, [value for value in values if value <= 100]) for step, values in
                super().ticks(minVal, maxVal, size)]


class HarmonicsFigure(LevelFigure):
    """Harmonics up, level across, their level re the first as tone."""

    def __init__(self) -> None:
        super().__init__(title="Harmonics, dB re the first", unit="", level_steps=(1.0, 2.0),
                         strong_step=1e6, axes={"left": OrderAxis()})
        self._tones = ToneMap(self, HARMONIC_TONES)
        self._shown: tuple[FloatArray, FloatArray] | None = None
        self._ruling.setOpacity(0.0)
        self.set_levels(1.5, HIGHEST_HARMONIC + 3.5)  # with room for the title

    def show_harmonics(self, level_db: FloatArray, harmonics_db: FloatArray, ink: str) -> None:
        """harmonics_db (l, 20) re the first at level_db (l,), even steps."""
        self._shown = level_db, harmonics_db
        self._tones.show(level_db, np.arange(2.0, HIGHEST_HARMONIC + 1), harmonics_db[:, 1:].T, ink)

    def clear_harmonics(self) -> None:
        self._shown = None
        self._tones.clear()

    def reading_at(self, x: float, height: float) -> str:
        number = round(height)
        if self._shown is None or not 2 <= number <= HIGHEST_HARMONIC:
            return self.said(x)
        level = float(np.interp(x, self._shown[0], self._shown[1][:, number - 1]))
        return f"{self.said(x)}  harmonic {number}  {signed(level)} dB"

    def as_csv(self, separator: str = ",") -> str:
        """A row a level, a column a harmonic."""
        if self._shown is None:
            return ""
        rows = [separator.join([self.column, *(f"harmonic_{i}_db" for i in range(2, HIGHEST_HARMONIC + 1))])]
        rows += [separator.join(f"{value:.7g}" for value in (level, *row[1:])) for level, row in zip(*self._shown,
                                                                                                     strict=True)]
        return "\n".join(rows) + "\n"


@dataclass(frozen=True, slots=True)
class OfPeak:
    """What of a driven peak is drawn as tone, and how it is called; of: (p, l) of a map."""

    title: str
    name: str
    column: str
    tones: Tones
    contours: tuple[float, ...]
    of: Callable[[DriveMap], FloatArray]


def _moved_cents(found: DriveMap) -> FloatArray:
    """Re where the softest level has it."""
    return np.asarray(1200 * np.log2(found.peak_hz / found.peak_hz[:, :1]))


OF_PEAK = (
    OfPeak("Peak over the passband, dB", "peak", "peak_db", Tones(-24.0, 30.0), (0.0, 3.0, 6.0, 12.0, 24.0),
           lambda found: found.over_body_db),
    OfPeak("Width of the peak, octaves", "width", "width_octaves", Tones(0.0, 2.0, 0.25, "oct", 2),
           (0.1, 0.25, 0.5, 1.0), lambda found: found.bandwidth_octaves),
    OfPeak("Peak moved by the level, cents", "moved", "moved_cents", Tones(-1200.0, 0.0, 100.0, "cents"),
           (-1000.0, -500.0, -100.0, -20.0), _moved_cents),
)


class DrivenPeakFigure(LevelFigure):
    """Resonance up, level across, something of the peak as tone; above the onset, from where a tone stops the whistle.
    Room for the title above it."""

    position_dragged = pyqtSignal(float)
    position_dropped = pyqtSignal(float)
    position_reset = pyqtSignal()

    def __init__(self, what: OfPeak = OF_PEAK[0]) -> None:
        self.what = what
        self._position = MovableLine(angle=0, bounds=(0.0, 100.0))
        steps = (10.0, 25.0, 50.0)
        super().__init__(title=what.title, unit="%", level_steps=steps,
                         strong_step=50.0, axes={"left": PercentOfTravel(steps, "%")})
        self._tones = ToneMap(self, what.tones, contours_db=what.contours)
        self._shown: tuple[FloatArray, FloatArray, FloatArray] | None = None
        self._ruling.setOpacity(0.3)
        self.set_levels(0.0, TOP_PERCENT)
        self.view.setLimits(yMin=0, yMax=TOP_PERCENT, minYRange=4)
        self._position.sigDragged.connect(lambda: self.position_dragged.emit(float(self._position.value())))
        self._position.sigPositionChangeFinished.connect(
            lambda: self.position_dropped.emit(float(self._position.value())))
        self._position.reset.connect(self.position_reset)
        self.add(self._position)
        self.restyle()

    def show_peaks(self, found: DriveMap, position_percent: FloatArray, ink: str) -> None:
        """position_percent (p,): of the map's rows."""
        self._shown = level_db(found.level_v), position_percent, self.what.of(found)
        self._tones.show(*self._shown, ink)

    def show_whistle(self, onset_percent: float | None, stop_db: FloatArray, stop_percent: FloatArray) -> None:
        """stop_db (s,) from which on the tone stops the whistle at stop_percent (s,); none where it has no whistle."""
        palette = THEME.palette
        self._still.forget(ABOVE)
        self.forget(STOPS)
        if onset_percent is not None:
            ends = np.array([LOWEST_DB, HIGHEST_DB - 2])
            self._still.set_band(ABOVE, ends, np.full(2, onset_percent), np.full(2, 100.0),
                                 clear(palette.attention, 150), hatched=True)
        there = np.isfinite(stop_db)
        if there.sum() > 1:
            self._still.set_line(STOPS, stop_db[there], stop_percent[there], QPen(QColor(palette.attention), 0))
        self._still.touched()

    def show_position(self, percent: float, text: str = "") -> None:
        self._position.place(percent, text)

    def reading_at(self, x: float, height: float) -> str:
        text = f"{self.said(x)}  resonance {np.clip(height, 0, 100):.0f} %"
        if self._shown is None:
            return text
        level, position, peak = self._shown
        value = peak[int(np.argmin(np.abs(position - height))), int(np.argmin(np.abs(level - x)))]
        beyond = height > position[-1] + 0.5 * (position[1] - position[0])
        tones = self.what.tones
        return text if beyond or not np.isfinite(value) else (
            f"{text}  {self.what.name} {tones.said(float(value), max(tones.digits, 1))}")

    def as_csv(self, separator: str = ",") -> str:
        """A row a position, a column a level; empty where there is no peak."""
        if self._shown is None:
            return ""
        level, position, peak = self._shown
        rows = [separator.join(["position_percent", *(f"{self.what.column}_at_{one:.4g}_db" for one in level)])]
        rows += [separator.join("" if np.isnan(value) else f"{value:.7g}" for value in (percent, *row))
                 for percent, row in zip(position, peak, strict=True)]
        return "\n".join(rows) + "\n"

    def restyle_lines(self) -> None:
        super().restyle_lines()
        self._position.restyle()
