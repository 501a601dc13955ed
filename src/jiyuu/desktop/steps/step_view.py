"""What the views of all steps are: figures, a side column, findings, and the acts that belong to the step."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QFormLayout, QLabel, QPushButton, QWidget

from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.desktop.figures.saving import Figure
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.parts.findings_list import FindingsList
from jiyuu.desktop.parts.frame import FoundPage, ModeBox, SideColumn, form
from jiyuu.desktop.parts.knobs import cutoff_field, resonance_field
from jiyuu.desktop.parts.measure_bar import MeasureBar
from jiyuu.desktop.parts.typed_value import TypedValue
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.presenter import Said, StepPresenter
from jiyuu.desktop.theme.style import THEME


@dataclass(frozen=True, slots=True)
class Act:
    """Something a person can do: its name for the settings, its words, its keys ('' for none) and what it does."""

    name: str
    text: str
    keys: str
    do: Callable[[], object]


class StepView(QObject):
    """`figures` and `side` are placed by the window; everything else goes through the presenter. `acts`: beyond those
    that every step has. Kinds make their widgets, then call `connect`."""

    go = pyqtSignal(str)  # key of another step, to be looked at

    presenter: StepPresenter
    figures: QWidget
    side: QWidget
    main_figure: Any = None
    bar: MeasureBar | None = None
    findings: FindingsList | None = None
    heading: QLabel | None = None
    found: FoundPage | None = None
    mode: ModeBox | None = None
    cutoff: TypedValue | None = None
    resonance: TypedValue | None = None
    column: SideColumn | None = None

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session)
        self._session, self._measuring, self.step = session, measuring, step
        self.acts: Sequence[Act] = ()
        self._unstyled = False
        THEME.changed.connect(self._restyled)

    def connect(self) -> None:
        """Once the widgets are there."""
        self.presenter.standing.connect(self._show_standing)
        self.presenter.findings.connect(self._show_findings)

    # Building

    def knobs(self, *, modes: bool = True) -> QFormLayout:
        """Mode, cutoff and resonance, as most steps begin."""
        presenter, rows = self.presenter, form()
        if modes:
            self.mode = ModeBox()
            self.mode.textActivated.connect(presenter.set_mode)
            rows.addRow("Mode", self.mode)
        self.cutoff = cutoff_field(presenter.set_knob, lambda: presenter.reset("cutoff_hz"), self.refused)
        self.resonance = resonance_field(presenter.set_resonance, lambda: presenter.reset("resonance_percent"),
                                         self.refused)
        rows.addRow("Cutoff", self.cutoff)
        rows.addRow("Resonance", self.resonance)
        return rows

    def refused(self, text: str) -> None:
        """Said where everything is said."""
        self.presenter.message.emit(text, True)

    def measure_bar(self, *, lead: QPushButton | None = None) -> MeasureBar:
        """Measure and keep."""
        self.bar = MeasureBar(self.step.tip, lead=lead)
        self.bar.measure.clicked.connect(self.presenter.measure)
        self.bar.keep.clicked.connect(self.keep_current)
        return self.bar

    def found_page(self) -> FoundPage:
        """A quiet heading over the findings."""
        page = FoundPage()
        self.heading, self.findings, self.found = page.heading, page.findings, page
        page.findings.keep_toggled.connect(self.presenter.toggle_kept)
        return page

    # What the presenter says

    def _show_standing(self, standing: Standing) -> None:
        if self.column is not None:
            self.column.name(self.presenter.letter, standing.document)
        if self.mode is not None:
            self.mode.show_mode(standing.modes, standing.mode)
        if self.cutoff is not None:
            self.cutoff.set_value(standing.cutoff_hz)
        if self.resonance is not None:
            self.resonance.set_value(standing.resonance_percent)
        self.show_standing(standing)

    def show_standing(self, standing: Standing) -> None:
        """What else follows the filter as it stands."""

    def _show_findings(self, said: Said) -> None:
        if self.heading is not None:
            self.heading.setText(said.heading)
        if self.found is not None:
            self.found.warn(said.warnings)
        if self.findings is not None:
            self.findings.fill(said.logged, said.predicted, predicted_first=said.predicted_first)
        if self.bar is not None:
            self.bar.keep.setEnabled(bool(said.logged))
        self._style()

    # What the window asks

    def wake(self) -> None:
        """The step is looked at."""
        self.presenter.wake()
        self._style()

    def keep_current(self) -> None:
        """The chosen finding into the logbook, or out of it."""
        if self.findings is None or not self.findings.keep_current():
            self.presenter.message.emit("Measure first (M), then choose a finding to keep.", False)

    def shown_figures(self) -> list[Figure]:
        """Every figure of the step that is in sight, the main one first."""
        found: list[Figure] = [child for child in self.figures.findChildren(QWidget)
                            if isinstance(child, Figure) and child.isVisible()]
        return sorted(found, key=lambda figure: figure is not self.main_figure)

    def _restyled(self) -> None:
        self._unstyled = True
        if self.presenter.awake:
            self._style()

    def _style(self) -> None:
        # One that was not looked at may still show another filter: it is styled when it shows the one in hand.
        if self._unstyled and self.presenter.fresh:
            self._unstyled = False
            self.restyle()

    def restyle(self) -> None:
        """Draw again in the theme's colours."""
