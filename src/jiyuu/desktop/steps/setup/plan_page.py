"""The session's plan: the steps in working order with their states, and one button that does what is missing."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from jiyuu.bench.walk import StepState, walk
from jiyuu.desktop.parts.notes_list import NotesList
from jiyuu.desktop.theme.style import STEP


class PlanPage(QWidget):
    """Double-click or Enter goes to a step."""

    go = pyqtSignal(str)  # key of a step
    walk = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(STEP)
        self.steps = NotesList("Session plan")
        self.steps.itemActivated.connect(lambda item: self.go.emit(walk()[self.steps.row(item)].key))
        column.addWidget(self.steps, 1)
        self.do = QPushButton("Do the whole walk")
        self.do.setProperty("main", True)
        self.do.setToolTip("Measures every step that is open or out of date, one after the other, on this filter.")
        self.do.clicked.connect(self.walk)
        column.addWidget(self.do)

    def show_states(self, states: Mapping[str, StepState]) -> None:
        row = self.steps.currentRow()
        self.steps.clear()
        for step in walk():
            self.steps.addItem(f"{step.number}  {step.name}: {states[step.key].value}\n    {step.purpose}")
        self.steps.setCurrentRow(max(row, 0))
