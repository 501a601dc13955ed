"""The Resonance step as widgets: the map large, the slice and the curves against the control under it."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QPushButton

from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.bench.steps.resonance import ResonanceSetting
from jiyuu.circuits.control import Taper
from jiyuu.desktop.figures.control_figure import ControlFigure
from jiyuu.desktop.figures.frequency_figure import Following, FrequencyFigure
from jiyuu.desktop.figures.mode_strip import ModeStrip
from jiyuu.desktop.figures.resonance_map_figure import ResonanceMapFigure
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.parts.frame import SideColumn, beside, narrow, stacked, under
from jiyuu.desktop.parts.knobs import model_field
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.resonance.presenter import AUDITION_PERCENT, MeasuredResonance, ResonancePresenter
from jiyuu.desktop.steps.step_view import StepView
from jiyuu.desktop.theme.pens import cosmetic, measured_pen, pen_of
from jiyuu.desktop.theme.style import THEME
from jiyuu.prediction.resonance import ResonanceMap
from jiyuu.prediction.resonance_levels import Studied
from jiyuu.quantities import shown_hz

SLICE, NO_RESONANCE = "at this position", "no resonance"
PEAK, BODY, OUTPUT, OTHER = "peak", "body", "output", "body, "
MEASURED_PEAK, MEASURED_BODY = "peak measured", "body measured"
OWN_TAPER = "as built"


class ResonanceView(StepView):
    """The map of the chosen mode, small ones of the others above it."""

    presenter: ResonancePresenter

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self.presenter = presenter = ResonancePresenter(session, measuring, step)
        self._map: ResonanceMap | None = None
        self._studied: Studied | None = None
        self._measured: MeasuredResonance | None = None
        self._build_figures()
        self._build_side()
        presenter.mapped.connect(self._show_map)
        presenter.studied.connect(self._show_studied)
        presenter.measured.connect(self._show_measured)
        self.connect()

    # Building

    def _build_figures(self) -> None:
        presenter = self.presenter
        self.map = self.main_figure = ResonanceMapFigure()
        self.slice = FrequencyFigure(title="Level at this position, dB re the input", unit="dB",
                                     level_steps=(6.0, 12.0, 24.0), strong_step=12.0)
        self.slice.set_levels(-60, 30)
        self.curves = ControlFigure(title="Against the control, dB", unit="dB", level_steps=(6.0, 12.0, 24.0),
                                    strong_step=12.0)
        self.curves.set_levels(-24, 32)
        for figure in (self.map, self.slice):
            figure.cutoff_dragged.connect(presenter.try_cutoff)
            figure.cutoff_dropped.connect(presenter.set_cutoff)
            figure.cutoff_reset.connect(lambda: presenter.reset("cutoff_hz"))
        for moved in (self.map, self.curves):
            moved.position_dragged.connect(presenter.try_resonance)
            moved.position_dropped.connect(presenter.set_resonance)
            moved.position_reset.connect(lambda: presenter.reset("resonance_percent"))
        self._following = Following(self.map, self.slice)
        self.modes = ModeStrip()
        self.modes.chosen.connect(presenter.set_mode)
        self.modes.refused.connect(lambda text: presenter.message.emit(text, True))
        presenter.every_mode.connect(lambda found: self.modes.show_modes(
            found, presenter.now().mode, THEME.palette.ink_of(presenter.letter).colour))
        self.figures = stacked(under(self.modes, self.map), beside(self.slice, self.curves), shares=(60, 40))

    def _build_side(self) -> None:
        presenter = self.presenter
        self.side = self.column = column = SideColumn()
        fields = self.knobs()
        self.taper = narrow(QComboBox())
        self.taper.setAccessibleName("Taper of the resonance control")
        self.taper.addItems([OWN_TAPER, *(taper.value for taper in Taper), "table"])
        self.taper.setToolTip("Law of the control in the drawing. 'Try the most even taper' puts the proposed one in.")
        self.taper.textActivated.connect(self._choose_taper)
        fields.addRow("Taper", self.taper)
        self.positions = model_field(ResonanceSetting, "positions", lambda count: presenter.ask(positions=round(count)),
                                     self.refused)
        fields.addRow("Positions", self.positions)
        column.add(fields)
        row = QHBoxLayout()
        row.setSpacing(2)
        self.audition: dict[str, QPushButton] = {}
        for name, percent in AUDITION_PERCENT.items():
            button = QPushButton(name)
            button.setProperty("role", "page")
            button.setCheckable(True)
            button.setAccessibleName(f"Resonance {percent:.0f} %")
            if percent == 100:
                button.setToolTip("At the end of its travel a filter may whistle at full level: listen low.")
            button.clicked.connect(lambda _=False, value=percent: presenter.set_resonance(value))
            self.audition[name] = button
            row.addWidget(button)
        column.add(row)
        self.propose = QPushButton("Try the most even taper")
        self.propose.setToolTip("Puts the most even taper that could be built into the drawing; Ctrl+Z takes it back.")
        self.propose.clicked.connect(presenter.try_proposal)
        column.add(self.propose)
        column.add(self.measure_bar())
        column.add(self.found_page(), 1)

    # What the person does

    def _choose_taper(self, name: str) -> None:
        if name != "table":
            self.presenter.set_taper(None if name == OWN_TAPER else name)

    # What the presenter says

    def show_standing(self, standing: Standing) -> None:
        taper, percent = standing.taper, standing.resonance_percent
        self.positions.set_value(self.presenter.setting.positions)
        self.taper.setCurrentText(OWN_TAPER if taper is None else str(taper) if isinstance(taper, Taper) else "table")
        for name, button in self.audition.items():
            button.setChecked(abs(AUDITION_PERCENT[name] - percent) < 0.05)
        self.map.show_cutoff(standing.standing_hz, f"cutoff (pole) {shown_hz(standing.standing_hz)}")
        self.slice.show_cutoff(standing.standing_hz, "")
        self.map.show_position(percent, f"{percent:.1f} %")
        self.modes.choose(standing.mode)
        self.curves.show_position(percent)

    def _show_map(self, found: ResonanceMap) -> None:
        now = self.presenter.now()
        self._map = found
        ink = THEME.palette.ink_of(self.presenter.letter)
        self.map.show_map(found, now.mode, ink.colour)
        quiet = cosmetic(THEME.palette.quiet, 1.0)
        first = self.slice.curve(SLICE) is None
        self.slice.show_curve(PlotCurve(NO_RESONANCE, found.frequency_hz, found.slice_db(now.mode, 0.0)), quiet,
                              labelled=True)
        self.slice.show_curve(
            PlotCurve(SLICE, found.frequency_hz, found.slice_db(now.mode, now.resonance_percent)),
            pen_of(ink, 1.8), labelled=True, colour=ink.colour,
        )
        whistles = found.onset_percent is not None and now.resonance_percent >= found.onset_percent
        self.slice.say_why("Oscillates by itself here: the curve is what the equations give." if whistles else "")
        if first:
            self.slice.place_labels()
        else:
            self.slice.move_labels()
        self.curves.show_onset(found.onset_percent)

    def _show_studied(self, studied: Studied) -> None:
        self._studied = studied
        palette = THEME.palette
        ink = palette.ink_of(self.presenter.letter)
        curves, figure = studied.study.curves, self.curves
        figure.forget(*(name for name in figure.shown_names() if name.startswith((OTHER, OUTPUT, PEAK, BODY))
                        and name not in (MEASURED_PEAK, MEASURED_BODY)))
        amount = curves.amount_db
        if amount is not None:
            figure.show_curve(PlotCurve(PEAK, curves.position_percent, np.clip(amount, -90, 40)), pen_of(ink, 1.8),
                              labelled=True, colour=ink.colour)
        body = cosmetic(palette.ink, 1.6)
        figure.show_curve(PlotCurve(BODY, curves.position_percent, curves.body_db), body, labelled=True,
                          colour=palette.ink)
        output = studied.output
        dashed = cosmetic(palette.quiet, 1.6, Qt.PenStyle.DashLine)
        name = f"{OUTPUT}, simulated" if output.simulated else OUTPUT
        change = np.clip(output.output_db - output.output_db[0], -90, 40)
        figure.show_curve(PlotCurve(name, output.position_percent, change), dashed, labelled=True)
        if studied.other is not None:
            dotted = cosmetic(palette.quiet, 1.2, Qt.PenStyle.DotLine)
            other = studied.other.curves
            figure.show_curve(PlotCurve(f"{OTHER}{studied.other_name}", other.position_percent, other.body_db), dotted,
                              labelled=True)
        figure.say_note(studied.study.why_no_taper)
        figure.place_labels()
        self.slice.place_labels()

    def _show_measured(self, measured: MeasuredResonance | None) -> None:
        self._measured = measured
        self.curves.forget(MEASURED_PEAK, MEASURED_BODY)
        if measured is None:
            self.curves.say_why("")
            return
        palette = THEME.palette
        stale = measured.stale_why is not None
        for name, values, colour in (
            (MEASURED_PEAK, measured.amount_db, palette.ink_of(self.presenter.letter).colour),
            (MEASURED_BODY, measured.body_db, palette.ink),
        ):
            pen = measured_pen(palette.stale if stale else colour, stale=stale)
            self.curves.show_curve(PlotCurve(name, measured.position_percent, values), pen, still=True,
                                   dotted=True)
        self.curves.say_why(f"Measured curves out of date: {measured.stale_why}. Measure again (M)." if stale else "")

    def restyle(self) -> None:
        """Draw again in the theme's colours."""
        if self._map is None:
            return
        self._show_map(self._map)
        self.modes.restyle(THEME.palette.ink_of(self.presenter.letter).colour)
        if self._studied is not None:
            self._show_studied(self._studied)
        self._show_measured(self._measured)
