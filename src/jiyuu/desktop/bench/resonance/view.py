"""The Resonance step as widgets: the map large, the slice and the curves against the control under it."""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QPen
from PyQt6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QPushButton,
)

from jiyuu.circuits.control import Taper
from jiyuu.desktop.bench.frame import FoundPage, ModeBox, SideColumn, beside, form, stacked, under
from jiyuu.desktop.bench.knobs import cutoff_field, resonance_field
from jiyuu.desktop.bench.measure_bar import MeasuringView
from jiyuu.desktop.bench.resonance.presenter import (
    AUDITION_PERCENT,
    MeasuredResonance,
    ResonancePresenter,
    Said,
    Studied,
)
from jiyuu.desktop.figures.control_figure import ControlFigure
from jiyuu.desktop.figures.frequency_figure import FrequencyFigure, follow_each_other
from jiyuu.desktop.figures.mode_strip import ModeStrip
from jiyuu.desktop.figures.resonance_map_figure import ResonanceMapFigure
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.theme.style import THEME
from jiyuu.measurement.resonance_prediction import ResonanceMap
from jiyuu.quantities import shown_hz

SLICE, NO_RESONANCE = "at this position", "no resonance"
PEAK, BODY, OUTPUT, OTHER = "peak", "body", "output", "body, "
MEASURED_PEAK, MEASURED_BODY = "peak measured", "body measured"
OWN_TAPER = "as built"


class ResonanceView(MeasuringView):
    """`figures` and `side` are placed by the window; everything else goes through the presenter."""

    def __init__(self, presenter: ResonancePresenter) -> None:
        self._presenter = presenter
        self._map: ResonanceMap | None = None
        self._studied: Studied | None = None
        self._measured: MeasuredResonance | None = None
        self._build_figures()
        self._build_side()
        presenter.settings.connect(self._show_settings)
        presenter.mapped.connect(self._show_map)
        presenter.studied.connect(self._show_studied)
        presenter.findings.connect(self._show_findings)
        presenter.measured.connect(self._show_measured)

    # Building

    def _build_figures(self) -> None:
        presenter = self._presenter
        self.map = ResonanceMapFigure()
        self.slice = FrequencyFigure(title="Level at this position, dB re the input", unit="dB",
                                     level_steps=(6.0, 12.0, 24.0), strong_step=12.0, hertz=False)
        self.slice.getPlotItem().setYRange(-60, 30, padding=0)
        self.curves = ControlFigure(title="Against the control, dB", unit="dB", level_steps=(6.0, 12.0, 24.0),
                                    strong_step=12.0)
        self.curves.getPlotItem().setYRange(-24, 32, padding=0)
        for figure in (self.map, self.slice):
            figure.cutoff_dragged.connect(presenter.try_cutoff)
            figure.cutoff_dropped.connect(presenter.set_cutoff)
            figure.cutoff_reset.connect(lambda: presenter.reset("cutoff_hz"))
        for moved in (self.map, self.curves):
            moved.position_dragged.connect(presenter.try_resonance)
            moved.position_dropped.connect(presenter.set_resonance)
            moved.position_reset.connect(lambda: presenter.reset("resonance_percent"))
        follow_each_other(self.map, self.slice)
        self.modes = ModeStrip()
        self.modes.chosen.connect(presenter.set_mode)
        self.modes.refused.connect(lambda text: presenter.message.emit(text, True))
        presenter.every_mode.connect(lambda found: self.modes.show_modes(
            found, presenter.current()["mode"], THEME.palette.ink_of(presenter.letter).colour))
        self.figures = stacked(under(self.modes, self.map), beside(self.slice, self.curves), shares=(60, 40))

    def _build_side(self) -> None:
        presenter = self._presenter
        self.side = column = SideColumn()
        self.circuit = column.circuit
        fields = form()
        self.mode = ModeBox(presenter)
        self.cutoff, self.resonance = cutoff_field(presenter), resonance_field(presenter)
        self.taper = QComboBox()
        self.taper.setAccessibleName("Taper of the resonance control")
        self.taper.addItems([OWN_TAPER, *(taper.value for taper in Taper), "table"])
        self.taper.setToolTip("Law of the control in the drawing. 'Try the even one' puts the proposed one in.")
        self.taper.textActivated.connect(self._choose_taper)
        for name, field in (("Mode", self.mode), ("Cutoff", self.cutoff), ("Resonance", self.resonance),
                            ("Taper", self.taper)):
            fields.addRow(name, field)
        column.add(fields)
        row = QHBoxLayout()
        row.setSpacing(2)
        self.audition: dict[str, QPushButton] = {}
        for name, percent in AUDITION_PERCENT.items():
            button = QPushButton(name)
            button.setProperty("role", "page")
            button.setAccessibleName(f"Resonance {percent:.0f} %")
            if percent == 100:
                button.setToolTip("At the end of its travel a filter may howl at full level: listen low.")
            button.clicked.connect(lambda _=False, value=percent: presenter.set_resonance(value))
            self.audition[name] = button
            row.addWidget(button)
        column.add(row)
        self.propose = QPushButton("Try the even taper")
        self.propose.setToolTip("Puts the most even taper that could be built into the drawing; Ctrl+Z takes it back.")
        self.propose.clicked.connect(presenter.try_proposal)
        column.add(self.propose)
        self.bar = self._measure_bar("Sweeps the unit at 21 positions of its control and narrows down the onset.")
        column.add(self.bar)
        found = FoundPage(presenter)
        self.heading, self.findings = found.heading, found.findings
        column.add(found, 1)

    @property
    def main_figure(self) -> ResonanceMapFigure:
        return self.map

    # What the person does

    def _choose_taper(self, name: str) -> None:
        if name != "table":
            self._presenter.set_taper(None if name == OWN_TAPER else name)

    # What the presenter says

    def _show_settings(self, settings: dict[str, Any]) -> None:
        letter, document = self._presenter.letter, self._presenter.document
        self.mode.show_mode(document.entry.modes, settings["mode"])
        self.circuit.setText(f"{letter}  {document.name}, {document.entry.title}")
        self.cutoff.set_value(settings["cutoff_hz"])
        self.resonance.set_value(settings["resonance_percent"])
        taper = settings["resonance_taper"]
        self.taper.setCurrentText(OWN_TAPER if taper is None else taper if isinstance(taper, str) else "table")
        percent = settings["resonance_percent"]
        for name, button in self.audition.items():
            button.setCheckable(True)
            button.setChecked(abs(AUDITION_PERCENT[name] - percent) < 0.05)
        self.map.show_cutoff(settings["cutoff_hz"], f"cutoff (pole) {shown_hz(settings['cutoff_hz'])}")
        self.slice.show_cutoff(settings["cutoff_hz"], "")
        self.map.show_position(percent, f"{percent:.1f} %")
        self.curves.show_position(percent)

    def _show_map(self, found: ResonanceMap) -> None:
        now = self._presenter.current()
        self._map = found
        ink = THEME.palette.ink_of(self._presenter.letter)
        self.map.show_map(found, now["mode"], ink.colour)
        quiet = QPen(QColor(THEME.palette.quiet), 1.0)
        quiet.setCosmetic(True)
        first = self.slice.curve(SLICE) is None
        self.slice.show_curve(PlotCurve(NO_RESONANCE, found.frequency_hz, found.slice_db(now["mode"], 0.0)), quiet,
                              labelled=True)
        self.slice.show_curve(
            PlotCurve(SLICE, found.frequency_hz, found.slice_db(now["mode"], now["resonance_percent"])), ink.pen(1.8),
            labelled=True, colour=ink.colour,
        )
        whistles = found.onset_percent is not None and now["resonance_percent"] >= found.onset_percent
        self.slice.say_why("Oscillates by itself here: the curve is what the equations give." if whistles else "")
        if first:
            self.slice.place_labels()
        else:
            self.slice.move_labels()
        self.curves.show_onset(found.onset_percent)

    def _show_studied(self, studied: Studied) -> None:
        self._studied = studied
        palette = THEME.palette
        ink = palette.ink_of(self._presenter.letter)
        curves, figure = studied.study.curves, self.curves
        figure.forget(*(name for name in figure.shown_names() if name.startswith((OTHER, OUTPUT, PEAK, BODY))
                        and name not in (MEASURED_PEAK, MEASURED_BODY)))
        amount = curves.amount_db
        if amount is not None:
            figure.show_curve(PlotCurve(PEAK, curves.position_percent, np.clip(amount, -90, 40)), ink.pen(1.8),
                              labelled=True, colour=ink.colour)
        body = QPen(QColor(palette.ink), 1.6)
        body.setCosmetic(True)
        figure.show_curve(PlotCurve(BODY, curves.position_percent, curves.body_db), body, labelled=True,
                          colour=palette.ink)
        output = studied.output
        dashed = QPen(QColor(palette.quiet), 1.6, Qt.PenStyle.DashLine)
        dashed.setCosmetic(True)
        name = f"{OUTPUT}, simulated" if output.simulated else OUTPUT
        change = np.clip(output.output_db - output.output_db[0], -90, 40)
        figure.show_curve(PlotCurve(name, output.position_percent, change), dashed, labelled=True)
        if studied.other is not None:
            dotted = QPen(QColor(palette.quiet), 1.2, Qt.PenStyle.DotLine)
            dotted.setCosmetic(True)
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
            (MEASURED_PEAK, measured.amount_db, palette.ink_of(self._presenter.letter).colour),
            (MEASURED_BODY, measured.body_db, palette.ink),
        ):
            shade = QColor(palette.stale if stale else colour)
            shade.setAlpha(140)
            pen = QPen(shade, 1.6 if stale else 4.5)
            pen.setCosmetic(True)
            self.curves.show_curve(PlotCurve(name, measured.position_percent, values), pen, still=True)
        self.curves.say_why(f"Measured curves out of date: {measured.stale_why}. Measure again (M)." if stale else "")

    def _show_findings(self, said: Said) -> None:
        self.heading.setText(said.heading)
        self.findings.show_logged(said.logged, said.predicted)
        self.bar.keep.setEnabled(bool(said.logged))

    def restyle(self) -> None:
        """Draw again in the theme's colours."""
        if self._presenter.shelved is None or self._map is None:
            return
        self._show_map(self._map)
        self.modes.restyle(THEME.palette.ink_of(self._presenter.letter).colour)
        if self._studied is not None:
            self._show_studied(self._studied)
        self._show_measured(self._measured)
