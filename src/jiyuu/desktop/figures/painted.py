"""A figure drawn by hand, without a ruler: its words and values are its own, the rest it shares with all."""

from __future__ import annotations

import csv
import io

from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from jiyuu.desktop.figures.saving import Figure
from jiyuu.desktop.theme.style import SMALL_PX, THEME

TITLE_AT = QPointF(7, 15)


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

    def paint(self, painter: QPainter) -> None:
        """What a kind draws on the sheet under its title, in the quiet ink and the small type to begin with."""
        raise NotImplementedError

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        palette = THEME.palette
        painter.fillRect(self.rect(), QColor(palette.raised))
        painter.setFont(THEME.font(px=SMALL_PX, bold=True))
        painter.setPen(QColor(palette.ink))
        painter.drawText(TITLE_AT, self.title)
        painter.setFont(THEME.font(px=SMALL_PX))
        painter.setPen(QColor(palette.quiet))
        self.paint(painter)
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(palette.ink), 1, Qt.PenStyle.DotLine))
            painter.drawRect(self.rect().adjusted(1, 1, -2, -2))

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
