"""Measure, cancel, keep, and how far a measurement is: the same in every step that measures."""

from __future__ import annotations

from typing import Any

from PyQt6.QtWidgets import QHBoxLayout, QLabel, QProgressBar, QPushButton, QVBoxLayout, QWidget

from jiyuu.desktop.bench.findings_list import FindingsList
from jiyuu.desktop.theme.style import STEP


class MeasureBar(QWidget):
    """`lead` stands above the row, for what a step does before it measures."""

    def __init__(self, tip: str, presenter: Any, *, lead: QPushButton | None = None) -> None:
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
        self.measure.clicked.connect(presenter.measure)
        self.cancel = QPushButton("Cancel  Esc")
        self.cancel.clicked.connect(presenter.cancel)
        self.cancel.hide()
        self.keep = QPushButton("Keep  K")
        self.keep.setToolTip("Puts the chosen finding into the logbook, or takes it out.")
        for button in (self.measure, self.cancel, self.keep):
            row.addWidget(button, 1)
        column.addLayout(row)
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        self.bar.setAccessibleName("Progress of the measurement")
        self.bar.hide()
        column.addWidget(self.bar)
        presenter.busy.connect(self.show_busy)
        presenter.progress.connect(lambda _, share: self.bar.setValue(round(1000 * share)))

    def show_busy(self, busy: bool) -> None:
        self.measure.setVisible(not busy)
        self.cancel.setVisible(busy)
        self.bar.setVisible(busy)
        if not busy:
            self.bar.setValue(0)


class MeasuringView:
    """What the views of steps that measure have in common: the bar, and keeping the finding that is chosen."""

    _presenter: Any
    heading: QLabel
    findings: FindingsList

    def _measure_bar(self, tip: str, *, lead: QPushButton | None = None) -> MeasureBar:
        bar = MeasureBar(tip, self._presenter, lead=lead)
        bar.keep.clicked.connect(self.keep_current)
        self._presenter.progress.connect(lambda text, _: self.heading.setText(f"{text} …"))
        return bar

    def keep_current(self) -> None:
        """Into the logbook, or out of it."""
        if not self.findings.keep_current():
            self._presenter.message.emit("Measure first (M), then choose a finding to keep.", False)
