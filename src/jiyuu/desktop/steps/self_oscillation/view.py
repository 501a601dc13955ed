"""The Self-oscillation step as widgets: pitch over the control large, the tone and the tuner under it."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QPen
from PyQt6.QtWidgets import QLabel, QStackedWidget

from jiyuu.arrays import FloatArray
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.circuits.linear import level_db
from jiyuu.desktop.figures.control_figure import ControlFigure
from jiyuu.desktop.figures.frequency_figure import FrequencyFigure
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.figures.spectrum_figure import SpectrumFigure
from jiyuu.desktop.figures.swing_figure import SwingFigure
from jiyuu.desktop.figures.time_figure import TimeFigure
from jiyuu.desktop.figures.tuner_figure import TunedTone, TunerFigure
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.parts.frame import SideColumn, beside, stacked, under
from jiyuu.desktop.parts.later_pages import LaterPages
from jiyuu.desktop.parts.page_buttons import page_buttons
from jiyuu.desktop.parts.plain_table import PlainTable
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.self_oscillation.presenter import CAUTION, MeasuredWhistle, OscillationPresenter
from jiyuu.desktop.steps.self_oscillation.target_page import TargetPage
from jiyuu.desktop.steps.step_view import StepView
from jiyuu.desktop.theme.pens import cosmetic, measured_pen, pen_of
from jiyuu.desktop.theme.style import THEME
from jiyuu.measurement.tuner import bell
from jiyuu.prediction.self_oscillation import Whistle
from jiyuu.quantities import note_and_cents, shown_hz, signed, volts_between
from jiyuu.wording.whistle import swing_text

if TYPE_CHECKING:
    from jiyuu.prediction.whistle import SelfModulated

PREDICTED, MEASURED = "predicted", "measured"
HARMONICS, TRACE, PATCHED, RANGE = range(4)
PATCHED_HARMONICS = (2, 3, 4, 5)
CREST_ROOM = 1.3
FLOOR_DB = -90.0


class OscillationView(StepView):
    """The pitch of the whistle over the control, what it is made of, what it is tuned to."""

    presenter: OscillationPresenter

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self.presenter = presenter = OscillationPresenter(session, measuring, step)
        self.whistle: Whistle | None = None
        self._measured: MeasuredWhistle | None = None
        self._patched: list[SelfModulated] | str = []
        self.tone: TunedTone | None = None
        self._build_figures()
        self._build_side()
        presenter.whistled.connect(self._show_whistle)
        presenter.measured.connect(self._show_measured)
        presenter.tuned.connect(self._show_tuned)
        presenter.patched.connect(self._show_patched)
        self.connect()

    # Building

    def _build_figures(self) -> None:
        presenter = self.presenter
        self.pull = self.main_figure = ControlFigure(
            title="Pitch of the whistle over the control, cents re the cutoff set", unit="cents",
            level_steps=(25.0, 50.0, 100.0, 200.0), strong_step=100.0)
        self.pull.position_dragged.connect(presenter.try_resonance)
        self.pull.position_dropped.connect(presenter.set_resonance)
        self.pull.position_reset.connect(lambda: presenter.reset("resonance_percent"))
        self.spectrum = SpectrumFigure("Harmonics of the tone, dB re the first")
        self._left = LaterPages(lambda: self.spectrum, lambda: self.trace, lambda: self.patch, lambda: self.range)
        row, self.left_choice = page_buttons(("Harmonics", "Waveform", "Into cutoff", "Range"), self._left)
        self._left.currentChanged.connect(self._turn_left)
        self.tuner = TunerFigure()
        self.tuner.refused.connect(lambda text: presenter.message.emit(text, True))
        self.bells = PlainTable("Partials of a bell", ("partial", "hertz", "note", "volts"))
        self.loop = PlainTable("What other parts in the loop would do", ("in the loop", "cents", "V peak", "THD %"),
                               words=(0,))
        right = QStackedWidget()
        for widget in (self.tuner, self.bells, self.loop):
            right.addWidget(widget)
        right_row, self.right_choice = page_buttons(("Tuner", "Bell", "Loop"), right)
        below = beside(under(row, self._left), under(right_row, right), sizes=(460, 420))
        self.figures = stacked(self.pull, below, shares=(56, 44))

    @cached_property
    def trace(self) -> TimeFigure:
        """Two periods of the tone."""
        return TimeFigure("Waveform of the tone, volts")

    @cached_property
    def patch(self) -> SwingFigure:
        """What the tone becomes when it moves its own cutoff."""
        return SwingFigure("Harmonics re the first, bandpass into cutoff")

    @cached_property
    def range(self) -> FrequencyFigure:
        """How loud the tone is over its range."""
        figure = FrequencyFigure(title="Level over the range, dB re its loudest", unit="dB",
                                 level_steps=(0.5, 1.0, 3.0, 6.0), strong_step=3.0)
        figure.hide_cutoff()
        return figure

    def _build_side(self) -> None:
        presenter = self.presenter
        self.side = self.column = column = SideColumn()
        column.add(self.knobs())
        caution = QLabel(CAUTION)
        caution.setProperty("role", "quiet")
        caution.setWordWrap(True)
        column.add(caution)
        column.add(self.measure_bar())
        self.target = TargetPage(presenter)
        self.pages = QStackedWidget()
        self.pages.addWidget(self.found_page())
        self.pages.addWidget(self.target)
        row, self.page_choice = page_buttons(("Findings", "Target"), self.pages)
        column.add(row)
        column.add(self.pages, 1)

    # What the person does

    def _turn_left(self, page: int) -> None:
        if page == PATCHED:
            self.presenter.patch()
        self._draw_tone()

    # What the presenter says

    def show_standing(self, standing: Standing) -> None:
        self.target.show_setting(self.presenter.setting)
        self._show_bell()
        percent = standing.resonance_percent
        self.pull.show_position(percent, f"{percent:.1f} %")

    def _show_whistle(self, found: Whistle | None) -> None:
        self.whistle = found
        palette, figure = THEME.palette, self.pull
        figure.forget(PREDICTED)
        figure.show_onset(None if found is None else found.onset_percent)
        if found is not None:
            cents = self._cents(found.curve.frequency_hz)
            clear = np.isfinite(cents)
            ink = palette.ink_of(self.presenter.letter)
            if clear.any():
                figure.show_curve(PlotCurve(PREDICTED, found.position_percent[clear], cents[clear]), pen_of(ink, 1.6),
                                  labelled=True, colour=ink.colour)
        self._fit()
        self._fill_loop(found)
        self._draw_tone()
        if self._left.currentIndex() == PATCHED and found is not None:
            self.presenter.patch()
        figure.place_labels()

    def _cents(self, hertz: FloatArray) -> FloatArray:
        return np.asarray(1200 * np.log2(hertz / self.presenter.now().standing_hz))

    def _fit(self) -> None:
        """From a little under the onset to the end; heights that hold both curves; the onsets in words."""
        figure, found, measured = self.pull, self.whistle, self._measured
        onsets = ["By its drawing it does not whistle" if found is None else
                  f"Onset by the drawing {found.onset_percent:.1f} % (k = {found.onset_gain:.4g})"]
        begins = [] if found is None else [found.onset_percent]
        if measured is not None:
            onsets.append(f"measured {measured.onset_percent:.1f} %")
            begins.append(measured.onset_percent)
        figure.say_note(f"{', '.join(onsets)}.")
        if not begins:
            return
        figure.lowest, figure.highest = max(0.0, min(min(begins) - 2.0, 96.0)), 100.5
        view = figure.view
        view.setLimits(xMin=-5.0, xMax=105.0, minXRange=1.0)
        view.setXRange(figure.lowest, figure.highest, padding=0)
        curves = [curve.values for name in (PREDICTED, MEASURED) if (curve := figure.curve(name)) is not None]
        together = np.concatenate([*curves, np.zeros(0 if curves else 1)])
        low, high = float(together.min()), float(together.max())
        room = max(6.0, 0.14 * (high - low))
        figure.set_levels(low - room, high + 2.4 * room)

    def _show_measured(self, measured: MeasuredWhistle | None) -> None:
        self._measured = measured
        self.pull.forget(MEASURED)
        if measured is not None and measured.pull_hz.size > 1:
            palette = THEME.palette
            stale = measured.stale_why is not None
            shade = QColor(palette.stale if stale else palette.ink_of(self.presenter.letter).colour)
            pen = measured_pen(shade.name(), stale=stale)
            self.pull.show_curve(PlotCurve(MEASURED, measured.position_percent, self._cents(measured.pull_hz)), pen,
                                 labelled=True, colour=shade.name(), dotted=True)
        why = "" if measured is None or measured.stale_why is None else measured.stale_why
        self.pull.say_why(f"Measured curve out of date: {why}. Measure again (M)." if why else "")
        self._fit()
        self.pull.place_labels()
        self._draw_tone()

    def _draw_tone(self) -> None:
        """Harmonics and waveform of the tone: predicted lines, measured beside them."""
        palette, page = THEME.palette, self._left.currentIndex()
        ink = QColor(palette.ink_of(self.presenter.letter).colour)
        thick, thin = cosmetic(ink, 3.0), cosmetic(palette.quiet, 1.4)
        found, measured = self.whistle, self._measured
        tone = None if found is None else found.tone
        if page == HARMONICS:
            self.spectrum.forget(PREDICTED, MEASURED)
            if measured is not None and measured.stale_why is None:
                self._lines(self.spectrum, MEASURED, measured.tone_hz, measured.harmonics_db, thick)
            if tone is not None:
                self._lines(self.spectrum, PREDICTED, tone.frequency_hz, tone.harmonics_db, thin)
            self.spectrum.set_levels(FLOOR_DB, 6)
            both = len(self.spectrum.shown_names()) == 2
            self.spectrum.say_note("Thick: measured. Thin: predicted." if both else "")
        elif page == TRACE:
            self.trace.forget(PREDICTED)
            if tone is not None:
                twice = np.concatenate([tone.waveform_v, tone.waveform_v, tone.waveform_v[:1]])
                milliseconds = 2000 / tone.frequency_hz * np.linspace(0.0, 1.0, twice.size)
                self.trace.show_curve(PlotCurve(PREDICTED, milliseconds, twice), thick, labelled=True,
                                      colour=ink.name())
                # Its first crest stands under the title, which wants room of its own.
                self.trace.show_span(float(milliseconds[-1]), max(CREST_ROOM * float(np.abs(twice).max()), 1e-3))
                self.trace.place_labels()
        elif page == PATCHED:
            self._draw_patched(ink)
        else:
            self._draw_range(thick)

    def _draw_range(self, pen: QPen) -> None:
        """How loud the measured tone is over its range."""
        measured, figure = self._measured, self.range
        figure.forget(MEASURED)
        if measured is None or measured.range_hz.size < 2:
            figure.say_note("Measure (M): the tone is counted at every volt of its range.")
            return
        level = level_db(measured.range_v / measured.range_v.max())
        order = np.argsort(measured.range_hz)
        figure.show_curve(PlotCurve(MEASURED, measured.range_hz[order], level[order]), pen, dotted=True)
        figure.set_levels(min(-3.2, 1.2 * float(level.min())), 1.2)
        figure.say_note(f"Flat within {float(-level.min()):.2f} dB.")

    @staticmethod
    def _lines(
        figure: SpectrumFigure, name: str, tone_hz: float, harmonics_db: Sequence[float] | FloatArray, pen: QPen
    ) -> None:
        hertz = np.asarray(tone_hz * np.arange(1, len(harmonics_db) + 1), dtype=np.float64)
        level = np.asarray(harmonics_db, dtype=np.float64)
        shown = (hertz < 20_500) & (level > FLOOR_DB)
        figure.show_lines(name, hertz[shown], level[shown], pen)

    def _show_patched(self, found: list[SelfModulated] | str) -> None:
        self._patched = found
        self._draw_tone()

    def _draw_patched(self, ink: QColor) -> None:
        figure = self.patch
        figure.forget(*figure.shown_names())
        if isinstance(self._patched, str):
            figure.say_note(self._patched)
            return
        if len(self._patched) < 2:
            figure.say_note("Computing …")
            return
        swing = np.array([one.octaves for one in self._patched])
        dotted = cosmetic(THEME.palette.quiet, 1.0, Qt.PenStyle.DotLine)
        for number in PATCHED_HARMONICS:
            shade = QColor(ink)
            shade.setAlpha(255 - 45 * (number - 2))
            pen = cosmetic(shade, 2.8 - 0.5 * (number - 2))
            level = np.array([max(one.harmonics_db[number - 1], FLOOR_DB) for one in self._patched])
            figure.show_curve(PlotCurve(f"harmonic {number}", swing, level), pen, labelled=True, colour=ink.name())
            saw_db = float(-20 * np.log10(number))
            figure.show_curve(PlotCurve(f"saw {number}", swing[[0, -1]], np.full(2, saw_db)), dotted)
        figure.say_note(swing_text(self._patched, self.presenter.now().standing_hz))
        figure.place_labels()

    def _fill_loop(self, found: Whistle | None) -> None:
        rows = [] if found is None or found.variants is None else [
            (one.title, signed(one.cents), f"{one.amplitude_peak_v:.3f}", f"{one.thd_percent:.2f}")
            for one in found.variants
        ]
        self.loop.fill(rows)

    def _show_tuned(self, tone: TunedTone | None, why: str) -> None:
        self.tone = tone
        self.tuner.show_tone(tone, why)
        self._show_bell()

    def _show_bell(self) -> None:
        """Where to put filters, one a partial, for a bell that sounds at the tone's target."""
        tone = self.tone
        rows = []
        if tone is not None:
            for ratio_hz in bell(self.presenter.setting.bell, tone.target_hz):
                note, cents = note_and_cents(float(ratio_hz), concert_a_hz=tone.concert_a_hz)
                volts = volts_between(tone.tone_hz, float(ratio_hz))
                rows.append((f"{ratio_hz / tone.target_hz:.3g}", shown_hz(float(ratio_hz)),
                             f"{note} {signed(cents, 0)}", f"{signed(volts, 3)} V"))
        self.bells.fill(rows)

    def restyle(self) -> None:
        """Draw again in the theme's colours."""
        self.tuner.update()
        self._show_whistle(self.whistle)
        self._show_measured(self._measured)
