"""A table to be read and copied: figures right-aligned in the number face, Ctrl+C takes it as text with tabs."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QGuiApplication, QKeySequence, QShortcut
from PyQt6.QtWidgets import QHeaderView, QTableWidget, QTableWidgetItem

from jiyuu.desktop.theme.style import SMALL_PX, THEME


class PlainTable(QTableWidget):
    """columns: headings with their units. `text_first`: the first column holds words."""

    def __init__(self, name: str, columns: Sequence[str], *, text_first: bool = False) -> None:
        super().__init__(0, len(columns))
        self._columns, self._text_first = tuple(columns), text_first
        self.setHorizontalHeaderLabels(list(columns))
        self.setAccessibleName(name)
        self.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.setShowGrid(False)
        self.setWordWrap(False)
        vertical, header = self.verticalHeader(), self.horizontalHeader()
        assert vertical is not None
        assert header is not None
        vertical.hide()
        vertical.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignRight)
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setStretchLastSection(True)
        copy = QShortcut(QKeySequence.StandardKey.Copy, self, self.copy)
        copy.setContext(Qt.ShortcutContext.WidgetShortcut)

    def fill(self, rows: Sequence[Sequence[str]], *, marked: Collection[tuple[int, int]] = ()) -> None:
        """marked: (row, column) of what is out of tolerance."""
        self.setRowCount(len(rows))
        for i, row in enumerate(rows):
            for j, text in enumerate(row):
                words = self._text_first and j == 0
                item = QTableWidgetItem(text)
                item.setFont(THEME.font(px=SMALL_PX, numbers=not words))
                side = Qt.AlignmentFlag.AlignLeft if words else Qt.AlignmentFlag.AlignRight
                item.setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)
                if (i, j) in marked:
                    item.setForeground(QColor(THEME.palette.attention))
                self.setItem(i, j, item)

    def as_text(self) -> str:
        rows = ["\t".join(self._columns)]
        for i in range(self.rowCount()):
            cells = [self.item(i, j) for j in range(len(self._columns))]
            rows.append("\t".join("" if cell is None else cell.text() for cell in cells))
        return "\n".join(rows) + "\n"

    def copy(self) -> None:
        clipboard = QGuiApplication.clipboard()
        assert clipboard is not None
        clipboard.setText(self.as_text())
