"""A step that is not there yet, saying so plainly."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel, QVBoxLayout, QWidget

from jiyuu.bench.step import Step
from jiyuu.bench.walk import walk
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.presenter import StepPresenter
from jiyuu.desktop.steps.step_view import StepView
from jiyuu.desktop.theme.style import STEP


class NotBuiltView(StepView):
    """`figures` says what the step will be for; there is nothing to set."""

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self.presenter = StepPresenter(session, measuring, step)
        self.figures, self.side = QWidget(), QWidget()
        layout = QVBoxLayout(self.figures)
        layout.setContentsMargins(8 * STEP, 8 * STEP, 8 * STEP, 8 * STEP)
        heading = QLabel(f"{step.name}: not built yet")
        heading.setProperty("role", "heading")
        built = ", ".join(other.name for other in walk() if other.built)
        text = QLabel(f"It will be for this: {step.purpose}.\nBuilt today: {built}.")
        text.setWordWrap(True)
        layout.addWidget(heading)
        layout.addWidget(text)
        layout.addStretch(1)
        layout.setAlignment(Qt.AlignmentFlag.AlignTop)
