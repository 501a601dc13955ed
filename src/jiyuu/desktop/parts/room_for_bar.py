"""A list whose rows are laid out for the width they get, whether there is something to scroll or not."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QAbstractScrollArea


def keep_room_for_bar(area: QAbstractScrollArea) -> None:
    """The bar keeps its place always; its handle is seen only where there is something to scroll."""
    area.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOn)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    bar = area.verticalScrollBar()
    assert bar is not None
    bar.setEnabled(bar.maximum() > bar.minimum())
    bar.rangeChanged.connect(lambda least, most: bar.setEnabled(most > least))
