"""Measure and keep: the same in every step that measures."""

from __future__ import annotations

from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from jiyuu.desktop.theme.style import STEP


class MeasureBar(QWidget):
    """tip: what measuring does. `lead` stands above the row, for what a step does before it measures."""

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
        self.keep = QPushButton("Keep  K")
        self.keep.setToolTip("Puts the chosen finding into the logbook, or takes it out.")
        for button in (self.measure, self.keep):
            row.addWidget(button, 1)
        column.addLayout(row)
