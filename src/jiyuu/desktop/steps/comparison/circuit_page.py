"""Which circuit the filter in hand is, as a page: the verdict, its candidates with their odds, what each leaves."""

from __future__ import annotations

from typing import Any

from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QWidget

from jiyuu.circuits.catalogue import circuit
from jiyuu.desktop.figures.small_plot import DASHED, Course, SmallPlot
from jiyuu.desktop.parts.frame import beside, page_column
from jiyuu.desktop.parts.plain_table import PlainTable
from jiyuu.desktop.steps.comparison.circuit_chooser import CircuitRecordings
from jiyuu.desktop.steps.comparison.circuit_presenter import CircuitPresenter
from jiyuu.desktop.theme.style import THEME
from jiyuu.wording.numbers import stated

NOTHING_YET = ("Which circuit is it? Two sweeps, soft and loud, and the whistle are played and every circuit of the "
               "catalogue is fitted to them. Works on the simulated unit, or on recordings of a real one.")
COLUMNS = ("odds", "leaves, dB", "circuit", "mode", "cutoff, Hz", "loop gain")
PLACES = ("best", "next")  # of the candidates that are drawn


class CircuitPage(QWidget):
    """The table is short: hardly more than three ever come near."""

    def __init__(self, presenter: CircuitPresenter) -> None:
        super().__init__()
        self.presenter = presenter
        self.setAccessibleName("Which circuit")
        column = page_column(self)
        self.verdict, self.made = QLabel(), QLabel()
        self.verdict.setProperty("role", "heading")
        self.made.setProperty("role", "quiet")
        for label in (self.verdict, self.made):
            label.setWordWrap(True)
            column.addWidget(label)
        column.addLayout(self._buttons())
        self.table = PlainTable("Candidates", COLUMNS, words=(2, 3))
        self.left = SmallPlot("What each leaves")
        self.both = beside(self.table, self.left, sizes=(560, 320))
        column.addWidget(self.both, 1)
        column.addStretch(0)  # has the room where both are hidden
        self.chooser: CircuitRecordings | None = None
        presenter.changed.connect(self.refresh)
        self.refresh()

    def _buttons(self) -> QHBoxLayout:
        row = QHBoxLayout()
        self.measure, self.read, self.more = QPushButton("Measure and tell"), QPushButton("From recordings …"), \
            QPushButton()
        self.measure.clicked.connect(self.presenter.measure)
        self.read.clicked.connect(self._choose)
        self.more.clicked.connect(self.presenter.measure_what_tells)
        for button in (self.measure, self.read, self.more):
            row.addWidget(button)
        row.addStretch(1)
        return row

    def _choose(self) -> None:
        if self.chooser is None:
            self.chooser = CircuitRecordings(self.window() or self, self.presenter.read)
        self.chooser.bring()

    def refresh(self) -> None:
        """As the presenter stands."""
        presenter, told = self.presenter, self.presenter.told
        run, tell_v = presenter.run, presenter.would_tell_v
        self.more.setVisible(tell_v is not None)
        self.both.setVisible(bool(told))
        self.measure.setText("Measure again" if told else "Measure and tell")
        if tell_v is not None:
            self.more.setText(f"Measure at {tell_v:g} V too")
            self.more.setToolTip(told["to_tell"][0]["sentence"])
        if run is None:
            self.verdict.setText("Which circuit is it?")
            self.made.setText(NOTHING_YET)
            return
        self.verdict.setText(told["sentence"])
        levels = " and ".join(f"{level:g} V" for level in presenter.levels_v)
        self.made.setText(f"Sweeps of {levels}; {run.source}, {run.title}.")
        self.table.fill([_row(one) for one in told["candidates"]])
        self._draw(told["candidates"])

    def _draw(self, candidates: list[dict[str, object]]) -> None:
        palette, courses = THEME.palette, []
        for j in range(min(len(candidates), len(PLACES))):
            for i, (table, level) in enumerate(zip(self.presenter.tables, self.presenter.levels_v, strict=False)):
                courses.append(Course(
                    f"{PLACES[j]}, {level:g} V", (palette.ink, palette.attention)[j],
                    table["frequency_hz"], table[f"candidate_{j + 1}_db"], width=1.8, dash=DASHED if i == 0 else (),
                    named=i > 0 or len(self.presenter.tables) == 1))
        self.left.show_courses("What each leaves of the curves", courses, over="Hz", unit="dB", log=True,
                               says="Dashed: the softest sweep." if len(self.presenter.tables) > 1 else "")

    def showEvent(self, event: QShowEvent | None) -> None:
        """What was measured meanwhile is seen."""
        self.presenter.look()
        super().showEvent(event)


def _row(one: dict[str, Any]) -> tuple[str, ...]:
    names = [circuit(one["circuit"]).title, *(circuit(other["circuit"]).title for other in one["alike"]
                                             if other["circuit"] != one["circuit"])]
    odds = 100 * one["odds"]
    return (f"{odds:.1f} %" if odds >= 0.05 else "< 0.1 %", f"{one['residual_db']:.3f}",
            " or ".join(dict.fromkeys(names)), one["mode"],
            *(stated(one[name]["value"], one[name]["uncertainty"]) for name in ("cutoff_hz", "loop_gain")))
