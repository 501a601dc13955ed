"""The supporting figures of the Response step: phase, group delay or poles left; right_figures has the right one."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import replace
from functools import cached_property

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QPen
from PyQt6.QtWidgets import QComboBox, QLabel, QSplitter, QVBoxLayout, QWidget

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.book.table import Table
from jiyuu.desktop.figures.frequency_figure import FrequencyFigure
from jiyuu.desktop.figures.pole_map import PoleFigure
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.parts.frame import narrow
from jiyuu.desktop.parts.later_pages import LaterPages
from jiyuu.desktop.parts.page_buttons import page_buttons
from jiyuu.desktop.sounding import Sounded
from jiyuu.desktop.steps.response.right_figures import PREDICTED, RightFigures
from jiyuu.measurement.curve_reading import above_noise, local_slope
from jiyuu.prediction.response import GRID_HZ, PoleMap, Predicted

MEASURED = "measured"
INPUT = "the input"
CLEAR_SNR_DB = 17.0  # below that the phase wanders by more than 10°
PHASE, DELAY, POLES = range(3)
STEEP_SNR_DB = 25.0  # a slope is a difference: it needs more


def phase_between(one: ComplexArray, other: ComplexArray) -> FloatArray:
    """Degrees by which one gain (n,) leads another (n,), unwrapped, on the turn next to 0 where the curves begin."""
    turn = np.unwrap(np.angle(one * np.conj(other)))
    degrees = np.rad2deg(turn)
    return np.asarray(degrees - 360 * np.round(degrees[0] / 360))


def clear_part(curve: Curve | None) -> tuple[FloatArray, FloatArray] | None:
    """Frequency and level where a measured curve (hertz, dB, SNR) stands clear of its noise."""
    if curve is None:
        return None
    hertz, level, snr = curve
    loud = above_noise(hertz, level, snr, CLEAR_SNR_DB)
    return hertz[loud], level[loud]


Curve = tuple[FloatArray, FloatArray, FloatArray]


class SupportFigures(QSplitter):
    """Knows how the chosen mode is shown in each of them. `joined` is told of every figure over frequency when it is
    made, which is when its page is first opened."""

    def __init__(
        self, sound: Callable[[Predicted], Sounded | None], stored: Callable[[int], Curve | None],
        joined: Callable[[FrequencyFigure], None],
    ) -> None:
        super().__init__(Qt.Orientation.Horizontal)
        self._joined = joined
        self.right = RightFigures(sound, lambda run_id: clear_part(stored(run_id)), joined)
        self.slope = self.right.slope
        self.phase = FrequencyFigure(
            title="Phase, chosen mode", unit="°", level_steps=(45.0, 90.0, 180.0), strong_step=180.0
        )
        joined(self.phase)
        self._pole_map: PoleMap | None = None
        self._predicted: Predicted | None = None
        self._measured: tuple[Table, QPen] | None = None
        self._pen = QPen()
        self._delay_fits = False
        self._stack = LaterPages(lambda: self.phase, lambda: self.delay, lambda: self.poles)
        row, self.choice = page_buttons(("Phase", "Delay", "Poles"), self._stack)
        self._stack.currentChanged.connect(lambda _: self._draw_chosen())
        self.reference = narrow(QComboBox())
        self.reference.setAccessibleName("Phase against")
        self.reference.setToolTip("What the phase is taken against: the input, or the output of another mode.")
        self.reference.activated.connect(lambda _: self._against_another())
        self._against = QLabel("re")
        row.addWidget(self._against)
        row.addWidget(self.reference)
        self._stack.currentChanged.connect(self._show_reference)
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(row)
        column.addWidget(self._stack, 1)
        self.addWidget(left)
        self.addWidget(self.right)

    @cached_property
    def delay(self) -> FrequencyFigure:
        """Group delay of the chosen mode."""
        figure = FrequencyFigure(
            title="Group delay, chosen mode, ms", unit="ms", level_steps=(0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 50.0),
            strong_step=10.0)
        self._joined(figure)
        return figure

    @cached_property
    def poles(self) -> PoleFigure:
        """Poles and zeros of the chosen mode."""
        return PoleFigure("Poles and zeros, chosen mode, re the cutoff")

    def show_predicted(self, predicted: Predicted, pen: QPen) -> None:
        self._predicted = predicted
        self._pen = pen
        self._offer_references(predicted)
        self.right.show_predicted(predicted, pen)
        self._draw_chosen()

    def _draw_chosen(self) -> None:
        """Only the page that is open: while a control is dragged every millisecond counts."""
        predicted, pen, page = self._predicted, self._pen, self._stack.currentIndex()
        if predicted is None:
            return
        if page == PHASE:
            self.phase.show_curve(PlotCurve(PREDICTED, GRID_HZ, self._phase(predicted)), pen)
        elif page == DELAY:
            self.delay.show_curve(PlotCurve(PREDICTED, GRID_HZ, predicted.group_delay_ms), pen)
            if not self._delay_fits:
                highest = float(np.percentile(np.abs(predicted.group_delay_ms), 99))
                self.delay.set_levels(-0.2 * highest, 1.2 * highest)
                self._delay_fits = True
        elif self._pole_map is not None and self._pole_map.poles.size == predicted.poles.size:
            self.poles.show_map(replace(self._pole_map, poles=predicted.poles), pen.color().name())

    def _offer_references(self, predicted: Predicted) -> None:
        names = [INPUT, *(mode for i, mode in enumerate(predicted.modes) if i != predicted.chosen)]
        if [self.reference.itemText(i) for i in range(self.reference.count())] != names:
            before = self.reference.currentText()
            self.reference.clear()
            self.reference.addItems(names)
            self.reference.setCurrentText(before if before in names else INPUT)

    def _show_reference(self, page: int) -> None:
        self._against.setVisible(page == PHASE)
        self.reference.setVisible(page == PHASE)

    def _phase(self, predicted: Predicted) -> FloatArray:
        """Of the chosen mode against what is chosen: the input, or another mode."""
        against = self.reference.currentText()
        if against not in predicted.modes:
            return predicted.phase_deg
        return phase_between(predicted.gain[predicted.chosen], predicted.gain[predicted.modes.index(against)])

    def _against_another(self) -> None:
        predicted = self._predicted
        if predicted is None:
            return
        between = self.reference.currentText() in predicted.modes
        if between:  # a measured mode is measured against the input only
            self.phase.forget(MEASURED)
        self._draw_chosen()
        if not between and self._measured is not None:
            self._draw_measured_phase(*self._measured)
        self.fit_phase()
        self.phase.say_note(
            f"{predicted.modes[predicted.chosen]} against {self.reference.currentText()}, predicted" if between else ""
        )

    def show_poles(self, pole_map: PoleMap, colour: str) -> None:
        self._pole_map = pole_map
        if self._stack.currentIndex() == POLES:
            self.poles.show_map(pole_map, colour)

    def show_measured(self, curve: Table, pen: QPen) -> None:
        """The measured curve in every figure that has one."""
        self._measured = curve, pen
        if self.reference.currentText() in (INPUT, ""):
            self._draw_measured_phase(curve, pen)
        hertz, level, snr = curve["frequency_hz"], curve["magnitude_db"], curve["snr_db"]
        loud, sure = (above_noise(hertz, level, snr, least) for least in (CLEAR_SNR_DB, STEEP_SNR_DB))
        self.right.offer(MEASURED, hertz[loud], level[loud])
        if sure.sum() > 48:
            slope = local_slope(hertz[sure], level[sure])
            whole = slice(8, -8)  # a sixth of an octave: beyond, the window reaches over the end
            self.slope.show_curve(PlotCurve(MEASURED, hertz[sure][whole], slope[whole]), pen, still=True)

    def _draw_measured_phase(self, curve: Table, pen: QPen) -> None:
        clear = above_noise(curve["frequency_hz"], curve["magnitude_db"], curve["snr_db"], CLEAR_SNR_DB)
        frequency_hz, phase = curve["frequency_hz"][clear], curve["phase_deg"][clear]
        if not phase.size:
            return
        if self._predicted is not None:
            # Whole turns cannot be measured: lay the curve on the branch of the predicted one.
            expected = np.interp(frequency_hz, GRID_HZ, self._predicted.phase_deg)
            phase = phase - 360 * np.round(np.median(phase - expected) / 360)
        self.phase.show_curve(PlotCurve(MEASURED, frequency_hz, phase), pen, still=True)
        self.fit_phase()

    def offer_runs(self, runs: Mapping[str, int]) -> None:
        """Every other run in the book: nothing to look at, but to be taken away from another curve."""
        self.right.offer_runs(runs)

    def forget_measured(self) -> None:
        self._measured = None
        for figure in (self.phase, self.slope):
            figure.forget(MEASURED)
        self.right.withdraw(MEASURED)

    def fit(self) -> None:
        """Ranges that hold what is shown."""
        self.fit_phase()
        self._delay_fits = False
        self._draw_chosen()

    def fit_phase(self) -> None:
        curves = [curve.values for name in (PREDICTED, MEASURED) if (curve := self.phase.curve(name)) is not None]
        if not curves:
            return
        lowest = min(float(values.min()) for values in curves)
        highest = max(float(values.max()) for values in curves)
        low, high = 90 * math.floor((lowest - 20) / 90), 90 * math.ceil((highest + 20) / 90)
        self.phase.set_levels(low - 15, high + 15)
