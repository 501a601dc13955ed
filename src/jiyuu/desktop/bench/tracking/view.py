"""The Tracking step as widgets: cents over volts large, the table and what to turn under it, what is asked beside."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QPen
from PyQt6.QtWidgets import (
    QFileDialog,
    QPushButton,
    QStackedWidget,
)

from jiyuu.book.tracking_setting import TrackingSetting
from jiyuu.desktop.bench.frame import FoundPage, SideColumn, beside, stacked
from jiyuu.desktop.bench.measure_bar import MeasuringView
from jiyuu.desktop.bench.page_buttons import page_buttons
from jiyuu.desktop.bench.plain_table import PlainTable
from jiyuu.desktop.bench.tracking.pages import AskPage, TrimsPage
from jiyuu.desktop.bench.tracking.presenter import Builds, Table, TrackingPresenter
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.figures.tracking_figure import TrackingFigure
from jiyuu.desktop.figures.trims_figure import TrimsFigure
from jiyuu.desktop.theme.style import THEME
from jiyuu.errors import JiyuuError
from jiyuu.measurement.wording import QUANTITIES
from jiyuu.quantities import note_and_cents, signed

MEASURED, BEFORE, FITTED, AFTER = "measured", "before", "fitted converter", "after these turns"
LIKELY, DRAWN = "95 % of builds", "the drawing"
COLUMNS = ("asked", "volts", "hertz", "cents off", "V peak", "settled")


class TrackingView(MeasuringView):
    """`figures` and `side` are placed by the window; everything else goes through the presenter."""

    def __init__(self, presenter: TrackingPresenter) -> None:
        self._presenter = presenter
        self._table: Table | None = None
        self._builds: Builds | None = None
        self._setting: TrackingSetting | None = None
        self._build_figures()
        self._build_side()
        presenter.settings.connect(self._show_settings)
        presenter.builds.connect(self._show_builds)
        presenter.table.connect(self._show_table)
        presenter.findings.connect(self._show_findings)

    # Building

    def _build_figures(self) -> None:
        self.errors = TrackingFigure()
        self.table = PlainTable("Steps measured", COLUMNS)
        self.trims = TrimsFigure()
        self.trims.refused.connect(lambda text: self._presenter.message.emit(text, True))
        self.figures = stacked(self.errors, beside(self.table, self.trims, sizes=(400, 480)), shares=(58, 42))

    def _build_side(self) -> None:
        presenter = self._presenter
        self.side = column = SideColumn()
        self.circuit = column.circuit
        self.turn = QPushButton("Turn as advised, read again  T")
        self.turn.setToolTip("Turns the trims of the simulated unit as the arrows say and measures again; Ctrl+Z turns "
                             "them back.")
        self.turn.clicked.connect(presenter.turn_as_advised)
        self.bar = self._measure_bar("Steps the control volts of the simulated unit and counts its tone at every one.",
                                     lead=self.turn)
        column.add(self.bar)
        found = FoundPage(presenter)
        self.heading, self.findings = found.heading, found.findings
        self.ask, self.trim_page = AskPage(presenter), TrimsPage(presenter)
        self.trim_page.record.clicked.connect(self._choose_record)
        self.pages = QStackedWidget()
        for page in (found, self.ask, self.trim_page):
            self.pages.addWidget(page)
        row, self.page_choice = page_buttons(("Findings", "Range", "Trims"), self.pages)
        column.add(row)
        column.add(self.pages, 1)

    @property
    def main_figure(self) -> TrackingFigure:
        return self.errors

    # What the person does

    def _choose_record(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self.side, "Calibration record", "calibration.csv",
                                              "Records (*.csv *.json)")
        if name:
            try:
                self._presenter.write_record(Path(name))
            except JiyuuError as error:
                self._presenter.message.emit(str(error), True)

    # What the presenter says

    def _show_settings(self, settings: dict[str, Any], setting: TrackingSetting) -> None:
        document = self._presenter.document
        self._setting = setting
        self.side.name(self._presenter.letter, document)
        self.ask.show_setting(document, settings["mode"], setting)
        self.trim_page.show_trims(self._presenter.trims, setting)

    def _show_builds(self, builds: Builds) -> None:
        self._builds = builds
        self._draw()

    def _show_table(self, table: Table | None) -> None:
        self._table = table
        self._draw()

    def _draw(self) -> None:
        builds, table, setting = self._builds, self._table, self._setting
        if builds is None or setting is None:
            return
        palette, figure = THEME.palette, self.errors
        colour = palette.ink_of(self._presenter.letter).colour
        document = self._presenter.document
        figure.forget(MEASURED, BEFORE, FITTED, AFTER, LIKELY)
        figure.clear_marks()
        volts = builds.volts if table is None else np.union1d(builds.volts, table.tracking.readings.volts)
        figure.show_scale(volts, setting.first_hz(document), setting.tolerance_cents)
        quiet = QPen(QColor(palette.quiet), 1.2)
        quiet.setCosmetic(True)
        if table is None:
            figure.show_band(LIKELY, builds.volts, builds.low_cents, builds.high_cents, palette.quiet, hatched=False)
            figure.show_curve(PlotCurve(DRAWN, builds.volts, np.zeros(builds.volts.size)), quiet, labelled=True)
            figure.say_note("Shaded: where 95 % of builds lie before they are trimmed. M measures this one.")
            figure.say_why("")
            figure.fit_to(np.concatenate([builds.low_cents, builds.high_cents]))
            figure.place_labels()
            self._fill_table(None)
            self.trims.show_trims(self._presenter.trims, {}, {}, "Measure first (M).")
            self.turn.setEnabled(False)
            return
        figure.forget(DRAWN)
        self._draw_table(table, colour, quiet)

    def _draw_table(self, table: Table, colour: str, quiet: QPen) -> None:
        palette, figure, tracking = THEME.palette, self.errors, table.tracking
        stale = table.stale_why is not None
        ink = palette.stale if stale else colour
        order = np.argsort(tracking.readings.volts, kind="stable")
        at, cents = tracking.readings.volts[order], tracking.error_cents[order]
        shown = [cents]
        if table.before is not None:
            was = np.argsort(table.before.readings.volts, kind="stable")
            dashed = QPen(QColor(palette.quiet), 1.4, Qt.PenStyle.DashLine)
            dashed.setCosmetic(True)
            earlier = PlotCurve(BEFORE, table.before.readings.volts[was], table.before.error_cents[was])
            figure.show_curve(earlier, dashed, labelled=True)
            shown.append(table.before.error_cents)
        figure.show_curve(PlotCurve(FITTED, table.fitted_v, table.fitted_cents), quiet)
        if table.advice.turns and not stale:
            after = table.advice.after
            dotted = QPen(QColor(palette.ink), 1.6, Qt.PenStyle.DotLine)
            dotted.setCosmetic(True)
            figure.show_curve(PlotCurve(AFTER, after.readings.volts[order], after.error_cents[order]), dotted,
                              labelled=True, colour=palette.ink)
        thick = QPen(QColor(ink), 2.6)
        thick.setCosmetic(True)
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
        turns = {turn.trim: turn.turns for turn in advice.turns}
        amounts = {turn.trim: turn.amount for turn in advice.turns}
        note = "Out of date; measure again (M)." if stale else advice.remarks[0] if advice.remarks else ""
        self.trims.show_trims(table.standing, {} if stale else turns, amounts, note)
        self.turn.setEnabled(bool(turns) and not stale)

    def _fill_table(self, table: Table | None) -> None:
        if table is None:
            self.table.fill([])
            return
        readings, errors = table.tracking.readings, table.tracking.error_cents
        out = np.abs(errors) > table.tracking.tolerance_cents
        self.table.fill([
            (_asked(table.asked_hz[i]), f"{readings.volts[i]:.3f}", f"{readings.frequency_hz[i]:.2f}",
             f"{'✗ ' if out[i] else ''}{signed(float(errors[i]), 2)}",
             "" if np.isnan(readings.level_v[i]) else f"{readings.level_v[i]:.3f}",
             "" if np.isnan(readings.settled_s[i]) else f"{1000 * readings.settled_s[i]:.0f} ms")
            for i in range(readings.volts.size)
        ], marked={(int(i), 3) for i in np.flatnonzero(out)})

    def _show_findings(self, logged: list[Any]) -> None:
        self.bar.keep.setEnabled(bool(logged))
        if logged:
            self.heading.setText("Measured. ± is 95 %. Choose one, K keeps it.")
        else:
            self.heading.setText("Nothing measured yet. M steps the volts and counts; or drop one recording of a "
                                 f"staircase on the window. {QUANTITIES['tracking_error_cents'].how}")
        self.findings.show_logged(logged)

    def restyle(self) -> None:
        """Draw again in the theme's colours."""
        self.trims.update()
        self._draw()


def _asked(frequency_hz: float) -> str:
    """The note a step stands for, with cents where it lies between two."""
    note, cents = note_and_cents(float(frequency_hz))
    return note if abs(cents) < 0.5 else f"{note} {signed(cents, 0)}"
