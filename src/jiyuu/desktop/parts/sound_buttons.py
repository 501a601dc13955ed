"""Buttons for sounds beside each other, one of which is heard."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtWidgets import QHBoxLayout, QPushButton


def sound_buttons(texts: Sequence[str], tip: str, hear: Callable[[int], None]) -> tuple[QHBoxLayout, list[QPushButton]]:
    """(a row, its buttons): pressing one asks for its number to be heard; who asks says which is checked."""
    row, buttons = QHBoxLayout(), []
    for which, text in enumerate(texts):
        button = QPushButton(text)
        button.setCheckable(True)
        button.setProperty("role", "sound")
        button.setToolTip(tip)
        button.clicked.connect(lambda _, which=which: hear(which))
        row.addWidget(button)
        buttons.append(button)
    row.addStretch(1)
    return row, buttons
