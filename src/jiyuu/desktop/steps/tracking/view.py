"""The Tracking step as widgets: cents over volts large, the table and what to turn under it, what is asked beside."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QPen
from PyQt6.QtWidgets import QPushButton, QStackedWidget

from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.circuits.trims import Trim
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.figures.tracking_figure import TrackingFigure
from jiyuu.desktop.figures.trims_figure import TrimsFigure
from jiyuu.desktop.file_names import chosen_to_write
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.parts.frame import SideColumn, beside, stacked
from jiyuu.desktop.parts.page_buttons import page_buttons
from jiyuu.desktop.parts.plain_table import PlainTable
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.step_view import Act, StepView
from jiyuu.desktop.steps.tracking.pages import AskPage, TrimsPage
from jiyuu.desktop.steps.tracking.presenter import Judged, TrackingPresenter
from jiyuu.desktop.theme.pens import cosmetic
from jiyuu.desktop.theme.style import THEME
from jiyuu.errors import JiyuuError
from jiyuu.prediction.tracking_builds import Builds
from jiyuu.quantities import note_and_cents, signed

MEASURED, BEFORE, FITTED, AFTER = "measured", "before", "fitted converter", "once turned"
LIKELY, DRAWN = "95 % of builds", "the drawing"
FINEST_CENTS = 0.01  # that an uncertainty is said to be
COLUMNS = ("asked", "volts", "hertz", "cents off", "±", "residual", "V peak", "settled")


class TrackingView(StepView):
    """How far the filter is out of tune over its range, and what to turn."""

    presenter: TrackingPresenter

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self.presenter = presenter = TrackingPresenter(session, measuring, step)
        self._table: Judged | None = None
        self._builds: Builds | None = None
        self._build_figures()
        self._build_side()
        self.acts = (Act("turn_trims", "&Turn trims as advised", "T", presenter.turn_as_advised),)
        presenter.builds.connect(self._show_builds)
        presenter.table.connect(self._show_table)
        self.connect()

    # Building

    def _build_figures(self) -> None:
        self.errors = self.main_figure = TrackingFigure()
        self.table = PlainTable("Steps measured", COLUMNS)
        self.trims = TrimsFigure()
        self.trims.refused.connect(lambda text: self.presenter.message.emit(text, True))
        self.figures = stacked(self.errors, beside(self.table, self.trims, sizes=(470, 410)), shares=(58, 42))

    def _build_side(self) -> None:
        presenter = self.presenter
        self.side = self.column = column = SideColumn()
        self.turn = QPushButton("Apply advice, re-measure  T")
        self.turn.setToolTip("Turns the trims of the simulated unit as the arrows say and measures again; Ctrl+Z turns "
                             "them back.")
        self.turn.clicked.connect(presenter.turn_as_advised)
        column.add(self.measure_bar(lead=self.turn))
        self.ask, self.trim_page = AskPage(presenter), TrimsPage(presenter)
        self.mode = self.ask.mode
        self.trim_page.record.clicked.connect(self._choose_record)
        self.pages = QStackedWidget()
        for page in (self.found_page(), self.ask, self.trim_page):
            self.pages.addWidget(page)
        row, self.page_choice = page_buttons(("Findings", "Range", "Trims"), self.pages)
        column.add(row)
        column.add(self.pages, 1)

    # What the person does

    def _choose_record(self) -> None:
        try:
            path = chosen_to_write(self.side, "Calibration record", "calibration.csv", "Records (*.csv *.json)",
                                   ending=".csv")
            if path is not None:
                self.presenter.write_record(path)
        except JiyuuError as error:
            self.presenter.message.emit(str(error), True)

    # What the presenter says

    def show_standing(self, standing: Standing) -> None:
        if self.presenter.dragging:
            return  # what is asked does not stand on the cutoff
        setting = self.presenter.setting
        self.ask.show_setting(standing.filter, setting)
        self.trim_page.show_trims(standing.trims, setting)

    def _show_builds(self, builds: Builds) -> None:
        self._builds = builds
        self._draw()

    def _show_table(self, table: Judged | None) -> None:
        self._table = table
        self._draw()

    def _draw(self) -> None:
        builds, table = self._builds, self._table
        if builds is None or self.presenter.shelved is None:
            return
        setting = self.presenter.setting
        palette, figure = THEME.palette, self.errors
        colour = palette.ink_of(self.presenter.letter).colour
        document = self.presenter.now().filter
        figure.forget(MEASURED, BEFORE, FITTED, AFTER, LIKELY)
        figure.clear_marks()
        volts = builds.volts if table is None else np.union1d(builds.volts, table.tracking.readings.volts)
        figure.show_scale(volts, setting.first_hz(document), setting.tolerance_cents)
        quiet = cosmetic(palette.quiet, 1.2)
        if table is None:
            figure.show_band(LIKELY, builds.volts, builds.low_cents, builds.high_cents, palette.quiet, hatched=False)
            figure.show_curve(PlotCurve(DRAWN, builds.volts, np.zeros(builds.volts.size)), quiet, labelled=True)
            figure.say_note("Shaded: where 95 % of builds lie before they are trimmed. M measures this one.")
            figure.say_why("")
            figure.fit_to(np.concatenate([builds.low_cents, builds.high_cents]))
            figure.place_labels()
            self._fill_table(None)
            self.trims.show_trims(self.presenter.trims, {}, {}, "Measure first (M).")
            self.turn.setEnabled(False)
            return
        figure.forget(DRAWN)
        self._draw_table(table, colour, quiet)

    def _draw_table(self, table: Judged, colour: str, quiet: QPen) -> None:
        palette, figure, tracking = THEME.palette, self.errors, table.tracking
        stale = table.stale_why is not None
        ink = palette.stale if stale else colour
        order = np.argsort(tracking.readings.volts, kind="stable")
        at, cents = tracking.readings.volts[order], tracking.error_cents[order]
        shown = [cents]
        if table.before is not None:
            was = np.argsort(table.before.readings.volts, kind="stable")
            dashed = cosmetic(palette.quiet, 1.4, Qt.PenStyle.DashLine)
            earlier = PlotCurve(BEFORE, table.before.readings.volts[was], table.before.error_cents[was])
            figure.show_curve(earlier, dashed, labelled=True)
            shown.append(table.before.error_cents)
        figure.show_curve(PlotCurve(FITTED, table.fitted_v, table.fitted_cents), quiet)
        if table.advice.turns and not stale:
            after = table.advice.after
            dotted = cosmetic(palette.ink, 1.6, Qt.PenStyle.DotLine)
            figure.show_curve(PlotCurve(AFTER, after.readings.volts[order], after.error_cents[order]), dotted,
                              labelled=True, colour=palette.ink)
        thick = cosmetic(ink, 2.6)
        figure.show_curve(PlotCurve(MEASURED, at, cents), thick, labelled=True, colour=ink)
        figure.show_marks(at, cents, np.abs(cents) <= tracking.tolerance_cents, ink)
        figure.fit_to(np.concatenate(shown))
        notes = [f"No tone at {', '.join(table.unread)}."] if table.unread else []
        if table.cents_per_c is not None:
            notes.append(f"{signed(table.cents_per_c, 2)} cents per °C against the run before.")
        figure.say_note(" ".join(notes))
        figure.say_why(f"Out of date: {table.stale_why}. Measure again (M)." if stale else "")
        span = tracking.usable
        if span is None:
            figure.show_span(None, None, ink, "")
        else:
            figure.show_span(span.from_v, span.to_v, ink, f"in tune within ±{tracking.tolerance_cents:g} cents")
        figure.place_labels()
        self._fill_table(table)
        advice = table.advice
        turns = {Trim(turn.trim): turn.turns for turn in advice.turns}
        amounts = {Trim(turn.trim): turn.amount for turn in advice.turns}
        note = "Out of date; measure again (M)." if stale else table.remarks[0] if table.remarks else ""
        self.trims.show_trims(table.standing, {} if stale else turns, amounts, note)
        self.turn.setEnabled(bool(turns) and not stale)

    def _fill_table(self, table: Judged | None) -> None:
        if table is None:
            self.table.fill([])
            return
        readings, errors, left = table.tracking.readings, table.tracking.error_cents, table.tracking.residual_cents
        out = np.abs(errors) > table.tracking.tolerance_cents
        self.table.fill([
            (_asked(table.asked_hz[i]), f"{readings.volts[i]:.3f}", f"{readings.frequency_hz[i]:.2f}",
             f"{'✗ ' if out[i] else ''}{signed(float(errors[i]), 2)}",
             f"{max(readings.uncertainty_cents[i], FINEST_CENTS):.2f}", signed(float(left[i]), 2),
             "" if np.isnan(readings.level_v[i]) else f"{readings.level_v[i]:.3f}",
             "" if np.isnan(readings.settled_s[i]) else f"{1000 * readings.settled_s[i]:.0f} ms")
            for i in range(readings.volts.size)
        ], marked={(int(i), 3) for i in np.flatnonzero(out)})

    def restyle(self) -> None:
        """Draw again in the theme's colours."""
        self.trims.update()
        self._draw()


def _asked(frequency_hz: float) -> str:
    """The note a step stands for, with cents where it lies between two."""
    note, cents = note_and_cents(float(frequency_hz))
    return note if abs(cents) < 0.5 else f"{note} {signed(cents, 0)}"
