"""The Setup step as widgets: the reach of the cutoff large, the source in and out under it, what to set beside."""

from __future__ import annotations

from functools import cached_property
from typing import TypeVar

import numpy as np
from PyQt6.QtWidgets import QLabel, QPushButton, QVBoxLayout, QWidget

from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.circuits.reach import Reach
from jiyuu.desktop.figures.reach_figure import ReachFigure
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.figures.spectrum_figure import SpectrumFigure
from jiyuu.desktop.figures.time_figure import TimeFigure, shown_piece
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.parts.frame import SideColumn, beside, stacked
from jiyuu.desktop.parts.later_pages import LaterPages
from jiyuu.desktop.parts.notes_list import NotesList
from jiyuu.desktop.parts.page_buttons import page_buttons
from jiyuu.desktop.session import Session
from jiyuu.desktop.sounding import Sounded
from jiyuu.desktop.steps.setup.pages import CutoffPage, SourcePage
from jiyuu.desktop.steps.setup.plan_page import PlanPage
from jiyuu.desktop.steps.setup.presenter import Advice, SetupPresenter
from jiyuu.desktop.steps.step_view import Act, StepView
from jiyuu.desktop.theme.pens import cosmetic
from jiyuu.desktop.theme.style import STEP, THEME
from jiyuu.quantities import shown_hz

SOURCE, OUTPUT = "source", "output"
Form = TypeVar("Form", SourcePage, CutoffPage)


class SetupView(StepView):
    """Where each control can take the cutoff, and what is played into the filter."""

    presenter: SetupPresenter

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self.presenter = presenter = SetupPresenter(session, measuring, step)
        self._reach: Reach | None = None
        self._sounded: Sounded | None = None
        self._forms: list[SourcePage | CutoffPage] = []  # that were opened
        self._build_figures()
        self._build_side()
        for signal in (session.filter_changed, session.settings_changed, session.book_changed):
            signal.connect(self._show_states)
        self.acts = (Act("neutral", "Set &neutral", "N", presenter.set_neutral),)
        presenter.reached.connect(self._show_reach)
        presenter.sounded.connect(self._show_sounded)
        presenter.advised.connect(self._show_advice)
        self.connect()

    # Building

    def _build_figures(self) -> None:
        self.reach = self.main_figure = ReachFigure()
        self.reach.cutoff_dragged.connect(self.presenter.try_cutoff)
        self.reach.cutoff_dropped.connect(self.presenter.set_cutoff)
        self.reach.cutoff_reset.connect(lambda: self.presenter.reset("cutoff_hz"))
        self.spectrum = SpectrumFigure("Harmonics in and out, dB re 1 V")
        self.trace = TimeFigure("Trace, volts")
        self.figures = stacked(self.reach, beside(self.spectrum, self.trace), shares=(50, 50))

    def _build_side(self) -> None:
        presenter = self.presenter
        self.side = self.column = column = SideColumn()
        column.add(self.knobs(modes=False))
        self.neutral = QPushButton("Set neutral  N")
        self.neutral.setToolTip("Resonance, fine, key follow, CVs and drive to nothing, one 5 V source; one undo.")
        self.neutral.clicked.connect(presenter.set_neutral)
        column.add(self.measure_bar(lead=self.neutral))
        self.checklist = QLabel()
        self.checklist.setWordWrap(True)
        self.checklist.setAccessibleName("What is not neutral")
        self.advice = NotesList("Reach and levels")
        self.pages = LaterPages(self._checks, lambda: self.source_page, lambda: self.cutoff_page, lambda: self.plan)
        row, self.page_choice = page_buttons(("Checks", "Source", "Cutoff", "Plan"), self.pages)
        column.add(row)
        column.add(self.pages, 1)

    # Pages

    def _checks(self) -> QWidget:
        checks = QWidget()
        checked = QVBoxLayout(checks)
        checked.setContentsMargins(0, 0, 0, 0)
        checked.setSpacing(STEP)
        checked.addWidget(self.checklist)
        checked.addWidget(self.advice, 3)
        checked.addWidget(self.found_page(), 2)
        return checks

    @cached_property
    def source_page(self) -> SourcePage:
        """What is played, drive and limits."""
        return self._form(SourcePage(self.presenter))

    @cached_property
    def cutoff_page(self) -> CutoffPage:
        """What moves the cutoff."""
        return self._form(CutoffPage(self.presenter))

    def _form(self, page: Form) -> Form:
        self._forms.append(page)
        if self.presenter.shelved is not None:
            page.show_setup(self.presenter.now().setup)
        return page

    @cached_property
    def plan(self) -> PlanPage:
        """The session's plan."""
        page = PlanPage()
        page.walk.connect(self._measuring.walk)
        page.go.connect(self.go)
        page.show_states(self._session.states())
        return page

    # What the presenter says

    def _show_states(self) -> None:
        if "plan" in vars(self):  # else it asks when it is opened
            self.plan.show_states(self._session.states())

    def show_standing(self, standing: Standing) -> None:
        for form in self._forms:
            form.show_setup(standing.setup)
        self.reach.show_cutoff(standing.cutoff_hz, f"knob {shown_hz(standing.cutoff_hz)}")

    def _show_reach(self, found: Reach) -> None:
        self._reach = found
        self.reach.show_reach(found, THEME.palette.ink_of(self.presenter.letter).colour)

    def _show_sounded(self, sounded: Sounded) -> None:
        self._sounded = sounded
        palette = THEME.palette
        quiet = cosmetic(palette.quiet, 1.2)
        ink = cosmetic(palette.ink_of(self.presenter.letter).colour, 2.4)
        self.spectrum.show_lines(SOURCE, sounded.line_hz, sounded.source_db, quiet)
        self.spectrum.show_lines(OUTPUT, sounded.line_hz, sounded.output_db[0], ink)
        piece, milliseconds = shown_piece(sounded.source_v, sounded.sample_rate_hz, sounded.period_s)
        for name, record, pen in ((SOURCE, sounded.source_v, quiet), (OUTPUT, sounded.output_v[0], ink)):
            self.trace.show_curve(PlotCurve(name, milliseconds, record[piece]), pen, labelled=True,
                                  colour=pen.color().name())
        highest = max(float(np.abs(sounded.source_v).max()), float(np.abs(sounded.output_v[0]).max()), 0.1)
        self.trace.show_span(float(milliseconds[-1]), highest)
        (self.trace.move_labels if self.presenter.dragging else self.trace.place_labels)()

    def _show_advice(self, advice: Advice) -> None:
        self.advice.say([advice.reach, *advice.dead, *advice.staging])
        if advice.not_neutral:
            text = "Not neutral:\n" + "\n".join(f"  {line}" for line in advice.not_neutral)
        else:
            text = "Neutral: only the knob moves the cutoff, no resonance, one source of 5 V."
        self.checklist.setText(text)
        self.neutral.setEnabled(bool(advice.not_neutral))

    def restyle(self) -> None:
        """Draw again in the theme's colours."""
        if self._reach is not None:
            self._show_reach(self._reach)
        if self._sounded is not None:
            self._show_sounded(self._sounded)
