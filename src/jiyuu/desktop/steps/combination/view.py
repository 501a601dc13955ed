"""The Combination step as widgets: parts thin and the whole thick; below, what the stage that is looked at is about:
both sides apart, phase between branches, bands and what wakes them, vowels."""

from __future__ import annotations

from functools import cached_property
from typing import TypeVar

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QStackedWidget

from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.circuits.linear import level_db
from jiyuu.desktop.figures.bands_figure import BandsFigure
from jiyuu.desktop.figures.combined_figure import CombinedFigure
from jiyuu.desktop.figures.frequency_figure import Following, FrequencyFigure
from jiyuu.desktop.figures.masking_figure import MaskingFigure
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.figures.vowel_plane import VowelPlane
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.parts.frame import SideColumn, beside, narrow, stacked
from jiyuu.desktop.parts.page_buttons import page_buttons
from jiyuu.desktop.parts.plain_table import PlainTable
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.combination.masking_page import MaskingPage
from jiyuu.desktop.steps.combination.masking_presenter import MaskingPresenter
from jiyuu.desktop.steps.combination.presenter import CombinationPresenter, Looked
from jiyuu.desktop.steps.combination.ringing_presenter import RingingPresenter
from jiyuu.desktop.steps.combination.stage_page import StagePage
from jiyuu.desktop.steps.step_view import StepView
from jiyuu.desktop.theme.pens import cosmetic, pen_of
from jiyuu.desktop.theme.style import THEME
from jiyuu.patch.document import Parallel
from jiyuu.patch.linear_stages import Bank, Formants
from jiyuu.patch.shapes import Shapes
from jiyuu.prediction.combined import COMBINED_HZ
from jiyuu.quantities import note_and_cents, shown_hz, signed

WHOLE, LEFT, RIGHT, APART, PHASE = "whole", "left", "right", "left over right", "phase between"
FLOOR_DB = -120.0  # drawn no lower
SHALLOW_DB, DEEP_DB = (-24.0, 24.0), (-60.0, 24.0)  # ranges of the figure
Below = TypeVar("Below", FrequencyFigure, BandsFigure, MaskingFigure, VowelPlane)


class CombinationView(StepView):
    """What several filters make together, and what each of them is to it."""

    presenter: CombinationPresenter

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self.presenter = presenter = CombinationPresenter(session, measuring, step)
        self.masking = MaskingPresenter(session, presenter)
        self.masking.message.connect(presenter.message)
        self.masking.changed.connect(self._show_masking)
        self.ringing = RingingPresenter(session, presenter)
        self.ringing.message.connect(presenter.message)
        self._seen: Looked | None = None
        self._drawn: list[str] = []
        self._levels: tuple[float, float] | None = None
        self._hertz = COMBINED_HZ
        self._build_figures()
        self._build_side()
        presenter.looked.connect(self._show_looked)
        self.connect()

    # Building

    def _build_figures(self) -> None:
        presenter = self.presenter
        self.combined = self.main_figure = CombinedFigure()
        self.combined.cutoff_dragged.connect(presenter.try_cutoff)
        self.combined.cutoff_dropped.connect(presenter.set_cutoff)
        self.combined.cutoff_reset.connect(lambda: presenter.reset("cutoff_hz"))
        self.combined.spacing_dragged.connect(presenter.try_spacing)
        self.combined.spacing_dropped.connect(presenter.set_spacing)
        self.combined.band_dragged.connect(presenter.try_band)
        self.combined.band_dropped.connect(presenter.set_band)
        self.woken = PlainTable("Which notes wake which bands", ("Note", "Band", "Level, dB re 1 V", "Ring, s"),
                                words=(0, 1))
        self.left_below = QStackedWidget()
        self._following = Following(self.combined)
        self.combined.refused.connect(self.refused)
        self.below = beside(self.left_below, self.woken, sizes=(560, 320))
        self.figures = stacked(self.combined, self.below, shares=(62, 38))

    # What a stage is about, made when one of its kind is first looked at

    @cached_property
    def apart(self) -> FrequencyFigure:
        """By how much one side is louder."""
        figure = FrequencyFigure(title="Level of left over right, dB", unit="dB", level_steps=(3.0, 6.0, 12.0),
                                 strong_step=12.0)
        figure.set_levels(-30, 30)
        figure.hide_cutoff()
        return self._placed(figure)

    @cached_property
    def phase(self) -> FrequencyFigure:
        """By how much one branch turns before another."""
        figure = FrequencyFigure(title="Phase between the first two branches, °", unit="°", level_steps=(45.0, 90.0),
                                 strong_step=90.0)
        figure.set_levels(-225, 225)
        figure.hide_cutoff()
        return self._placed(figure)

    @cached_property
    def bands(self) -> BandsFigure:
        """Bands of a bank and what wakes them; images of what was played into a stage."""
        return self._placed(BandsFigure())

    @cached_property
    def masked(self) -> MaskingFigure:
        """What is not heard beside something else."""
        return self._placed(MaskingFigure())

    @cached_property
    def plane(self) -> VowelPlane:
        """Vowels, and the way between two of them."""
        plane = VowelPlane()
        plane.morph_dragged.connect(self.presenter.try_morph)
        plane.morph_dropped.connect(lambda morph: self.presenter.set_stage(morph=round(morph, 3)))
        plane.vowel_chosen.connect(lambda letter: self.presenter.set_stage(to=letter))
        return self._placed(plane)

    def _placed(self, figure: Below) -> Below:
        figure.refused.connect(self.refused)
        self.left_below.addWidget(figure)
        if isinstance(figure, FrequencyFigure):
            self._following.join(figure)
        return figure

    def _build_side(self) -> None:
        presenter = self.presenter
        self.side = self.column = column = SideColumn()
        column.add(self.knobs())
        self.look = narrow(QComboBox())
        self.look.setAccessibleName("Stage that is looked at")
        self.look.activated.connect(lambda index: presenter.look_at(self.look.itemData(index)))
        column.add(self.look)
        self.stage_page = StagePage(presenter, self.ringing)
        self.pages = QStackedWidget()
        self.pages.addWidget(self.found_page())
        self.pages.addWidget(self.stage_page)
        self.masking_page = MaskingPage(self.masking, presenter)
        self.pages.addWidget(self.masking_page)
        self.pages.currentChanged.connect(lambda _: self._show_looked(self._seen))
        row, self.page_choice = page_buttons(("Findings", "Stage", "Masking"), self.pages)
        column.add(row)
        column.add(self.pages, 1)

    # What the presenter says

    def show_standing(self, standing: Standing) -> None:
        choices = self.presenter.choices()
        if [self.look.itemText(i) for i in range(self.look.count())] != [name for name, _ in choices]:
            self.look.clear()
            for name, place in choices:
                self.look.addItem(name, place)
        at = next((i for i, (_, place) in enumerate(choices) if place == self.presenter.place), 0)
        self.look.setCurrentIndex(at)
        self.combined.show_cutoff(standing.standing_hz, f"cutoff (pole) {shown_hz(standing.standing_hz)}")
        self.combined.show_tied(standing.setup.tied, standing.standing_hz)
        self.stage_page.show_standing(standing)

    def _show_looked(self, seen: Looked | None) -> None:
        self._seen = seen
        self.combined.forget(*self._drawn)
        self._drawn = []
        self.below.setVisible(False)
        if seen is None:
            self.combined.handles.show([], THEME.palette.ink)
            return
        palette, ink = THEME.palette, THEME.palette.ink_of(self.presenter.letter)
        self._hertz = seen.found.hertz
        for k, part in enumerate(seen.found.parts):
            dash = palette.inks[(k + 1) % len(palette.inks)].dash
            self._draw(part.name, level_db(part.gain), cosmetic(palette.quiet, 1.1, dash=dash), palette.quiet)
        right = seen.found.right
        self._draw(WHOLE if right is None else LEFT, level_db(seen.found.whole), pen_of(ink, 2.6), ink.colour)
        if right is not None:
            self._draw(RIGHT, level_db(right), cosmetic(ink.colour, 2.6, Qt.PenStyle.DashLine), ink.colour)
        lowest = min(float(level_db(one).min()) for one in (seen.found.whole, *(p.gain for p in seen.found.parts)))
        levels = SHALLOW_DB if lowest > SHALLOW_DB[0] else DEEP_DB
        if levels != self._levels:  # else whoever zoomed in stays there
            self._levels = levels
            self.combined.set_levels(*levels)
        own = any(part.apart for part in seen.found.parts)
        self.combined.say_note("Sources of their own: what they make together is the sum of powers." if own else "")
        self.combined.place_labels()
        stage = seen.stage
        bands = stage.bands if isinstance(stage, Shapes) and not stage.ways and not stage.bypass else ()
        self.combined.handles.show([(band.frequency_hz, band.gain_db) for band in bands], ink.colour)
        self._show_below(seen, ink.colour)

    def _draw(self, name: str, levels: np.ndarray, pen: object, colour: str) -> None:
        while name in self._drawn:
            name += " "
        self._drawn.append(name)
        self.combined.show_curve(PlotCurve(name, self._hertz, np.maximum(levels, FLOOR_DB)), pen,  # type: ignore[arg-type]
                                 labelled=True, colour=colour)

    def _show_below(self, seen: Looked, colour: str) -> None:
        """What the stage is about."""
        if self.pages.currentWidget() is self.masking_page:
            self._show_masking()
            return
        stage, apart = seen.stage, seen.found.difference_db
        self.woken.setVisible(isinstance(stage, Bank))
        if isinstance(stage, Bank):
            self._show_bands(seen, stage, colour)
        elif seen.images is not None:
            self.bands.show_images(seen.images, colour)
            self.bands.say_note("Thin: what is played into it; thick: images of that, out of tune with it.")
            self.left_below.setCurrentWidget(self.bands)
        elif isinstance(stage, Formants):
            hertz = [float(formant[0]) for formant, _ in stage.at(np.array([stage.morph]))]
            self.plane.show_way(stage.from_, stage.to, stage.morph,
                                (hertz[0], hertz[1]) if len(hertz) > 1 else None, colour)
            self.left_below.setCurrentWidget(self.plane)
        elif apart is not None:
            self.apart.show_curve(PlotCurve(APART, self._hertz, np.clip(apart, -100, 100)), cosmetic(colour, 2.0))
            self.left_below.setCurrentWidget(self.apart)
        elif isinstance(stage, Parallel) and len(seen.found.parts) > 1 and not any(
                part.apart for part in seen.found.parts[:2]):
            one, other = seen.found.parts[:2]
            with np.errstate(invalid="ignore", divide="ignore"):
                turned = np.degrees(np.angle(one.gain / other.gain))
            self.phase.show_curve(PlotCurve(PHASE, self._hertz, np.nan_to_num(turned)), cosmetic(colour, 2.0))
            self.phase.say_note("At ±180° they take each other away, at 0° they add.")
            self.left_below.setCurrentWidget(self.phase)
        else:
            return
        self.below.setVisible(True)

    def _show_masking(self) -> None:
        """Below, while its page is looked at."""
        if self.pages.currentWidget() is not self.masking_page:
            return
        masked = self.masking.masked
        self.masked.show_masking(None if masked is None else masked.found,
                                 THEME.palette.ink_of(self.presenter.letter).colour)
        self.left_below.setCurrentWidget(self.masked)
        self.woken.setVisible(False)
        self.below.setVisible(masked is not None)

    def _show_bands(self, seen: Looked, bank: Bank, colour: str) -> None:
        members = sorted((section.frequency_hz, weight * 10 ** (bank.groups[k].level_db / 20))
                         for k in range(len(bank.groups)) for section, weight in bank.members(k))
        hertz = np.array([one for one, _ in members])
        loudest = np.full(hertz.size, np.nan)
        for one in seen.woken:
            loudest[one.band] = np.fmax(loudest[one.band], one.level_db)
        self.bands.show_bands(hertz, level_db(np.array([weight for _, weight in members])), loudest, seen.notes_hz,
                              colour)
        self.left_below.setCurrentWidget(self.bands)
        self.woken.fill([
            (_note(one.note_hz), shown_hz(one.band_hz), signed(one.level_db), f"{one.ring_s:.3f}")
            for one in seen.woken])

    def restyle(self) -> None:
        """Draw again in the theme's colours."""
        self._show_looked(self._seen)


def _note(hertz: float) -> str:
    name, cents = note_and_cents(hertz)
    return name if abs(cents) < 1 else f"{name} {signed(cents, 0)} c"
