"""The Response step as widgets: magnitude large, phase and local slope under it, settings and findings beside."""

from __future__ import annotations

import math
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QPen
from PyQt6.QtWidgets import (
    QStackedWidget,
)

from jiyuu.circuits.components import Components
from jiyuu.circuits.linear import level_db
from jiyuu.desktop.bench.frame import FoundPage, SideColumn, stacked
from jiyuu.desktop.bench.measure_bar import MeasuringView
from jiyuu.desktop.bench.page_buttons import page_buttons
from jiyuu.desktop.bench.response.circuit_page import CircuitPage
from jiyuu.desktop.bench.response.prediction import GRID_HZ, Predicted
from jiyuu.desktop.bench.response.presenter import Measured, ResponsePresenter
from jiyuu.desktop.bench.response.previews import AtLevel, Beside
from jiyuu.desktop.bench.response.settings_form import SettingsForm
from jiyuu.desktop.bench.response.support import MEASURED, SupportFigures
from jiyuu.desktop.bench.still_label import StillLabel
from jiyuu.desktop.figures.frequency_figure import FrequencyFigure, follow_each_other
from jiyuu.desktop.figures.pole_map import PoleMap
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.theme.style import THEME
from jiyuu.quantities import note_and_cents, signed

BUILDS = "builds"
STALE_BAND_DB = 2.0  # half width of the hatching around a curve that is out of date


class ResponseView(MeasuringView):
    """`figures` and `side` are placed by the window; everything else goes through the presenter."""

    def __init__(self, presenter: ResponsePresenter) -> None:
        self._presenter = presenter
        self._measured: Measured | None = None
        self._predicted: Predicted | None = None
        self._last_predicted: tuple[Any, ...] = ()
        self._preview_names: set[str] = set()
        self._beside_name: str | None = None
        self._shown_parameters: dict[str, float] | None = None
        self._shown_circuit = ""
        self._build_figures()
        self._build_side()
        presenter.settings.connect(self._show_settings)
        presenter.predicted.connect(self._show_predicted)
        presenter.measured.connect(self._show_measured)
        presenter.others_measured.connect(lambda runs: self.support.offer_runs(runs))
        presenter.findings.connect(self._show_findings)
        presenter.predicted_findings.connect(self._show_predicted_findings)
        presenter.poles_traced.connect(self._show_poles)
        presenter.components.connect(self._show_components)
        presenter.beside.connect(self._show_beside)
        presenter.previews.ready.connect(self._show_preview)
        presenter.previews.gone.connect(self._clear_preview)

    # Building

    def _build_figures(self) -> None:
        self.level = FrequencyFigure(
            title="Level re the input, dB", unit="dB", level_steps=(6.0, 12.0, 24.0), strong_step=12.0
        )
        self.support = SupportFigures(self._presenter.sound, self._presenter.curve_of)
        self.phase, self.slope = self.support.phase, self.support.slope
        self._over_frequency = (self.level, *self.support.over_frequency)
        follow_each_other(*self._over_frequency)
        for figure in self._over_frequency:
            figure.cutoff_dragged.connect(self._presenter.try_cutoff)
            figure.cutoff_dropped.connect(self._presenter.set_cutoff)
            figure.cutoff_reset.connect(lambda: self._presenter.reset("cutoff_hz"))
        self.figures = stacked(self.level, self.support, shares=(68, 32))

    def _build_side(self) -> None:
        presenter = self._presenter
        self.side = column = SideColumn()
        self.circuit = column.circuit
        self.form = SettingsForm(presenter)
        self.mode, self.cutoff, self.resonance, self.travel = (
            self.form.mode, self.form.cutoff, self.form.resonance, self.form.travel
        )
        self.at_level, self.band, self.beside = self.form.at_level, self.form.band, self.form.beside
        self.only = self.form.only
        self.only.toggled.connect(lambda _: self._draw_modes_anew())
        column.add(self.form)
        self.gain = StillLabel(lines=2)
        column.add(self.gain)
        self.bar = self._measure_bar("Plays two sweeps through the simulated unit and measures the recording.")
        self.measure, self.cancel, self.keep = self.bar.measure, self.bar.cancel, self.bar.keep
        column.add(self.bar)
        found = FoundPage(presenter)
        self.heading, self.findings = found.heading, found.findings
        self.circuit_page = CircuitPage()
        self.circuit_page.changed.connect(presenter.set_parameter)
        self.circuit_page.reset.connect(presenter.reset_parameter)
        self.circuit_page.components.changed.connect(presenter.set_component)
        self.circuit_page.components.preferred.connect(presenter.prefer_capacitor)
        self.circuit_page.refused.connect(lambda text: presenter.message.emit(text, True))
        self.pages = QStackedWidget()
        self.pages.addWidget(found)
        self.pages.addWidget(self.circuit_page)
        row, self.page_choice = page_buttons(("Findings", "Circuit"), self.pages)
        column.add(row)
        column.add(self.pages, 1)

    # What the presenter says

    def _show_settings(self, settings: dict[str, Any]) -> None:
        shelved = self._presenter.shelved
        assert shelved is not None
        document = self._presenter.document
        if self.mode.show_mode(document.entry.modes, settings["mode"]):
            for figure in self._over_frequency:
                figure.forget(*figure.shown_names())
        self.side.name(shelved.letter, document)
        self.circuit.setToolTip(document.entry.explanation)
        self.cutoff.set_value(settings["cutoff_hz"])
        self.resonance.set_value(settings["resonance_percent"])
        if not self.travel.isSliderDown():
            self.travel.setValue(round(settings["resonance_percent"] * 10))
        self.at_level.set_value(settings["level_v"] or 0.0)
        if settings["parameters"] != self._shown_parameters or document.entry.id != self._shown_circuit:
            self._shown_parameters, self._shown_circuit = dict(settings["parameters"]), document.entry.id
            self.circuit_page.show_circuit(document.entry, settings["parameters"])
        gain, onset = document.gain_at(settings["resonance_percent"]), self._presenter.onset_gain
        note, cents = note_and_cents(settings["cutoff_hz"])
        share = "" if onset is None else f", {100 * gain / onset:.0f} % of onset"
        self.gain.setText(f"{note} {signed(cents, 0)} cents. Loop gain k = {gain:.3g}{share}.")
        self.form.named.setCurrentText(settings["cutoff_named"])
        self._show_cutoff(settings["cutoff_hz"])

    def _show_cutoff(self, cutoff_hz: float) -> None:
        text = self._presenter.cutoff_said(self._last_predicted)
        for figure in self._over_frequency:
            figure.show_cutoff(cutoff_hz, text if figure is self.level else "")

    def _show_beside(self, other: Beside | None, level: Any) -> None:
        self.form.offer_beside(self._presenter.others(), self._presenter.current()["beside"])
        if self._beside_name is not None and (other is None or other.name != self._beside_name):
            self.level.forget(self._beside_name)
            self.support.right.withdraw(self._beside_name)
            self._beside_name = None
        if other is not None:
            self._beside_name = other.name
            self.support.right.offer(other.name, GRID_HZ, level)
            ink = THEME.palette.ink_of(other.letter)
            self.level.show_curve(PlotCurve(other.name, GRID_HZ, level), ink.pen(1.8), labelled=True, colour=ink.colour)

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
            if not chosen and self.only.isChecked():
                self.level.forget(mode)
                continue
            self.level.show_curve(
                PlotCurve(mode, GRID_HZ, predicted.level_db[i]), ink.pen(1.8) if chosen else quiet, labelled=True,
                colour=ink.colour if chosen else palette.quiet,
            )
        self.support.show_predicted(predicted, ink.pen(1.8))
        self._say_state()

    def _draw_modes_anew(self) -> None:
        self._draw_predicted()
        self.level.place_labels()

    def _fit(self) -> None:
        predicted = self._predicted
        assert predicted is not None
        top = max(12.0, 6 * math.ceil((float(predicted.level_db.max()) + 9) / 6))
        self.level.getPlotItem().setYRange(-78, top, padding=0)
        self.support.fit()

    def _show_components(self, components: Components) -> None:
        shelved = self._presenter.shelved
        if shelved is not None:
            now = self._presenter.current()
            self.circuit_page.components.show_values(shelved.document.circuit, components, now["cutoff_hz"])

    def _show_poles(self, pole_map: PoleMap) -> None:
        shelved = self._presenter.shelved
        if shelved is not None:
            self.support.show_poles(pole_map, THEME.palette.ink_of(shelved.letter).colour)

    def _show_preview(self, step: object) -> None:
        from jiyuu.rig.response_run import Progress
        from jiyuu.rig.tolerance_study import ToleranceStudy, spoken

        if isinstance(step, AtLevel):
            found = step.response
            own = step.letter is None
            colour = THEME.palette.ink if step.letter is None else THEME.palette.ink_of(step.letter).colour
            name = f"at {found.level_v:.3g} V" if own else f"{step.letter} at {found.level_v:.3g} V"
            self._preview_names.add(name)
            self.level.show_curve(
                PlotCurve(name, found.frequency_hz, level_db(found.gain[0])),
                QPen(QColor(colour), 1.6, Qt.PenStyle.DashLine), labelled=True, colour=colour,
            )
            self.level.place_labels()
        elif isinstance(step, ToleranceStudy):
            self._preview_names.add(BUILDS)
            self.level.show_band(BUILDS, step.frequency_hz, step.level_db[0], step.level_db[2], THEME.palette.quiet,
                                 hatched=False)
            self.level.say_note(spoken(step))
        elif isinstance(step, Progress):
            self.level.say_note(f"{step.text} …")

    def _clear_preview(self) -> None:
        self.level.forget(*self._preview_names)
        self._preview_names.clear()
        self.level.say_note("")

    def _show_measured(self, measured: Measured | None) -> None:
        self._measured = measured
        self.level.forget(MEASURED, "band")
        self.support.forget_measured()
        if measured is not None:
            self._draw_measured(measured)
        self._say_state()

    def _draw_measured(self, measured: Measured) -> None:
        shelved = self._presenter.shelved
        assert shelved is not None
        palette = THEME.palette
        colour = palette.ink_of(shelved.letter).colour
        curve = measured.curve
        shown = curve.snr_db > 6
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
        self.support.show_measured(curve, shade, pen.widthF())

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
        self._show_cutoff(self._presenter.current()["cutoff_hz"])
        self.level.place_labels()  # the hand has slowed down
        self.support.right.settle()
        if not self._has_logged:
            self.findings.show_predicted(findings)

    def restyle(self) -> None:
        """Draw again in the theme's colours."""
        self.gain.restyle()
        self.circuit_page.restyle()
        if self._presenter.shelved is None:
            return
        self._draw_predicted()
        self._show_measured(self._measured)
        self.support.right.restyle()
