"""The resonance map: frequency across, the control's travel up, level as tone; onset, tracks and the slice in force."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QPen

from jiyuu.desktop.figures.frequency_figure import FrequencyFigure
from jiyuu.desktop.figures.movable_line import MovableLine
from jiyuu.desktop.figures.rulers import volts_of_hz
from jiyuu.desktop.figures.tones import ToneMap, Tones
from jiyuu.desktop.theme.style import SMALL_PX, THEME
from jiyuu.prediction.resonance import ResonanceMap
from jiyuu.quantities import shown_hz, signed

TONES = Tones(-48.0, 30.0)
WHISTLE, PEAK, NOTCH = "self-oscillates", "peak", "notch"
SAID_AT, UNDER_AT = 0.985, 0.84  # of the width: where the words of the onset end; beside the scale


class ResonanceMapFigure(FrequencyFigure):
    """Tones in steps of 6 dB, like the heights of a chart, so that a level can be counted as well as seen."""

    position_dragged = pyqtSignal(float)
    position_dropped = pyqtSignal(float)
    position_reset = pyqtSignal()

    def __init__(self) -> None:
        self._slice = MovableLine(angle=0, bounds=(0.0, 100.0))
        self._onset = pg.InfiniteLine(angle=0, movable=False, label="", labelOpts={
            "position": SAID_AT, "anchors": [(1, 1), (1, 1)], "movable": False,
        })
        super().__init__(title="Resonance in % of its travel; tone: 6 dB a step", unit="%",
                         level_steps=(10.0, 25.0), strong_step=50.0)
        self.map: ResonanceMap | None = None
        self._mode = ""
        self._ink = THEME.palette.ink
        for line in (self._onset, self._slice):
            self.add(line)
        self._onset.setZValue(20)
        view = self.view
        view.setLimits(yMin=0, yMax=100, minYRange=4)
        self.set_levels(0.0, 100.0)
        self._tones = ToneMap(self, TONES, contours_db=(0.0, 6.0, 12.0, 24.0))
        self._ruling.setZValue(-80)
        self._ruling.setOpacity(0.35)
        self._slice.sigDragged.connect(lambda: self.position_dragged.emit(float(self._slice.value())))
        self._slice.sigPositionChangeFinished.connect(lambda: self.position_dropped.emit(float(self._slice.value())))
        self._slice.reset.connect(self.position_reset)

    @property
    def slice_line(self) -> MovableLine:
        return self._slice

    def show_map(self, found: ResonanceMap, mode: str, ink: str) -> None:
        """The map of one mode in a filter's ink."""
        self.map, self._mode, self._ink = found, mode, ink
        index = found.modes.index(mode)
        self._tones.show(volts_of_hz(found.frequency_hz), found.position_percent, found.level_db[index], ink)
        palette = THEME.palette
        self._moving.forget(PEAK)
        self._moving.forget(NOTCH)
        for name, track, dash in ((PEAK, found.peak_hz[index], Qt.PenStyle.SolidLine),
                                  (NOTCH, found.notch_hz[index], Qt.PenStyle.DashLine)):
            there = np.isfinite(track)
            if there.sum() > 1:
                pen = QPen(QColor(palette.ground if name == PEAK else palette.ink), 1.6, dash)
                self._moving.set_line(name, volts_of_hz(track[there]), found.position_percent[there], pen)
        self._show_onset(found.onset_percent)
        self._moving.touched()

    def _show_onset(self, percent: float | None) -> None:
        palette = THEME.palette
        self._onset.setVisible(percent is not None)
        self._still.forget(WHISTLE)
        if percent is not None:
            self._onset.setValue(percent)
            self._onset.label.setFormat(f"self-oscillates from {percent:.1f} %")
            ends = np.array([self.lowest - 1, self.highest + 1])
            self._still.set_band(WHISTLE, ends, np.full(2, percent), np.full(2, 101.0), QColor(palette.attention),
                                 hatched=True)
        self._still.touched()
        self._place_captions()

    def _place_captions(self) -> None:
        """The onset says so over its line, or under it and the title where it has no room there."""
        super()._place_captions()
        label, (low, high) = self._onset.label, self.view.viewRange()[1]
        over_px = (high - float(self._onset.value())) / (high - low) * self.view.height()
        tall = max(label.boundingRect().height(), 1.0)
        over = over_px > tall
        under = max(self.captions.title_px().bottom() - over_px, 0.0) / tall
        label.anchors = [(1, 1 if over else -under)] * 2
        label.setPosition(SAID_AT if over else UNDER_AT)

    def show_position(self, percent: float, text: str) -> None:
        self._slice.place(percent, text)

    def reading_at(self, x: float, height: float) -> str:
        place = self.place_of(x)
        text = f"{shown_hz(place)}  resonance {np.clip(height, 0, 100):.1f} %"
        found = self.map
        if found is None or not 0 <= height <= 100 or not found.frequency_hz[0] <= place <= found.frequency_hz[-1]:
            return text
        row = found.slice_db(self._mode, height)
        return f"{text}  {signed(float(np.interp(x, volts_of_hz(found.frequency_hz), row)))} dB"

    def as_csv(self, separator: str = ",") -> str:
        """Levels of the mode shown: a row a frequency, a column a position."""
        found = self.map
        if found is None:
            return ""
        rows = [separator.join([self.column, *(f"db_at_{percent:.4g}_percent" for percent in found.position_percent)])]
        levels = found.level_db[found.modes.index(self._mode)].T
        rows += [
            separator.join(f"{value:.7g}" for value in (hertz, *row))
            for hertz, row in zip(found.frequency_hz, levels, strict=True)
        ]
        return "\n".join(rows) + "\n"

    def restyle_lines(self) -> None:
        super().restyle_lines()
        palette = THEME.palette
        self._slice.restyle()
        self._onset.setPen(QPen(QColor(palette.attention), 0))
        self._onset.label.setColor(QColor(palette.attention))
        self._onset.label.fill = pg.mkBrush(QColor(palette.raised))
        self._onset.label.setFont(THEME.font(px=SMALL_PX, bold=True))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        moves = {Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1}
        if event.key() in moves:
            step = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
            self.position_dropped.emit(float(self._slice.value()) + step * moves[Qt.Key(event.key())])
        else:
            super().keyPressEvent(event)
