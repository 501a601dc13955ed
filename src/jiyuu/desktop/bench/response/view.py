"""The Response step as widgets: magnitude large, phase and local slope under it, settings and findings beside."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QPen
from PyQt6.QtWidgets import (
    QComboBox,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QProgressBar,
    QPushButton,
    QSlider,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from jiyuu.desktop.bench.findings_list import FindingsList
from jiyuu.desktop.bench.response.presenter import GRID_HZ, Measured, Predicted, ResponsePresenter
from jiyuu.desktop.bench.still_label import StillLabel
from jiyuu.desktop.bench.typed_value import TypedValue
from jiyuu.desktop.figures.figure import FrequencyFigure, PlotCurve, follow_each_other
from jiyuu.desktop.theme.style import STEP, THEME
from jiyuu.errors import JiyuuError
from jiyuu.measurement.curve_reading import local_slope
from jiyuu.quantities import note_and_cents, parse_frequency, parse_number, shown_hz, signed

MEASURED = "measured"
STALE_BAND_DB = 2.0  # half width of the hatching around a curve that is out of date


class ResponseView:
    """`figures` and `side` are placed by the window; everything else goes through the presenter."""

    def __init__(self, presenter: ResponsePresenter) -> None:
        self._presenter = presenter
        self._measured: Measured | None = None
        self._predicted: Predicted | None = None
        self._modes: tuple[str, ...] = ()
        self._last_predicted: tuple[Any, ...] = ()
        self._build_figures()
        self._build_side()
        presenter.settings.connect(self._show_settings)
        presenter.predicted.connect(self._show_predicted)
        presenter.measured.connect(self._show_measured)
        presenter.findings.connect(self._show_findings)
        presenter.predicted_findings.connect(self._show_predicted_findings)
        presenter.busy.connect(self._show_busy)
        presenter.progress.connect(self._show_progress)

    # Building

    def _build_figures(self) -> None:
        self.level = FrequencyFigure(
            title="Level re the input, dB", unit="dB", level_steps=(6.0, 12.0, 24.0), strong_step=12.0
        )
        self.phase = FrequencyFigure(
            title="Phase, chosen mode", unit="°", level_steps=(45.0, 90.0, 180.0), strong_step=180.0, hertz=False
        )
        self.slope = FrequencyFigure(
            title="Local slope, dB per octave", unit="dB/oct", level_steps=(6.0, 12.0), strong_step=12.0, hertz=False
        )
        self.slope.getPlotItem().setYRange(-32, 20, padding=0)
        follow_each_other(self.level, self.phase, self.slope)
        for figure in (self.level, self.phase, self.slope):
            figure.cutoff_dragged.connect(self._presenter.try_cutoff)
            figure.cutoff_dropped.connect(self._presenter.set_cutoff)
            figure.cutoff_reset.connect(lambda: self._presenter.reset("cutoff_hz"))
        below = QSplitter(Qt.Orientation.Horizontal)
        below.addWidget(self.phase)
        below.addWidget(self.slope)
        self.figures = QSplitter(Qt.Orientation.Vertical)
        self.figures.addWidget(self.level)
        self.figures.addWidget(below)
        self.figures.setStretchFactor(0, 68)
        self.figures.setStretchFactor(1, 32)
        for splitter in (below, self.figures):
            splitter.setChildrenCollapsible(False)
            splitter.setHandleWidth(STEP)

    def _build_side(self) -> None:
        presenter = self._presenter
        self.side = QWidget()
        column = QVBoxLayout(self.side)
        column.setContentsMargins(2 * STEP, STEP, 2 * STEP, STEP)
        column.setSpacing(STEP)
        self.circuit = QLabel()
        self.circuit.setProperty("role", "heading")
        self.circuit.setWordWrap(True)
        column.addWidget(self.circuit)
        form = QFormLayout()
        form.setHorizontalSpacing(2 * STEP)
        form.setVerticalSpacing(STEP)
        self.mode = QComboBox()
        self.mode.setAccessibleName("Mode")
        self.mode.textActivated.connect(presenter.set_mode)
        self.cutoff = TypedValue(
            "Cutoff", parse=parse_frequency, show=shown_hz,
            stepped=lambda value, way, fine: value * 2 ** (way * (0.1 if fine else 1.0) / 12),
        )
        self.cutoff.setToolTip("Pole frequency of the tuned stages: 1k2, 440, A4 or 0.5 V; arrows move a semitone.")
        self.cutoff.entered.connect(presenter.set_cutoff)
        self.cutoff.reset.connect(lambda: presenter.reset("cutoff_hz"))
        self.cutoff.refused.connect(lambda text: presenter.message.emit(text, True))
        self.resonance = TypedValue(
            "Resonance", parse=_parse_percent, show=lambda value: f"{value:.4g} %",
            stepped=lambda value, way, fine: value + way * (0.1 if fine else 1.0),
        )
        self.resonance.setToolTip("Per cent of the control's travel. Double-click goes back to the filter's file.")
        self.resonance.entered.connect(presenter.set_resonance)
        self.resonance.reset.connect(lambda: presenter.reset("resonance_percent"))
        self.resonance.refused.connect(lambda text: presenter.message.emit(text, True))
        self.travel = QSlider(Qt.Orientation.Horizontal)
        self.travel.setRange(0, 1000)
        self.travel.setAccessibleName("Resonance travel")
        self.travel.sliderMoved.connect(lambda value: presenter.try_resonance(value / 10))
        self.travel.sliderReleased.connect(lambda: presenter.set_resonance(self.travel.value() / 10))
        self.travel.actionTriggered.connect(self._slider_stepped)
        for label, field in (("Mode", self.mode), ("Cutoff", self.cutoff), ("Resonance", self.resonance)):
            form.addRow(label, field)
        form.addRow("", self.travel)
        column.addLayout(form)
        self.gain = StillLabel(lines=2)
        column.addWidget(self.gain)
        buttons = QHBoxLayout()
        self.measure = QPushButton("Measure  M")
        self.measure.setProperty("main", True)
        self.measure.setToolTip("Plays two sweeps through the simulated unit and measures the recording.")
        self.measure.clicked.connect(presenter.measure)
        self.cancel = QPushButton("Cancel  Esc")
        self.cancel.clicked.connect(presenter.cancel)
        self.cancel.hide()
        self.keep = QPushButton("Keep  K")
        self.keep.setToolTip("Puts the chosen finding into the logbook, or takes it out.")
        buttons.addWidget(self.measure, 1)
        buttons.addWidget(self.cancel, 1)
        buttons.addWidget(self.keep, 1)
        column.addLayout(buttons)
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        self.bar.setAccessibleName("Progress of the measurement")
        self.bar.hide()
        column.addWidget(self.bar)
        self.heading = QLabel("Findings")
        self.heading.setProperty("role", "quiet")
        self.heading.setWordWrap(True)
        column.addWidget(self.heading)
        self.findings = FindingsList()
        self.findings.keep_toggled.connect(presenter.toggle_kept)
        self.keep.clicked.connect(self.keep_current)
        column.addWidget(self.findings, 1)

    # What the person does

    def keep_current(self) -> None:
        if not self.findings.keep_current():
            self._presenter.message.emit("Measure first (M), then choose a finding to keep.", False)

    def _slider_stepped(self, action: int) -> None:
        if not self.travel.isSliderDown():
            self._presenter.set_resonance(self.travel.sliderPosition() / 10)

    # What the presenter says

    def _show_settings(self, settings: dict[str, Any]) -> None:
        shelved = self._presenter.shelved
        assert shelved is not None
        document = shelved.document
        if self._modes != document.entry.modes:
            self._modes = document.entry.modes
            self.mode.clear()
            self.mode.addItems(self._modes)
            for figure in (self.level, self.phase, self.slope):
                figure.forget(*figure.shown_names())
        self.mode.setCurrentText(settings["mode"])
        self.circuit.setText(f"{shelved.letter}  {document.name}, {document.entry.title}")
        self.circuit.setToolTip(document.entry.explanation)
        self.cutoff.set_value(settings["cutoff_hz"])
        self.resonance.set_value(settings["resonance_percent"])
        if not self.travel.isSliderDown():
            self.travel.setValue(round(settings["resonance_percent"] * 10))
        gain, onset = document.gain_at(settings["resonance_percent"]), document.entry.onset_gain
        note, cents = note_and_cents(settings["cutoff_hz"])
        share = "" if onset is None else f", {100 * gain / onset:.0f} % of onset"
        self.gain.setText(f"{note} {signed(cents, 0)} cents. Loop gain k = {gain:.3g}{share}.")
        text = f"cutoff (pole) {shown_hz(settings['cutoff_hz'])}"
        for figure in (self.level, self.phase, self.slope):
            figure.show_cutoff(settings["cutoff_hz"], text if figure is self.level else "")

    def _show_predicted(self, predicted: Predicted) -> None:
        first = self._predicted is None or self._predicted.modes != predicted.modes
        self._predicted = predicted
        self._draw_predicted()
        if first:
            self._fit()
            self.level.place_labels()
        else:
            self.level.move_labels()

    def _draw_predicted(self) -> None:
        predicted = self._predicted
        shelved = self._presenter.shelved
        if predicted is None or shelved is None:
            return
        palette = THEME.palette
        ink = palette.ink_of(shelved.letter)
        quiet = QPen(QColor(palette.quiet), 0.9)
        quiet.setCosmetic(True)
        order = sorted(range(len(predicted.modes)), key=lambda i: i == predicted.chosen)  # the chosen one on top
        for i in order:
            mode = predicted.modes[i]
            chosen = i == predicted.chosen
            self.level.show_curve(
                PlotCurve(mode, GRID_HZ, predicted.level_db[i]), ink.pen(1.8) if chosen else quiet, labelled=True,
                colour=ink.colour if chosen else palette.quiet,
            )
        self.phase.show_curve(PlotCurve("predicted", GRID_HZ, predicted.phase_deg), ink.pen(1.8))
        self.slope.show_curve(PlotCurve("predicted", GRID_HZ, predicted.slope_db_per_octave), ink.pen(1.8))
        self._say_state()

    def _fit(self) -> None:
        predicted = self._predicted
        assert predicted is not None
        top = max(12.0, 6 * math.ceil((float(predicted.level_db.max()) + 9) / 6))
        self.level.getPlotItem().setYRange(-78, top, padding=0)
        self._fit_phase()

    def _fit_phase(self) -> None:
        curves = [curve.values for name in ("predicted", MEASURED) if (curve := self.phase.curve(name)) is not None]
        lowest = min(float(values.min()) for values in curves)
        highest = max(float(values.max()) for values in curves)
        low, high = 90 * math.floor((lowest - 20) / 90), 90 * math.ceil((highest + 20) / 90)
        self.phase.getPlotItem().setYRange(low - 15, high + 15, padding=0)

    def _show_measured(self, measured: Measured | None) -> None:
        self._measured = measured
        for figure in (self.level, self.phase, self.slope):
            figure.forget(MEASURED, "band")
        if measured is not None:
            self._draw_measured(measured)
        self._say_state()

    def _draw_measured(self, measured: Measured) -> None:
        shelved = self._presenter.shelved
        assert shelved is not None
        palette = THEME.palette
        colour = palette.ink_of(shelved.letter).colour
        curve = measured.curve
        shown = curve.snr_db > 3
        frequency_hz, level_db = curve.frequency_hz[shown], curve.level_db[shown]
        doubt = curve.uncertainty_db[shown]
        stale = measured.stale_why is not None
        shade = QColor(palette.stale if stale else colour)
        shade.setAlpha(150)
        pen = QPen(shade, 1.4 if stale else 4.5)
        pen.setCosmetic(True)
        self.level.show_curve(PlotCurve(MEASURED, frequency_hz, level_db), pen, still=True)
        half = doubt + (STALE_BAND_DB if stale else 0.0)
        self.level.show_band(
            "band", frequency_hz, level_db - half, level_db + half, palette.stale if stale else colour, hatched=stale
        )
        clear = curve.snr_db > 17  # below that the phase wanders by more than 10°
        frequency_hz, phase = curve.frequency_hz[clear], curve.phase_deg[clear]
        if self._predicted is not None:
            # Whole turns cannot be measured: lay the curve on the branch of the predicted one.
            expected = np.interp(frequency_hz, GRID_HZ, self._predicted.phase_deg)
            phase = phase - 360 * np.round(np.median(phase - expected) / 360)
        if phase.size:
            self.phase.show_curve(PlotCurve(MEASURED, frequency_hz, phase), pen, still=True)
            self._fit_phase()
        sure = curve.snr_db > 25
        if sure.sum() > 24:
            slope = local_slope(curve.frequency_hz[sure], curve.level_db[sure])
            self.slope.show_curve(PlotCurve(MEASURED, curve.frequency_hz[sure], slope), pen, still=True)

    def _say_state(self) -> None:
        why = ""
        if self._measured is not None and self._measured.stale_why is not None:
            why = f"Measured curve out of date: {self._measured.stale_why}. Measure again (M)."
        if self._predicted is not None and self._predicted.oscillates:
            why = "Oscillates by itself at this resonance: the curve holds only for signals too small to notice."
        self.level.say_why(why)

    def _show_findings(self, logged: list[Any]) -> None:
        self.keep.setEnabled(bool(logged))
        if logged:
            self.heading.setText("Measured. ± is 95 %. Choose one, K keeps it.")
            self.findings.show_logged(logged)
        else:
            self.heading.setText("Predicted from the circuit; nothing measured in this mode yet (M).")
            self.findings.show_predicted(self._last_predicted)
        self._has_logged = bool(logged)

    _has_logged = False

    def _show_predicted_findings(self, findings: tuple[Any, ...]) -> None:
        self._last_predicted = findings
        self.level.place_labels()  # the hand has slowed down
        if not self._has_logged:
            self.findings.show_predicted(findings)

    def _show_busy(self, busy: bool) -> None:
        self.measure.setVisible(not busy)
        self.cancel.setVisible(busy)
        self.bar.setVisible(busy)
        if not busy:
            self.bar.setValue(0)

    def _show_progress(self, text: str, share: float) -> None:
        self.bar.setValue(round(1000 * share))
        self.heading.setText(f"{text} …")

    def restyle(self) -> None:
        """Draw again in the theme's colours."""
        self.gain.restyle()
        if self._presenter.shelved is None:
            return
        self._draw_predicted()
        self._show_measured(self._measured)


def _parse_percent(text: str) -> float:
    value, unit = parse_number(text)
    if unit not in ("", "%") or not 0 <= value <= 100:
        raise JiyuuError(f"'{text}' is not a position of the control; type 0 to 100 %.")
    return value
