"""Another filter for the shelf: the catalogue, each with its drawing and what it is."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QListWidget, QListWidgetItem, QPushButton, QVBoxLayout, QWidget

from jiyuu.circuits.catalogue import circuits
from jiyuu.circuits.circuit import Circuit
from jiyuu.desktop.parts.aside import Aside
from jiyuu.desktop.parts.frame import scrolled
from jiyuu.desktop.steps.response.circuit_page import DrawingView
from jiyuu.desktop.theme.style import STEP, THEME


class CircuitChooser(Aside):
    """Not modal: it may stay open while one looks at the bench."""

    chosen = pyqtSignal(str)  # circuit id

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, "Another filter for the shelf", (700, 380))
        row = QHBoxLayout(self)
        row.setContentsMargins(3 * STEP, 3 * STEP, 3 * STEP, 3 * STEP)
        row.setSpacing(4 * STEP)
        self.list = QListWidget()
        self.list.setAccessibleName("Circuits")
        self.list.setMinimumWidth(round(190 * THEME.scale))
        for entry in circuits().values():
            item = QListWidgetItem(entry.title)
            item.setData(Qt.ItemDataRole.UserRole, entry.id)
            self.list.addItem(item)
        row.addWidget(self.list)
        column, (area, told) = QVBoxLayout(), scrolled()
        for each in (column, told):
            each.setSpacing(2 * STEP)
        self._title, self.facts, self._explanation = QLabel(), QLabel(), QLabel()
        self._title.setProperty("role", "heading")
        self.facts.setProperty("role", "quiet")
        for label in (self.facts, self._explanation):
            label.setWordWrap(True)
        self.drawing = DrawingView()
        self.take = QPushButton("Put on the shelf")
        self.take.setProperty("main", True)
        self.take.clicked.connect(lambda: self.chosen.emit(self.circuit.id))
        for widget in (self._title, self.drawing, self._explanation, self.facts):
            told.addWidget(widget)
        told.addStretch(1)
        column.addWidget(area, 1)
        column.addWidget(self.take, 0, Qt.AlignmentFlag.AlignLeft)
        row.addLayout(column, 1)
        self.list.currentRowChanged.connect(lambda _: self._show())
        self.list.itemActivated.connect(lambda _: self.chosen.emit(self.circuit.id))
        self.list.setCurrentRow(0)

    @property
    def circuit(self) -> Circuit:
        """The one in view."""
        item = self.list.currentItem()
        assert item is not None
        return circuits()[item.data(Qt.ItemDataRole.UserRole)]

    def _show(self) -> None:
        entry = self.circuit
        self._title.setText(entry.title)
        self._explanation.setText(entry.explanation)
        onset = "never oscillates" if entry.onset_gain is None else f"oscillates from k = {entry.onset_gain:.4g}"
        self.facts.setText(f"{entry.poles} poles, {onset}. Modes: {', '.join(entry.modes)}.")
        self.drawing.show_diagram(entry.diagram, entry.title)
