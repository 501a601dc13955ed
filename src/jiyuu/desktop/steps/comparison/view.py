"""The Comparison step as widgets: the responses of all letters or what they differ by, character as measured scales,
sentences about two of them."""

from __future__ import annotations

from functools import cached_property
from typing import TypeVar

import numpy as np
from PyQt6.QtWidgets import QCheckBox, QComboBox

from jiyuu.bench.side_by_side import COMPARED_HZ, SideBySide
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.character.scales import SCALE, SCALES
from jiyuu.character.why import Why
from jiyuu.desktop.figures.character_scales import CharacterScales, Mark, ScaleRow
from jiyuu.desktop.figures.frequency_figure import FrequencyFigure
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.figures.why_figure import Divided, WhyFigure
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.parts.frame import SideColumn, form, narrow, stacked
from jiyuu.desktop.parts.later_pages import LaterPages
from jiyuu.desktop.parts.model_form import ModelForm
from jiyuu.desktop.parts.page_buttons import page_buttons
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.comparison.blind_page import BlindPage
from jiyuu.desktop.steps.comparison.blind_presenter import BlindPresenter
from jiyuu.desktop.steps.comparison.circuit_page import CircuitPage
from jiyuu.desktop.steps.comparison.circuit_presenter import CircuitPresenter
from jiyuu.desktop.steps.comparison.curves_page import CurvesPage, CurvesPresenter
from jiyuu.desktop.steps.comparison.over_page import OverPage, OverPresenter
from jiyuu.desktop.steps.comparison.presenter import ComparisonPresenter
from jiyuu.desktop.steps.comparison.table_page import TablePage, TablePresenter
from jiyuu.desktop.steps.comparison.trainer_page import TrainerPage
from jiyuu.desktop.steps.comparison.trainer_presenter import TrainerPresenter
from jiyuu.desktop.steps.comparison.verdict_aside import VerdictAside
from jiyuu.desktop.steps.comparison.wish_page import WishPage
from jiyuu.desktop.steps.comparison.wish_presenter import WishPresenter
from jiyuu.desktop.steps.step_view import Act, StepView
from jiyuu.desktop.theme.pens import pen_of
from jiyuu.desktop.theme.style import THEME
from jiyuu.progress import Progress
from jiyuu.quantities import shown_hz
from jiyuu.wording.character import CAUSES

SHOWN_SHARE = 1e-3  # of a difference, from which a cause is named
PAGES = ("Character", "Why", "Blind", "Ear", "Circuit", "Wish", "Measured", "Moves", "Figures")
LEVELS_DB, APART_DB = (-60.0, 24.0), (-30.0, 30.0)


Speaking = TypeVar("Speaking", BlindPresenter, TrainerPresenter, WishPresenter, OverPresenter)


class ComparisonView(StepView):
    """All filters of the shelf at once; the one in hand is what the others are told apart from."""

    presenter: ComparisonPresenter

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self.presenter = presenter = ComparisonPresenter(session, measuring, step)
        self._drawn: list[str] = []
        self.level = self.main_figure = FrequencyFigure(
            title="All filters, dB re the input", unit="dB", level_steps=(3.0, 6.0, 12.0), strong_step=12.0)
        self.level.set_levels(*LEVELS_DB)
        self.level.refused.connect(self.refused)
        self.level.cutoff_dragged.connect(presenter.try_cutoff)
        self.level.cutoff_dropped.connect(presenter.set_cutoff)
        self.level.cutoff_reset.connect(lambda: presenter.reset("cutoff_hz"))
        self.scales = CharacterScales()
        self.scales.refused.connect(self.refused)
        self._reasons: Progress | Why | None = None
        self.lower = LaterPages(
            lambda: self.scales, lambda: self.why, lambda: self.blind, lambda: self.trainer, lambda: self.circuit,
            lambda: self.wish, lambda: self.measured, lambda: self.over, lambda: self.curves)
        self.verdict: VerdictAside | None = None
        presenter.findings.connect(self._look_at_book)
        self.figures = stacked(self.level, self.lower, shares=(50, 50))
        self._build_side()
        presenter.compared.connect(self._show)
        presenter.read.connect(lambda: self._show(presenter.seen))
        presenter.explained.connect(self._show_reasons)
        self.acts = (Act("why", "&Why do they differ", "W", self._ask_why),
                     Act("verdict", "Write a &verdict …", "", self._ask_verdict))
        self.connect()

    def _build_side(self) -> None:
        presenter = self.presenter
        self.side = self.column = column = SideColumn()
        column.add(self.knobs())
        rows = form()
        self.beside = narrow(QComboBox())
        self.beside.setAccessibleName("Beside")
        self.beside.textActivated.connect(lambda text: presenter.put_beside(text[:1]))
        rows.addRow("Beside", self.beside)
        column.add(rows)
        self.form = ModelForm(self.step.setting, ("same", "loudness", "source", "pitch_hz", "level_v"), presenter.ask,
                              self.refused)
        column.add(self.form.rows)
        self.apart = QCheckBox("Differences to the one in hand")
        self.apart.toggled.connect(lambda _: self._show(presenter.seen))
        column.add(self.apart)
        row, self.page_choice = page_buttons(PAGES, self.lower, across=3)
        column.add(row)
        column.add(self.measure_bar())
        column.add(self.found_page(), 1)

    # Pages, made when they are opened

    @cached_property
    def why(self) -> WhyFigure:
        """What of each difference comes from which cause."""
        figure = WhyFigure()
        figure.refused.connect(self.refused)
        self._draw_reasons(figure)
        return figure

    @cached_property
    def blind(self) -> BlindPage:
        """Told apart by ear alone."""
        return BlindPage(self._joined(BlindPresenter(self._session, self.presenter)))

    @cached_property
    def trainer(self) -> TrainerPage:
        """Learning to hear it."""
        return TrainerPage(self._joined(TrainerPresenter(self._session, self.presenter)))

    @cached_property
    def circuit(self) -> CircuitPage:
        """Which circuit it is."""
        return CircuitPage(CircuitPresenter(self._session, self._measuring, self.presenter))

    @cached_property
    def wish(self) -> WishPage:
        """Which filter fits."""
        return WishPage(self._joined(WishPresenter(self._session, self.presenter)))

    @cached_property
    def measured(self) -> TablePage:
        """What was measured of all of them."""
        return TablePage(TablePresenter(self._session, self.presenter))

    @cached_property
    def over(self) -> OverPage:
        """Character over a move."""
        return OverPage(self._joined(OverPresenter(self._session, self.presenter)))

    @cached_property
    def curves(self) -> CurvesPage:
        """Their curves beside each other."""
        return CurvesPage(CurvesPresenter(self._session, self.presenter))

    def _joined(self, presenter: Speaking) -> Speaking:
        """It is heard, and told when nobody looks any more."""
        presenter.message.connect(self.presenter.message)
        self.presenter.left.connect(presenter.leave)
        return presenter

    def _ask_verdict(self) -> None:
        presenter = self.presenter
        if self.verdict is None:
            self.verdict = VerdictAside(self.figures.window() or self.figures, presenter.write_verdict)
        self.verdict.ask(presenter.about, self.findings.sentences() if self.findings is not None else [])

    def _look_at_book(self) -> None:
        """What is read of it on the page that is seen."""
        page = self.lower.currentWidget()
        if isinstance(page, CircuitPage | TablePage | OverPage | CurvesPage) and page.isVisible():
            page.presenter.look()

    def _ask_why(self) -> None:
        button = self.page_choice.button(1)
        assert button is not None
        button.click()
        self.presenter.ask_why()

    # What the presenter says

    def show_standing(self, standing: Standing) -> None:
        presenter = self.presenter
        letters = [f"{letter}  {name}" for letter, name in presenter.others()]
        if [self.beside.itemText(i) for i in range(self.beside.count())] != letters:
            self.beside.clear()
            self.beside.addItems(letters)
        place = next((i for i, text in enumerate(letters) if text.startswith(presenter.beside)), -1)
        self.beside.setCurrentIndex(place)
        self.form.show(presenter.setting)
        self.level.show_cutoff(standing.standing_hz, f"cutoff (pole) {shown_hz(standing.standing_hz)}")

    def _show(self, seen: SideBySide | None) -> None:
        self.level.forget(*self._drawn)
        self._drawn = []
        if seen is None:
            return
        palette, apart = THEME.palette, self.apart.isChecked()
        here = seen.of(self.presenter.letter)
        self.level.set_levels(*(APART_DB if apart else LEVELS_DB))
        for one in seen.them:
            if one.level_db is None or (apart and (here is None or here.level_db is None)):
                continue
            level = one.level_db
            if apart and here is not None and here.level_db is not None:
                level = np.clip(level - here.level_db, -100, 100)
            ink = palette.ink_of(one.letter)
            self._drawn.append(one.letter)
            self.level.show_curve(PlotCurve(one.letter, COMPARED_HZ, level),
                                  pen_of(ink, 2.6 if one.letter == self.presenter.letter else 1.8), labelled=True,
                                  colour=ink.colour)
        self.level.place_labels()
        refused = [f"{one.letter}: {one.refused}" for one in seen.them if one.refused]
        less = f"Each less {self.presenter.letter}." if apart else ""
        self.level.say_note(" ".join([less, *refused])[:160].strip())
        self.scales.show_rows(self._rows(seen))

    def _show_reasons(self, found: Progress | Why | None) -> None:
        self._reasons = found
        for page in self.lower.made:
            if isinstance(page, WhyFigure):
                self._draw_reasons(page)

    def _draw_reasons(self, figure: WhyFigure) -> None:
        found = self._reasons
        if found is None:
            figure.show_rows((), "W asks what of each difference that is heard comes from which cause.")
        elif isinstance(found, Progress):
            figure.show_rows((), f"{found.text}: {100 * found.share:.0f} %.")
        else:
            names = list(dict.fromkeys(one.quantity for one in found.shares))
            rows = []
            for name in names:
                parts = found.of(name)
                whole = sum(parts.values())
                shares = sorted(((CAUSES[str(cause)], share) for cause, share in parts.items()
                                 if abs(share) > SHOWN_SHARE * abs(whole)), key=lambda one: -abs(one[1]))
                rows.append(Divided(SCALE[name].title, SCALE[name].unit, whole, tuple(shares)))
            left = "" if not found.left_out else " Not shared out: " + ", ".join(
                SCALE[name].title for name, _ in found.left_out) + "."
            figure.show_rows(rows, f"{self.presenter.beside} beside {self.presenter.letter}: shares add up to the "
                                   f"whole.{left}")

    def _rows(self, seen: SideBySide) -> list[ScaleRow]:
        palette = THEME.palette
        known = [one for one in seen.them if one.character is not None]
        rows = []
        for scale in SCALES:
            marks = []
            for one in known:
                assert one.character is not None
                found, read = one.character[scale.name], self.presenter.measured_of(one.letter, scale.name)
                marks.append(Mark(
                    one.letter, palette.ink_of(one.letter).colour, found.value, found.uncertainty or 0.0,
                    None if read is None else read.value, 0.0 if read is None else read.uncertainty or 0.0))
            values = [mark.value for mark in marks if mark.value is not None]
            jnd = scale.noticed.at((min(values) + max(values)) / 2) if values else None
            rows.append(ScaleRow(scale.title, scale.unit, scale.low, scale.high, jnd or None, tuple(marks)))
        return rows if known else []

    def restyle(self) -> None:
        """Draw again in the theme's colours."""
        self._show(self.presenter.seen)
        for page in self.lower.made:
            if isinstance(page, OverPage | CurvesPage):
                page.refresh()
            elif isinstance(page, WhyFigure):
                page.update()
