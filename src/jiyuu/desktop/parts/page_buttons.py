"""A row of flat buttons that turn the pages of a stack."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QButtonGroup, QGridLayout, QPushButton, QStackedWidget

from jiyuu.desktop.theme.style import STEP


def page_buttons(
    names: tuple[str, ...], stack: QStackedWidget, *, across: int = 8
) -> tuple[QGridLayout, QButtonGroup]:
    """One button a page, the first one pressed; so many in a row."""
    grid, group = QGridLayout(), QButtonGroup(stack)
    grid.setSpacing(STEP)
    for i, name in enumerate(names):
        button = QPushButton(name)
        button.setProperty("role", "page")
        button.setCheckable(True)
        button.setChecked(i == 0)
        group.addButton(button, i)
        grid.addWidget(button, i // across, i % across, Qt.AlignmentFlag.AlignLeft)
    grid.setColumnStretch(min(len(names), across), 1)
    group.idClicked.connect(stack.setCurrentIndex)
    return grid, group
