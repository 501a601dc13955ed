"""Measure, cancel, keep, and how far a measurement is: the same in every step that measures."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QProgressBar, QPushButton, QVBoxLayout, QWidget

from jiyuu.desktop.theme.style import STEP


class MeasureBar(QWidget):
    """`lead` stands above the row, for what a step does before it measures."""

    measured = pyqtSignal()
    cancelled = pyqtSignal()
    kept = pyqtSignal()

    def __init__(self, tip: str, *, lead: QPushButton | None = None) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(STEP)
        if lead is not None:
            column.addWidget(lead)
        row = QHBoxLayout()
        self.measure = QPushButton("Measure  M")
        self.measure.setProperty("main", True)
        self.measure.setToolTip(tip)
        self.measure.clicked.connect(self.measured)
        self.cancel = QPushButton("Cancel  Esc")
        self.cancel.clicked.connect(self.cancelled)
        self.cancel.hide()
        self.keep = QPushButton("Keep  K")
        self.keep.setToolTip("Puts the chosen finding into the logbook, or takes it out.")
        self.keep.clicked.connect(self.kept)
        for button in (self.measure, self.cancel, self.keep):
            row.addWidget(button, 1)
        column.addLayout(row)
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        self.bar.setAccessibleName("Progress of the measurement")
        self.bar.hide()
        column.addWidget(self.bar)

    def show_busy(self, busy: bool) -> None:
        self.measure.setVisible(not busy)
        self.cancel.setVisible(busy)
        self.bar.setVisible(busy)
        if not busy:
            self.bar.setValue(0)

    def show_share(self, share: float) -> None:
        """How much is done, 0 to 1."""
        self.bar.setValue(round(1000 * share))
