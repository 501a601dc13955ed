"""The supporting figures of the Response step: phase, group delay or poles left; right_figures has the right one."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QPen
from PyQt6.QtWidgets import QSplitter, QStackedWidget, QVBoxLayout, QWidget

from jiyuu.book.store import StoredCurve
from jiyuu.desktop.bench.page_buttons import page_buttons
from jiyuu.desktop.bench.response.prediction import GRID_HZ, Predicted
from jiyuu.desktop.bench.response.right_figures import PREDICTED, RightFigures
from jiyuu.desktop.bench.sounding import Sounded
from jiyuu.desktop.figures.frequency_figure import FrequencyFigure
from jiyuu.desktop.figures.pole_map import PoleFigure, PoleMap
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.measurement.curve_reading import local_slope

MEASURED, BEFORE = "measured", "measured before"
CLEAR_SNR_DB = 17.0  # below that the phase wanders by more than 10°
STEEP_SNR_DB = 25.0  # a slope is a difference: it needs more


class SupportFigures(QSplitter):
    """Knows how the chosen mode is shown in each of them."""

    def __init__(self, sound: Callable[[Predicted], Sounded | None]) -> None:
        super().__init__(Qt.Orientation.Horizontal)
        self.right = RightFigures(sound)
        self.slope = self.right.slope
        self.phase = FrequencyFigure(
            title="Phase, chosen mode", unit="°", level_steps=(45.0, 90.0, 180.0), strong_step=180.0, hertz=False
        )
        self.delay = FrequencyFigure(
            title="Group delay, chosen mode, ms", unit="ms", level_steps=(0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 50.0),
            strong_step=10.0, hertz=False,
        )
        self.poles = PoleFigure("Poles and zeros, chosen mode, re the cutoff")
        self.over_frequency = (self.phase, self.delay, *self.right.over_frequency)
        self._pole_map: PoleMap | None = None
        self._predicted: Predicted | None = None
        self._pen = QPen()
        self._stack = QStackedWidget()
        for figure in (self.phase, self.delay, self.poles):
            self._stack.addWidget(figure)
        row, self.choice = page_buttons(("Phase", "Delay", "Poles"), self._stack)
        self._stack.currentChanged.connect(lambda _: self._draw_chosen())
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(row)
        column.addWidget(self._stack, 1)
        self.addWidget(left)
        self.addWidget(self.right)

    def show_predicted(self, predicted: Predicted, pen: QPen) -> None:
        self._predicted = predicted
        self._pen = pen
        self.right.show_predicted(predicted, pen)
        self._draw_chosen()

    def _draw_chosen(self) -> None:
        """Only the page that is open: while a control is dragged every millisecond counts."""
        predicted, pen, page = self._predicted, self._pen, self._stack.currentIndex()
        if predicted is None:
            return
        if page == 0:
            self.phase.show_curve(PlotCurve(PREDICTED, GRID_HZ, predicted.phase_deg), pen)
        elif page == 1:
            self.delay.show_curve(PlotCurve(PREDICTED, GRID_HZ, predicted.group_delay_ms), pen)
        elif self._pole_map is not None and self._pole_map.poles.size == predicted.poles.size:
            self.poles.show_map(replace(self._pole_map, poles=predicted.poles), pen.color().name())

    def show_poles(self, pole_map: PoleMap, colour: str) -> None:
        self._pole_map = pole_map
        self.poles.show_map(pole_map, colour)

    def show_measured(self, curve: StoredCurve, shade: QColor, width: float) -> None:
        """The measured curve in every figure that has one."""
        pen = QPen(shade, width)
        pen.setCosmetic(True)
        clear = curve.snr_db > CLEAR_SNR_DB
        frequency_hz, phase = curve.frequency_hz[clear], curve.phase_deg[clear]
        if phase.size:
            if self._predicted is not None:
                # Whole turns cannot be measured: lay the curve on the branch of the predicted one.
                expected = np.interp(frequency_hz, GRID_HZ, self._predicted.phase_deg)
                phase = phase - 360 * np.round(np.median(phase - expected) / 360)
            self.phase.show_curve(PlotCurve(MEASURED, frequency_hz, phase), pen, still=True)
            self.fit_phase()
        loud = curve.snr_db > CLEAR_SNR_DB
        self.right.offer(MEASURED, curve.frequency_hz[loud], curve.level_db[loud])
        sure = curve.snr_db > STEEP_SNR_DB
        if sure.sum() > 48:
            slope = local_slope(curve.frequency_hz[sure], curve.level_db[sure])
            whole = slice(8, -8)  # a sixth of an octave: beyond, the window reaches over the end
            self.slope.show_curve(PlotCurve(MEASURED, curve.frequency_hz[sure][whole], slope[whole]), pen, still=True)

    def show_measured_before(self, curve: StoredCurve | None) -> None:
        """The run before the newest: nothing to look at, but to be taken away from another curve."""
        if curve is None:
            self.right.withdraw(BEFORE)
        else:
            loud = curve.snr_db > CLEAR_SNR_DB
            self.right.offer(BEFORE, curve.frequency_hz[loud], curve.level_db[loud])

    def forget_measured(self) -> None:
        for figure in self.over_frequency:
            figure.forget(MEASURED)
        self.right.withdraw(MEASURED)

    def fit(self) -> None:
        """Ranges that hold what is shown."""
        assert self._predicted is not None
        self.fit_phase()
        highest = float(np.percentile(np.abs(self._predicted.group_delay_ms), 99))
        self.delay.getPlotItem().setYRange(-0.2 * highest, 1.2 * highest, padding=0)

    def fit_phase(self) -> None:
        curves = [curve.values for name in (PREDICTED, MEASURED) if (curve := self.phase.curve(name)) is not None]
        if not curves:
            return
        lowest = min(float(values.min()) for values in curves)
        highest = max(float(values.max()) for values in curves)
        low, high = 90 * math.floor((lowest - 20) / 90), 90 * math.ceil((highest + 20) / 90)
        self.phase.getPlotItem().setYRange(low - 15, high + 15, padding=0)
