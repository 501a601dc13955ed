"""A row of flat buttons that turn the pages of a stack."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QButtonGroup, QGridLayout, QHBoxLayout, QPushButton, QStackedWidget

from jiyuu.desktop.parts.lines import Lines
from jiyuu.desktop.theme.style import STEP


def page_buttons(
    names: tuple[str, ...], stack: QStackedWidget, *, across: int = 8
) -> tuple[QHBoxLayout, QButtonGroup]:
    """One button a page, the first one pressed; so many in a line, and fewer where it is narrow. What is added to the
    row stands at its right."""
    row, grid, lines, group = QHBoxLayout(), QGridLayout(), Lines(), QButtonGroup(stack)
    for layout in (row, grid):
        layout.setSpacing(STEP)
    for i, name in enumerate(names):
        button = QPushButton(name)
        button.setProperty("role", "page")
        button.setCheckable(True)
        button.setChecked(i == 0)
        group.addButton(button, i)
        if len(names) > across:
            grid.addWidget(button, i // across, i % across, Qt.AlignmentFlag.AlignLeft)
        else:
            lines.addWidget(button)
    row.addLayout(grid if len(names) > across else lines)
    row.addStretch(1)
    group.idClicked.connect(stack.setCurrentIndex)
    return row, group
