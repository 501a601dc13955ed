"""The session's plan: the steps in working order with their states, and one button that does what is missing."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QLabel, QListWidget, QProgressBar, QPushButton, QVBoxLayout, QWidget

from jiyuu.book.walk import BUILT, STEPS, StepState
from jiyuu.desktop.theme.style import STEP

_PURPOSE = {
    "Setup": "levels in the neutral state", "Response": "every mode without howl: slope, cutoff, polarity",
    "Resonance": "21 positions of the control, onset, taper", "Self-oscillation": "purity, tuning, cusp",
    "Tracking": "volts per octave, trims", "Drive": "clean to saturated", "Modulation": "envelopes, pings, settling",
    "Combination": "two filters together", "Comparison": "equal loudness", "Logbook": "what was kept",
}


class PlanPage(QWidget):
    """Double-click or Enter goes to a step."""

    go = pyqtSignal(str)
    walk = pyqtSignal()
    cancel = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(STEP)
        self.steps = QListWidget()
        self.steps.setProperty("role", "notes")
        self.steps.setWordWrap(True)
        self.steps.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.steps.setAccessibleName("Session plan")
        self.steps.itemActivated.connect(lambda item: self.go.emit(STEPS[self.steps.row(item)]))
        column.addWidget(self.steps, 1)
        self.what = QLabel()
        self.what.setProperty("role", "quiet")
        self.what.setWordWrap(True)
        column.addWidget(self.what)
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        self.bar.setAccessibleName("Progress of the walk")
        self.bar.hide()
        column.addWidget(self.bar)
        self.do = QPushButton("Do the whole walk")
        self.do.setProperty("main", True)
        self.do.setToolTip("Measures every step that is open or out of date, one after the other, on this filter.")
        self.do.clicked.connect(self.walk)
        self.stop = QPushButton("Stop; go on later")
        self.stop.clicked.connect(self.cancel)
        self.stop.hide()
        column.addWidget(self.do)
        column.addWidget(self.stop)

    def show_states(self, states: dict[str, StepState]) -> None:
        row = self.steps.currentRow()
        self.steps.clear()
        for number, step in enumerate(STEPS, start=1):
            state = states[step].value if step in BUILT else "not built yet"
            self.steps.addItem(f"{number}  {step}: {state}\n    {_PURPOSE[step]}")
        self.steps.setCurrentRow(max(row, 0))

    def show_busy(self, busy: bool) -> None:
        self.do.setVisible(not busy)
        self.stop.setVisible(busy)
        self.bar.setVisible(busy)
        if not busy:
            self.what.setText("")

    def show_progress(self, text: str, share: float) -> None:
        self.bar.setValue(round(1000 * share))
        self.what.setText(f"{text} …")
