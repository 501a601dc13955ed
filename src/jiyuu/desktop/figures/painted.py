"""A figure drawn by hand, without a ruler: its words and values are its own, the rest it shares with all."""

from __future__ import annotations

import csv
import io

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QWidget

from jiyuu.desktop.figures.saving import Figure
from jiyuu.desktop.theme.style import THEME


class PaintedFigure(QWidget, Figure):
    """A kind of figure says its lines in `words` and its values in `rows`."""

    refused = pyqtSignal(str)

    def __init__(self, title: str) -> None:
        super().__init__()
        self.title = title
        self.setAccessibleName(title)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(self.figure_menu)
        THEME.changed.connect(self._restyled)

    def _restyled(self) -> None:
        # A method of Qt's own would go on being called when this figure is gone.
        self.update()

    def rows(self) -> list[tuple[object, ...]]:
        """The values as a table, names of the columns first; empty where nothing is drawn."""
        raise NotImplementedError

    def as_csv(self, separator: str = ",") -> str:
        """The table with numbers in full."""
        text = io.StringIO()
        csv.writer(text, delimiter=separator, lineterminator="\n").writerows(self.rows())
        return text.getvalue()

    def describe(self) -> None:
        """What it says, for whoever listens instead of looking; to be called when something else is drawn."""
        self.setAccessibleDescription(" ".join(self.words()))
        self.update()

    def refuse(self, text: str) -> None:
        self.refused.emit(text)
