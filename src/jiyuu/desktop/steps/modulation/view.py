"""The Modulation step as widgets: what sounds and where the cutoff goes large, the notes under it; the response at the
moment, and every control, below."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QStackedWidget

from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.bench.steps.modulation import ModulationSetting
from jiyuu.desktop.figures.controls_figure import ControlsFigure
from jiyuu.desktop.figures.frequency_figure import FrequencyFigure
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.figures.spectrogram_figure import SpectrogramFigure
from jiyuu.desktop.figures.staff_figure import StaffFigure
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.parts.frame import SideColumn, beside, stacked
from jiyuu.desktop.parts.model_form import ModelForm
from jiyuu.desktop.parts.page_buttons import page_buttons
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.modulation.moves_page import MovesPage
from jiyuu.desktop.steps.modulation.presenter import AtMoment, ModulationPresenter
from jiyuu.desktop.steps.modulation.scale_page import ScalePage
from jiyuu.desktop.steps.step_view import StepView
from jiyuu.desktop.theme.pens import cosmetic, pen_of
from jiyuu.desktop.theme.style import THEME
from jiyuu.prediction.moving import Moves, Spectrogram
from jiyuu.prediction.response import GRID_HZ
from jiyuu.quantities import shown_hz

THEN, REST = "at the moment", "at rest"
ASKED = ("seconds", "pulse_ms", "strike_v")


class ModulationView(StepView):
    """What moves the cutoff, how far, and where it is cut off."""

    presenter: ModulationPresenter

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self.presenter = presenter = ModulationPresenter(session, measuring, step)
        self._moves: Moves | None = None
        self._sound: Spectrogram | None = None
        self._at: AtMoment | None = None
        self._build_figures()
        self._build_side()
        presenter.moved.connect(self._show_moves)
        presenter.sounded.connect(self._show_sound)
        presenter.at_moment.connect(self._show_moment)
        presenter.struck.connect(self.scale_page.show_struck)
        presenter.moment_moved.connect(self._place_moment)
        self.connect()

    def _build_figures(self) -> None:
        presenter = self.presenter
        self.sound = self.main_figure = SpectrogramFigure()
        self.sound.bounds_dragged.connect(presenter.try_bounds)
        self.sound.bounds_dropped.connect(presenter.set_bounds)
        self.sound.moment_dragged.connect(presenter.try_moment)
        self.sound.moment_dropped.connect(presenter.set_moment)
        self.staff = StaffFigure()
        self.staff.step_changed.connect(presenter.change_step)
        self.response = FrequencyFigure(title="Level at the moment, dB re the input", unit="dB",
                                        level_steps=(3.0, 6.0, 12.0), strong_step=12.0)
        self.response.set_levels(-60, 24)
        self.response.cutoff_line.setMovable(False)
        self.controls = ControlsFigure()
        for figure in (self.sound, self.staff, self.response, self.controls):
            figure.refused.connect(self.refused)
        self.figures = stacked(self.sound, self.staff, beside(self.response, self.controls, sizes=(460, 420)),
                               shares=(52, 14, 34))

    def _build_side(self) -> None:
        presenter = self.presenter
        self.side = self.column = column = SideColumn()
        column.add(self.knobs())
        column.add(self.measure_bar())
        self.moves_page = MovesPage(presenter)
        self.asked = ModelForm(ModulationSetting, ASKED, presenter.ask, self.refused)
        column.add(self.asked.rows)
        self.pages = QStackedWidget()
        self.pages.addWidget(self.found_page())
        self.pages.addWidget(self.moves_page)
        self.scale_page = ScalePage(presenter)
        self.pages.addWidget(self.scale_page)
        row, self.page_choice = page_buttons(("Findings", "Moves", "Scale"), self.pages)
        column.add(row)
        column.add(self.pages, 1)

    # What the presenter says

    def show_standing(self, standing: Standing) -> None:
        setting: ModulationSetting = self.presenter.setting
        self.asked.show(setting)
        self.sound.show_length(setting.seconds)
        self.moves_page.show_setup(standing.setup)
        self.scale_page.show_setting(setting)
        self._place_moment(min(setting.moment_s, setting.seconds))

    def _place_moment(self, time_s: float) -> None:
        self.sound.show_moment(time_s)
        self.staff.show_moment(time_s)
        self.controls.show_moment(time_s)

    def _show_moves(self, moves: Moves | None) -> None:
        self._moves = moves
        target = self.presenter.cutoff_target
        setup = self.presenter.now().setup
        self.moves_page.show_moves(moves, target)
        if moves is None:
            self.sound.show_bounds(None, None)
            return
        ink = THEME.palette.ink_of(self.presenter.letter).colour
        self.staff.setVisible(setup.figure is not None)
        self.staff.show_figure(setup.figure, moves.notes, float(self.presenter.setting.seconds))
        self.controls.show_controls(moves.times_s, dict(moves.controls))
        span = moves.span(target)
        if span is None:
            standing_hz = self.presenter.now().standing_hz
            self.sound.show_cutoff(moves.times_s[[0, -1]], None, moves.times_s[[0, -1]] * 0 + standing_hz, ink)
            self.sound.show_bounds(None, None)
            self.sound.say_note("Nothing moves the cutoff.")
            return
        wanted = moves.wanted[target] if span.stopped_share else None
        self.sound.show_cutoff(moves.times_s, wanted, moves.values[target], ink)
        self.sound.show_bounds(span.wanted_least, span.wanted_greatest)
        self.sound.say_note(f"Cut off {100 * span.stopped_share:.3g} % of the time: its routes ask for more than it "
                            "can." if span.stopped_share else "")

    def _show_sound(self, found: Spectrogram | None) -> None:
        self._sound = found
        self.sound.show_sound(found, THEME.palette.ink_of(self.presenter.letter).colour)

    def _show_moment(self, at: AtMoment) -> None:
        self._at = at
        palette = THEME.palette
        ink = palette.ink_of(self.presenter.letter)
        for name, levels, pen, colour in (
            (REST, at.rest_db, cosmetic(palette.quiet, 1.2, Qt.PenStyle.DashLine), palette.quiet),
            (THEN, at.then_db, pen_of(ink, 2.2), ink.colour),
        ):
            self.response.show_curve(PlotCurve(name, GRID_HZ, levels), pen, labelled=True, colour=colour)
        self.response.show_cutoff(at.cutoff_hz, f"{at.time_s:.2f} s: {shown_hz(at.cutoff_hz)}")
        (self.response.move_labels if self.presenter.dragging else self.response.place_labels)()

    def restyle(self) -> None:
        """Draw again in the theme's colours."""
        if self._moves is not None:
            self._show_moves(self._moves)
        self._show_sound(self._sound)
        if self._at is not None:
            self._show_moment(self._at)
