"""The Response step as widgets: magnitude large, phase and local slope under it, settings and findings beside."""

from __future__ import annotations

import math

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QStackedWidget

from jiyuu.arrays import FloatArray
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.circuits.linear import level_db
from jiyuu.desktop.figures.frequency_figure import Following, FrequencyFigure
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.parts.frame import SideColumn, stacked
from jiyuu.desktop.parts.page_buttons import page_buttons
from jiyuu.desktop.parts.still_label import StillLabel
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.response.circuit_page import CircuitPage
from jiyuu.desktop.steps.response.presenter import AtLevel, Beside, Measured, Read, ResponsePresenter
from jiyuu.desktop.steps.response.settings_form import SettingsForm
from jiyuu.desktop.steps.response.support import MEASURED, SupportFigures
from jiyuu.desktop.steps.step_view import Act, StepView
from jiyuu.desktop.theme.pens import cosmetic, measured_pen, pen_of
from jiyuu.desktop.theme.style import THEME
from jiyuu.measurement.curve_reading import above_noise
from jiyuu.prediction.response import GRID_HZ, Predicted
from jiyuu.quantities import note_and_cents, signed

BUILDS = "builds"
STALE_BAND_DB = 2.0  # half width of the hatching around a curve that is out of date


class ResponseView(StepView):
    """The curves of every mode, the chosen one in the filter's ink."""

    presenter: ResponsePresenter

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self.presenter = presenter = ResponsePresenter(session, measuring, step)
        self._measured: Measured | None = None
        self._predicted: Predicted | None = None
        self._preview_names: set[str] = set()
        self._beside_name: str | None = None
        self._shown_circuit: object = None
        self._build_figures()
        self._build_side()
        self.acts = (Act("builds", "Band of 1000 &builds", "B", self.band.toggle),
                     Act("one_mode", "&One mode or all", "O", self.only.toggle))
        presenter.predicted.connect(self._show_predicted)
        presenter.measured.connect(self._show_measured)
        presenter.others_measured.connect(self.support.offer_runs)
        presenter.read.connect(self._show_read)
        presenter.beside.connect(self._show_beside)
        presenter.preview.connect(self._show_preview)
        presenter.preview_gone.connect(self._clear_preview)
        self.connect()

    # Building

    def _build_figures(self) -> None:
        presenter = self.presenter
        self.level = self.main_figure = FrequencyFigure(
            title="Level re the input, dB", unit="dB", level_steps=(6.0, 12.0, 24.0), strong_step=12.0
        )
        self._over_frequency: list[FrequencyFigure] = []
        self._following = Following()
        self._join(self.level)
        self.support = SupportFigures(presenter.sound, presenter.curve_of, self._join)
        self.phase, self.slope = self.support.phase, self.support.slope
        self.figures = stacked(self.level, self.support, shares=(68, 32))

    def _join(self, figure: FrequencyFigure) -> None:
        """One more that shows the cutoff, and lets it be moved."""
        presenter = self.presenter
        figure.cutoff_dragged.connect(presenter.try_cutoff)
        figure.cutoff_dropped.connect(presenter.set_cutoff)
        figure.cutoff_reset.connect(lambda: presenter.reset("cutoff_hz"))
        self._following.join(figure)
        self._over_frequency.append(figure)
        if self._predicted is not None:
            figure.show_cutoff(presenter.now().standing_hz, "")

    def _build_side(self) -> None:
        presenter = self.presenter
        self.side = self.column = column = SideColumn()
        self.form = SettingsForm(presenter)
        self.mode, self.cutoff, self.resonance = self.form.mode, self.form.cutoff, self.form.resonance
        self.band, self.only = self.form.band, self.form.only
        self.only.toggled.connect(lambda _: self._draw_modes_anew())
        column.add(self.form)
        self.gain = StillLabel(lines=2)
        column.add(self.gain)
        column.add(self.measure_bar())
        found = self.found_page()
        self.circuit_page = CircuitPage()
        self.circuit_page.changed.connect(presenter.set_parameter)
        self.circuit_page.reset.connect(lambda name: presenter.set_parameter(name, None))
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

    def show_standing(self, standing: Standing) -> None:
        entry = standing.document.entry
        assert self.column is not None
        self.column.circuit.setToolTip(entry.explanation)
        self.form.show_standing(standing, self.presenter.setting)
        if self._predicted is not None and self._predicted.modes != standing.outputs:
            for figure in self._over_frequency:
                figure.forget(*figure.shown_names())
        shown = (entry.id, dict(standing.parameters), standing.components, standing.cutoff_hz)
        if shown != self._shown_circuit and not self.presenter.dragging:
            self._shown_circuit = shown
            self.circuit_page.show_circuit(entry, standing.parameters)
            self.circuit_page.components.show_values(entry.id, standing.component_values, standing.cutoff_hz)
        note, cents = note_and_cents(standing.standing_hz)
        onset = None if self.presenter.shelved is None else self._session.standing().onset
        share = "" if onset is None or not onset.gain else f", {100 * standing.gain / onset.gain:.0f} % of onset"
        self.gain.setText(f"{note} {signed(cents, 0)} cents. Loop gain k = {standing.gain:.3g}{share}.")
        self._show_cutoff(standing.standing_hz)

    def _show_cutoff(self, cutoff_hz: float) -> None:
        text = self.presenter.cutoff_said()
        for figure in self._over_frequency:
            figure.show_cutoff(cutoff_hz, text if figure is self.level else "")

    def _show_beside(self, other: Beside | None, level: FloatArray) -> None:
        if not self.presenter.dragging:
            self.form.offer_beside(self.presenter.others(), self.presenter.setting.beside)
        if self._beside_name is not None and (other is None or other.name != self._beside_name):
            self.level.forget(self._beside_name)
            self.support.right.withdraw(self._beside_name)
            self._beside_name = None
        if other is not None:
            self._beside_name = other.name
            self.support.right.offer(other.name, GRID_HZ, level)
            ink = THEME.palette.ink_of(other.letter)
            self.level.show_curve(PlotCurve(other.name, GRID_HZ, level), pen_of(ink, 1.8), labelled=True,
                                  colour=ink.colour)

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
        if predicted is None:
            return
        palette = THEME.palette
        ink, quiet = palette.ink_of(self.presenter.letter), cosmetic(palette.quiet, 0.9)
        order = sorted(range(len(predicted.modes)), key=lambda i: i == predicted.chosen)  # the chosen one on top
        for i in order:
            mode, chosen = predicted.modes[i], i == predicted.chosen
            if not chosen and self.only.isChecked():
                self.level.forget(mode)
                continue
            self.level.show_curve(
                PlotCurve(mode, GRID_HZ, predicted.level_db[i]), pen_of(ink, 1.8) if chosen else quiet, labelled=True,
                colour=ink.colour if chosen else palette.quiet,
            )
        self.support.show_predicted(predicted, pen_of(ink, 1.8))
        self._say_state()

    def _draw_modes_anew(self) -> None:
        self._draw_predicted()
        self.level.place_labels()

    def _fit(self) -> None:
        assert self._predicted is not None
        top = max(12.0, 6 * math.ceil((float(self._predicted.level_db.max()) + 9) / 6))
        self.level.set_levels(-78.0, top)
        self.support.fit()

    def _show_preview(self, step: object) -> None:
        from jiyuu.prediction.tolerance import ToleranceStudy
        from jiyuu.progress import Progress
        from jiyuu.wording.tolerance import builds_line

        if isinstance(step, AtLevel):
            found = step.response
            colour = THEME.palette.ink if step.letter is None else THEME.palette.ink_of(step.letter).colour
            name = f"{step.letter or ''} at {found.level_v:.3g} V".strip()
            self._preview_names.add(name)
            self.level.show_curve(
                PlotCurve(name, found.frequency_hz, level_db(found.gain[0])),
                cosmetic(colour, 1.6, Qt.PenStyle.DashLine), labelled=True, colour=colour,
            )
            self.level.place_labels()
        elif isinstance(step, Progress):
            self.level.say_note(f"{step.text} …")
        elif isinstance(step, ToleranceStudy):
            self._preview_names.add(BUILDS)
            self.level.show_band(BUILDS, step.frequency_hz, step.level_db[0], step.level_db[2], THEME.palette.quiet,
                                 hatched=False)
            self.level.say_note(builds_line(step))

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
        palette = THEME.palette
        stale = measured.stale_why is not None
        colour = palette.stale if stale else palette.ink_of(self.presenter.letter).colour
        curve = measured.curve
        shown = above_noise(curve["frequency_hz"], curve["magnitude_db"], curve["snr_db"])
        frequency_hz, level, doubt = (curve[name][shown] for name in ("frequency_hz", "magnitude_db", "uncertainty_db"))
        pen = measured_pen(colour, stale=stale)
        self.level.show_curve(PlotCurve(MEASURED, frequency_hz, level), pen, still=True)
        half = doubt + (STALE_BAND_DB if stale else 0.0)
        self.level.show_band("band", frequency_hz, level - half, level + half, colour, hatched=stale)
        self.support.show_measured(curve, pen)

    def _say_state(self) -> None:
        why = ""
        if self._measured is not None and self._measured.stale_why is not None:
            why = f"Measured curve out of date: {self._measured.stale_why}. Measure again (M)."
        if self._predicted is not None and self._predicted.oscillates:
            why = "Oscillates by itself at this resonance: the curve holds only for signals too small to notice."
        self.level.say_why(why)

    def _show_read(self, read: Read) -> None:
        """The hand has slowed down."""
        self._show_cutoff(self.presenter.now().standing_hz)
        self.support.show_poles(read.poles, THEME.palette.ink_of(self.presenter.letter).colour)
        self.level.place_labels()
        self.support.right.settle()

    def restyle(self) -> None:
        self.gain.restyle()
        self.circuit_page.restyle()
        self._draw_predicted()
        self._show_measured(self._measured)
        self.support.right.restyle()
