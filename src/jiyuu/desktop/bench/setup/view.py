"""The Setup step as widgets: the reach of the cutoff large, the source in and out under it, what to set beside."""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QPen
from PyQt6.QtWidgets import (
    QLabel,
    QListWidget,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from jiyuu.book.setup import Setup
from jiyuu.circuits.reach import Reach
from jiyuu.desktop.bench.findings_list import FindingsList
from jiyuu.desktop.bench.frame import SideColumn, beside, form, stacked
from jiyuu.desktop.bench.knobs import cutoff_field, resonance_field
from jiyuu.desktop.bench.measure_bar import MeasuringView
from jiyuu.desktop.bench.page_buttons import page_buttons
from jiyuu.desktop.bench.setup.pages import CutoffPage, SourcePage
from jiyuu.desktop.bench.setup.plan_page import PlanPage
from jiyuu.desktop.bench.setup.presenter import Advice, SetupPresenter
from jiyuu.desktop.bench.sounding import Sounded
from jiyuu.desktop.figures.reach_figure import ReachFigure
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.figures.spectrum_figure import SpectrumFigure
from jiyuu.desktop.figures.time_figure import TimeFigure, shown_piece
from jiyuu.desktop.theme.style import STEP, THEME
from jiyuu.quantities import shown_hz

SOURCE, OUTPUT = "source", "output"


class SetupView(MeasuringView):
    """`figures` and `side` are placed by the window; everything else goes through the presenter."""

    def __init__(self, presenter: SetupPresenter) -> None:
        self._presenter = presenter
        self._reach: Reach | None = None
        self._sounded: Sounded | None = None
        self._build_figures()
        self._build_side()
        presenter.settings.connect(self._show_settings)
        presenter.reached.connect(self._show_reach)
        presenter.sounded.connect(self._show_sounded)
        presenter.advised.connect(self._show_advice)
        presenter.findings.connect(self._show_findings)

    # Building

    def _build_figures(self) -> None:
        self.reach = ReachFigure()
        self.reach.cutoff_dragged.connect(self._presenter.try_cutoff)
        self.reach.cutoff_dropped.connect(self._presenter.set_cutoff)
        self.reach.cutoff_reset.connect(lambda: self._presenter.reset("cutoff_hz"))
        self.spectrum = SpectrumFigure("Harmonics in and out, dB re 1 V")
        self.trace = TimeFigure("Trace, volts")
        self.figures = stacked(self.reach, beside(self.spectrum, self.trace), shares=(50, 50))

    def _build_side(self) -> None:
        presenter = self._presenter
        self.side = column = SideColumn()
        self.circuit = column.circuit
        fields = form()
        self.cutoff, self.resonance = cutoff_field(presenter), resonance_field(presenter)
        fields.addRow("Cutoff", self.cutoff)
        fields.addRow("Resonance", self.resonance)
        column.add(fields)
        self.neutral = QPushButton("Set neutral  N")
        self.neutral.setToolTip("Resonance, fine, key follow, CVs and drive to nothing, one 5 V source; one undo.")
        self.neutral.clicked.connect(presenter.set_neutral)
        self.bar = self._measure_bar("Plays the source through the simulated unit and measures what comes out.",
                                     lead=self.neutral)
        column.add(self.bar)
        self.source_page, self.cutoff_page = SourcePage(presenter), CutoffPage(presenter)
        self.plan = PlanPage()
        checks = QWidget()
        checked = QVBoxLayout(checks)
        checked.setContentsMargins(0, 0, 0, 0)
        checked.setSpacing(STEP)
        self.checklist = QLabel()
        self.checklist.setAccessibleName("What is not neutral")
        self.advice = QListWidget()
        self.advice.setProperty("role", "notes")
        self.advice.setWordWrap(True)
        self.advice.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.advice.setAccessibleName("Reach and levels")
        self.heading = QLabel()
        for label in (self.checklist, self.heading):
            label.setWordWrap(True)
        self.heading.setProperty("role", "quiet")
        checked.addWidget(self.checklist)
        checked.addWidget(self.advice, 3)
        checked.addWidget(self.heading)
        self.findings = FindingsList()
        self.findings.keep_toggled.connect(presenter.toggle_kept)
        checked.addWidget(self.findings, 2)
        self.pages = QStackedWidget()
        for page in (checks, self.source_page, self.cutoff_page, self.plan):
            self.pages.addWidget(page)
        row, self.page_choice = page_buttons(("Checks", "Source", "Cutoff", "Plan"), self.pages)
        column.add(row)
        column.add(self.pages, 1)

    @property
    def main_figure(self) -> ReachFigure:
        return self.reach

    # What the presenter says

    def _show_settings(self, settings: dict[str, Any], setup: Setup) -> None:
        document = self._presenter.document
        self.side.name(self._presenter.letter, document)
        self.cutoff.set_value(settings["cutoff_hz"])
        self.resonance.set_value(settings["resonance_percent"])
        self.source_page.show_setup(setup)
        self.cutoff_page.show_setup(setup)
        self.reach.show_cutoff(settings["cutoff_hz"], f"knob {shown_hz(settings['cutoff_hz'])}")

    def _show_reach(self, found: Reach) -> None:
        self._reach = found
        self.reach.show_reach(found, THEME.palette.ink_of(self._presenter.letter).colour)

    def _show_sounded(self, sounded: Sounded) -> None:
        self._sounded = sounded
        palette = THEME.palette
        quiet, ink = QPen(QColor(palette.quiet), 1.2), QPen(QColor(palette.ink_of(self._presenter.letter).colour), 2.4)
        for pen in (quiet, ink):
            pen.setCosmetic(True)
        self.spectrum.show_lines(SOURCE, sounded.line_hz, sounded.source_db, quiet)
        self.spectrum.show_lines(OUTPUT, sounded.line_hz, sounded.output_db[0], ink)
        piece, milliseconds = shown_piece(sounded.source_v, sounded.sample_rate_hz, sounded.period_s)
        for name, record, pen in ((SOURCE, sounded.source_v, quiet), (OUTPUT, sounded.output_v[0], ink)):
            self.trace.show_curve(PlotCurve(name, milliseconds, record[piece]), pen, labelled=True,
                                  colour=pen.color().name())
        highest = max(float(np.abs(sounded.source_v).max()), float(np.abs(sounded.output_v[0]).max()), 0.1)
        self.trace.show_span(float(milliseconds[-1]), highest)
        self.trace.place_labels()

    def _show_advice(self, advice: Advice) -> None:
        self.advice.clear()
        self.advice.addItems([advice.reach, *advice.dead, *advice.staging])
        if advice.not_neutral:
            text = "Not neutral:\n" + "\n".join(f"  {line}" for line in advice.not_neutral)
        else:
            text = "Neutral: only the knob moves the cutoff, no resonance, one source of 5 V."
        self.checklist.setText(text)
        self.neutral.setEnabled(bool(advice.not_neutral))

    def _show_findings(self, logged: list[Any]) -> None:
        self.heading.setText(
            "Measured. Choose one, K keeps it." if logged else "Nothing measured yet: M plays the source and listens."
        )
        self.findings.show_logged(logged)
        self.bar.keep.setEnabled(bool(logged))

    def restyle(self) -> None:
        """Draw again in the theme's colours."""
        if self._reach is not None:
            self._show_reach(self._reach)
        if self._sounded is not None:
            self._show_sounded(self._sounded)
