"""A row of flat buttons that turn the pages of a stack."""

from __future__ import annotations

from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QStackedWidget

from jiyuu.desktop.theme.style import STEP


def page_buttons(names: tuple[str, ...], stack: QStackedWidget) -> tuple[QHBoxLayout, QButtonGroup]:
    """One button a page, the first one pressed."""
    row, group = QHBoxLayout(), QButtonGroup(stack)
    row.setSpacing(STEP)
    for i, name in enumerate(names):
        button = QPushButton(name)
        button.setProperty("role", "page")
        button.setCheckable(True)
        button.setChecked(i == 0)
        group.addButton(button, i)
        row.addWidget(button)
    row.addStretch(1)
    group.idClicked.connect(stack.setCurrentIndex)
    return row, group
