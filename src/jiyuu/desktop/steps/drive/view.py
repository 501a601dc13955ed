"""The Drive step as widgets: the ladder of levels large, harmonics and driven resonance under it."""

from __future__ import annotations

from functools import cached_property, partial

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QPushButton, QStackedWidget

from jiyuu.arrays import FloatArray
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.bench.steps.drive import DriveSetting
from jiyuu.circuits.linear import level_db
from jiyuu.desktop.figures.drive_figures import (
    OF_PEAK,
    BendFigure,
    DrivenPeakFigure,
    HarmonicsFigure,
    OfPeak,
    volts_text,
)
from jiyuu.desktop.figures.frequency_figure import FrequencyFigure
from jiyuu.desktop.figures.harmonic_bars import HarmonicBars
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.parts.frame import SideColumn, beside, stacked, under
from jiyuu.desktop.parts.knobs import by_name, model_field
from jiyuu.desktop.parts.later_pages import LaterPages
from jiyuu.desktop.parts.page_buttons import page_buttons
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.drive.bent_presenter import BentPresenter
from jiyuu.desktop.steps.drive.patched_page import PatchedPage
from jiyuu.desktop.steps.drive.presenter import DrivePresenter, MeasuredLadder
from jiyuu.desktop.steps.step_view import Act, StepView
from jiyuu.desktop.theme.pens import cosmetic, measured_pen, pen_of
from jiyuu.desktop.theme.style import THEME
from jiyuu.prediction.drive import DriveLadder
from jiyuu.prediction.drive_study import DriveStudy
from jiyuu.quantities import shown_hz
from jiyuu.wording.drive import CURVES

GAIN, THD, EVEN, ODD, STOPS = "gain", "THD", "even", "odd", "stops the whistle"
MEASURED_GAIN, MEASURED_THD = "gain measured", "THD measured"
FLOOR_PERCENT = 1e-4  # drawn no lower
EVEN_DB = np.arange(-40.0, 30.1, 2.0)  # of the tone figure's columns


def percent_db(percent: FloatArray) -> FloatArray:
    """dB re the first harmonic."""
    return level_db(np.maximum(percent, FLOOR_PERCENT) / 100)


class DriveView(StepView):
    """What becomes of a tone as it grows, of its harmonics, and of the resonance."""

    presenter: DrivePresenter

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self.presenter = presenter = DrivePresenter(session, measuring, step)
        self._study: DriveStudy | None = None
        self._measured: MeasuredLadder | None = None
        self._build_figures()
        self._build_side()
        presenter.driven.connect(self._show_study)
        presenter.measured.connect(self._show_measured)
        presenter.level_moved.connect(self._show_level)
        self.acts = (Act("make_good", "Make level &good", "G", presenter.make_good),)
        self.connect()

    # Building

    def _build_figures(self) -> None:
        self.bend = self.main_figure = BendFigure()
        self.harmonics, self.bars = HarmonicsFigure(), HarmonicBars()
        for figure in (self.bend, self.harmonics):
            self._levelled(figure)
        self.bars.refused.connect(self.refused)
        self._maps = LaterPages(*(partial(self._map, what) for what in OF_PEAK))
        row, self.map_choice = page_buttons(("Peak", "Width", "Pitch"), self._maps)
        self._above = QStackedWidget()
        self._above.addWidget(self.bend)
        below = beside(self.harmonics, self.bars, under(row, self._maps), sizes=(330, 120, 430))
        self.figures = stacked(self._above, below, shares=(54, 46))

    def _map(self, what: OfPeak) -> DrivenPeakFigure:
        """One of the maps, as it stands."""
        presenter, figure = self.presenter, DrivenPeakFigure(what)
        self._levelled(figure)
        figure.position_dragged.connect(presenter.try_resonance)
        figure.position_dropped.connect(presenter.set_resonance)
        figure.position_reset.connect(lambda: presenter.reset("resonance_percent"))
        if presenter.shelved is not None:
            self._show_position(figure, presenter.now())
            figure.show_level(presenter.setting.level_v)
        if self._study is not None:
            self._show_map(figure, self._study)
        return figure

    def _levelled(self, figure: BendFigure | HarmonicsFigure | DrivenPeakFigure) -> None:
        """The nominal level may be moved in it."""
        presenter = self.presenter
        figure.level_dragged.connect(presenter.try_level)
        figure.level_dropped.connect(presenter.set_level)
        figure.level_reset.connect(lambda: presenter.ask(level_v=DriveSetting().level_v))
        figure.refused.connect(self.refused)

    @cached_property
    def stops(self) -> FrequencyFigure:
        """In place of the ladder where it oscillates by itself; made when it first does."""
        presenter = self.presenter
        figure = FrequencyFigure(title="Level of a tone that stops the whistle, dB re 1 V peak", unit="dB",
                                 level_steps=(5.0, 10.0, 20.0), strong_step=20.0)
        figure.cutoff_dragged.connect(presenter.try_cutoff)
        figure.cutoff_dropped.connect(presenter.set_cutoff)
        figure.set_levels(-45, 40)
        self._above.addWidget(figure)
        return figure

    @property
    def maps(self) -> list[DrivenPeakFigure]:
        """Those that were opened so far."""
        return [page for page in self._maps.made if isinstance(page, DrivenPeakFigure)]

    def _build_side(self) -> None:
        presenter = self.presenter
        self.side = self.column = column = SideColumn()
        rows = self.knobs()
        self.level = model_field(DriveSetting, "level_v", by_name(presenter.ask, "level_v"), self.refused)
        self.tone = model_field(DriveSetting, "frequency_hz", by_name(presenter.ask, "frequency_hz"), self.refused,
                                default=100.0)
        rows.addRow("Nominal level", self.level)
        rows.addRow("Tone", self.tone)
        column.add(rows)
        self.good = QPushButton("Make level good  G")
        self.good.setToolTip("Sets the trim behind the filter so that it is as loud as its source; Ctrl+Z takes it "
                             "back.")
        self.good.clicked.connect(presenter.make_good)
        column.add(self.measure_bar(lead=self.good))
        self.bent = BentPresenter(self._session, presenter)
        self.bent.message.connect(presenter.message)
        self.patched = PatchedPage(presenter, self.bent)
        self.pages = QStackedWidget()
        self.pages.addWidget(self.found_page())
        self.pages.addWidget(self.patched)
        row, self.page_choice = page_buttons(("Findings", "Patched"), self.pages)
        column.add(row)
        column.add(self.pages, 1)

    # What the presenter says

    def show_standing(self, standing: Standing) -> None:
        setting: DriveSetting = self.presenter.setting
        self.level.set_value(setting.level_v)
        self.tone.set_value(setting.tone_hz(standing.standing_hz))
        self.patched.show_setting(setting)
        for one in self.maps:
            self._show_position(one, standing)
        self._show_cutoff(standing)
        self._show_level(setting.level_v)

    def _show_cutoff(self, standing: Standing) -> None:
        if self._above.currentWidget() is not self.bend:
            self.stops.show_cutoff(standing.standing_hz, f"cutoff (pole) {shown_hz(standing.standing_hz)}")

    @staticmethod
    def _show_position(figure: DrivenPeakFigure, standing: Standing) -> None:
        figure.show_position(standing.resonance_percent, f"{standing.resonance_percent:.1f} %")

    def _show_level(self, level_v: float) -> None:
        self.bend.show_level(level_v, f"nominal {volts_text(level_v)}")
        self.harmonics.show_level(level_v)
        for one in self.maps:
            one.show_level(level_v)
        ladder = None if self._study is None else self._study.ladder
        if ladder is None:
            self.bars.show_bars(None, "")
            return
        volts = np.array([level.input_peak_v for level in ladder.levels])
        table = np.array([level.harmonics_db for level in ladder.levels])
        place = np.log(level_v)
        behind = None if self._study is None else self._study.behind
        of_level = behind is not None and behind.headroom_v is not None and level_v == self.presenter.setting.level_v
        self.bars.show_bars(np.array([np.interp(place, np.log(volts), column) for column in table.T]),
                            f"at {volts_text(level_v)}", beside_db=behind.behind_db if behind and of_level else None,
                            beside=f"{CURVES[behind.kind]}, behind" if behind and of_level else "")

    def _show_study(self, study: DriveStudy) -> None:
        self._study = study
        self._draw_ladder(study.ladder)
        self._above.setCurrentWidget(self.stops if study.oscillates else self.bend)
        if study.oscillates:
            self._show_cutoff(self.presenter.now())
            self._draw_stops(study)
        for one in self.maps:
            self._show_map(one, study)
        self._show_level(self.presenter.setting.level_v)

    def _show_map(self, figure: DrivenPeakFigure, study: DriveStudy) -> None:
        none = np.zeros(0)
        if study.map is not None and study.position_percent is not None:
            figure.show_peaks(study.map, study.position_percent, THEME.palette.ink_of(self.presenter.letter).colour)
        figure.show_whistle(study.onset_percent, none if study.stop_v is None else level_db(study.stop_v),
                            none if study.stop_percent is None else study.stop_percent)
        figure.say_note("" if study.stop_v is None else "Red: the tone stops the whistle.")

    def _draw_stops(self, study: DriveStudy) -> None:
        figure, over = self.stops, study.over_range
        figure.forget(STOPS)
        there = np.zeros(0, dtype=bool) if over is None else np.isfinite(over.level_v)
        if over is None or there.sum() < 2:
            figure.say_note("" if over is None else "No tone up to 36 dB stops it here.")
            return
        figure.say_note("Oscillates by itself here. A tone louder than the line silences the whistle.")
        ink = THEME.palette.ink_of(self.presenter.letter)
        figure.show_curve(PlotCurve(STOPS, over.frequency_hz[there], level_db(over.level_v[there])), pen_of(ink, 2.2),
                          labelled=True, colour=ink.colour)
        figure.place_labels()

    def _draw_ladder(self, ladder: DriveLadder | None) -> None:
        figure, palette = self.bend, THEME.palette
        if ladder is None:
            figure.forget(GAIN, THD, EVEN, ODD)
            figure.show_marks([])
            self.harmonics.clear_harmonics()
            return
        restless = sum(not level.settled for level in ladder.levels)
        figure.say_note(f"{restless} levels did not settle: the filter adds tones of its own." if restless else "")
        ink = palette.ink_of(self.presenter.letter)
        db = level_db(np.array([level.input_peak_v for level in ladder.levels]))
        quiet = cosmetic(palette.quiet, 1.4, Qt.PenStyle.DashLine), cosmetic(palette.quiet, 1.4, Qt.PenStyle.DotLine)
        for name, values, pen, colour in (
            (GAIN, [level.gain_db for level in ladder.levels], cosmetic(palette.ink, 1.8), palette.ink),
            (EVEN, percent_db(np.array([level.even_percent for level in ladder.levels])), quiet[0], palette.quiet),
            (ODD, percent_db(np.array([level.odd_percent for level in ladder.levels])), quiet[1], palette.quiet),
            (THD, percent_db(np.array([level.thd_percent for level in ladder.levels])), pen_of(ink, 2.2), ink.colour),
        ):
            figure.show_curve(PlotCurve(name, db, np.asarray(values)), pen, labelled=True, colour=colour)
        lamp = self.presenter.setting.lamp_percent
        marks = [(f"{text} {volts_text(volts)}", volts) for text, volts in (
            ("1 % THD", ladder.thd_1_percent_v), (f"lamp, {lamp:g} %", ladder.lamp_v),
            ("1 dB compressed", ladder.compression_1db_v)) if volts is not None]
        figure.show_marks(marks)
        table = np.array([level.harmonics_db for level in ladder.levels])
        even = np.stack([np.interp(EVEN_DB, db, column) for column in table.T], axis=1)
        self.harmonics.show_harmonics(EVEN_DB, even, ink.colour)
        figure.place_labels()

    def _show_measured(self, measured: MeasuredLadder | None) -> None:
        self._measured = measured
        figure, palette = self.bend, THEME.palette
        figure.forget(MEASURED_GAIN, MEASURED_THD)
        if measured is None:
            figure.say_why("")
            return
        stale = measured.stale_why is not None
        db = level_db(measured.levels["input_peak_v"])
        thd = measured.levels["thd_percent"]
        known = thd > measured.levels["thd_uncertainty_percent"]  # else it is the noise that is drawn
        for name, places, values, colour in (
            (MEASURED_GAIN, db, measured.levels["gain_db"], palette.ink),
            (MEASURED_THD, db[known], percent_db(thd[known]), palette.ink_of(self.presenter.letter).colour),
        ):
            if places.size < 2:
                continue
            pen = measured_pen(palette.stale if stale else colour, stale=stale)
            figure.show_curve(PlotCurve(name, places, values), pen, still=True, dotted=True)
        figure.say_why(f"Measured curves out of date: {measured.stale_why}. Measure again (M)." if stale else "")

    def restyle(self) -> None:
        """Draw again in the theme's colours."""
        if self._study is not None:
            self._show_study(self._study)
        self._show_measured(self._measured)
