"""Preferences: size of type, theme, single letters, and the keys of every act."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QKeySequence
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QKeySequenceEdit,
    QLabel,
    QListWidget,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from jiyuu.desktop.acts import shown_keys
from jiyuu.desktop.parts.aside import Aside
from jiyuu.desktop.remembered import keys_of, set_keys, single_letters, window_state
from jiyuu.desktop.steps.step_view import Act
from jiyuu.desktop.theme.style import STEP, THEME
from jiyuu.inks import PALETTES

SIZES = (85, 100, 115, 130, 150, 175, 200)


class Preferences(Aside):
    """Takes hold at once; Esc closes. `changed` says that keys are others now."""

    changed = pyqtSignal()

    def __init__(self, parent: QWidget, acts: Callable[[], list[Act]]) -> None:
        super().__init__(parent, "Preferences", (460, 480))
        self._acts, self._shown = acts, list[Act]()
        column = QVBoxLayout(self)
        column.setContentsMargins(3 * STEP, 3 * STEP, 3 * STEP, 3 * STEP)
        self.size_box, self.theme_box = QComboBox(), QComboBox()
        self.size_box.addItems([f"{size} %" for size in SIZES])
        self.size_box.setAccessibleName("Size of type")
        self.size_box.textActivated.connect(
            lambda text: THEME.apply(THEME.palette.name, scale=float(text.rstrip(" %")) / 100))
        self.theme_box.addItems(list(PALETTES))
        self.theme_box.setAccessibleName("Theme")
        self.theme_box.textActivated.connect(THEME.apply)
        row = QHBoxLayout()
        for text, box in (("Type", self.size_box), ("Theme", self.theme_box)):
            row.addWidget(QLabel(text))
            row.addWidget(box)
        row.addStretch(1)
        column.addLayout(row)
        self.letters = QCheckBox("Single letters act in figures and findings (M measures, K keeps …)")
        self.letters.toggled.connect(self._set_letters)
        column.addWidget(self.letters)
        self.list = QListWidget()
        self.list.setAccessibleName("Acts and their keys")
        self.list.currentRowChanged.connect(lambda _: self._show_keys())
        column.addWidget(self.list, 1)
        self.keys = QKeySequenceEdit()
        self.keys.setAccessibleName("Keys of the chosen act")
        take, usual = QPushButton("Take these keys"), QPushButton("Usual keys")
        take.clicked.connect(lambda: self._set(self.keys.keySequence().toString()))
        usual.clicked.connect(lambda: self._set(None))
        below = QHBoxLayout()
        below.addWidget(self.keys, 1)
        below.addWidget(take)
        below.addWidget(usual)
        column.addLayout(below)

    def open(self) -> None:
        """With what is in force now."""
        self.size_box.setCurrentText(f"{min(SIZES, key=lambda size: abs(size - 100 * THEME.scale))} %")
        self.theme_box.setCurrentText(THEME.palette.name)
        self.letters.blockSignals(True)
        self.letters.setChecked(single_letters())
        self.letters.blockSignals(False)
        self._fill()
        self.bring()

    def _fill(self) -> None:
        row = self.list.currentRow()
        self._shown = self._acts()
        self.list.clear()
        self.list.addItems([f"{act.text.replace('&', '')}   {shown_keys(act)}" for act in self._shown])
        self.list.setCurrentRow(max(row, 0))

    def _show_keys(self) -> None:
        row = self.list.currentRow()
        if 0 <= row < len(self._shown):
            act = self._shown[row]
            self.keys.setKeySequence(QKeySequence(keys_of(act.name, act.keys)))

    def _set(self, keys: str | None) -> None:
        row = self.list.currentRow()
        if 0 <= row < len(self._shown):
            set_keys(self._shown[row].name, keys)
            self.changed.emit()
            self._fill()

    def _set_letters(self, on: bool) -> None:
        window_state().setValue("single_letters", "true" if on else "false")
        self.changed.emit()
