"""A table to be read and copied: figures right-aligned in the number face, Ctrl+C takes it as text with tabs."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QGuiApplication, QKeySequence, QShortcut, QShowEvent
from PyQt6.QtWidgets import QHeaderView, QTableWidget, QTableWidgetItem

from jiyuu.desktop.theme.style import SMALL_PX, THEME


class PlainTable(QTableWidget):
    """columns: headings with their units. words: the columns that hold words and stand to the left."""

    def __init__(self, name: str, columns: Sequence[str], *, words: Collection[int] = ()) -> None:
        super().__init__(0, len(columns))
        self._columns, self._words = tuple(columns), frozenset(words)
        self._ends_in_words = len(columns) - 1 in self._words  # a number far from the others would not be theirs
        self.setHorizontalHeaderLabels(list(columns))
        self.setAccessibleName(name)
        self.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.setShowGrid(False)
        self.setTabKeyNavigation(False)  # Tab leaves; arrows move inside
        self.setWordWrap(False)
        vertical, header = self.verticalHeader(), self.horizontalHeader()
        assert vertical is not None
        assert header is not None
        vertical.hide()
        for j in range(len(columns)):  # a heading stands over its column
            heading = self.horizontalHeaderItem(j)
            assert heading is not None
            heading.setTextAlignment(_side(j in self._words) | Qt.AlignmentFlag.AlignVCenter)
        self._fit_to_contents(True)
        header.setStretchLastSection(self._ends_in_words)
        copy = QShortcut(QKeySequence.StandardKey.Copy, self, self.copy)
        copy.setContext(Qt.ShortcutContext.WidgetShortcut)

    def fill(
        self, rows: Sequence[Sequence[str]], *, marked: Collection[tuple[int, int]] = (),
        strong: Collection[tuple[int, int]] = (),
    ) -> None:
        """marked: (row, column) of what is out of tolerance; strong: of what matters most."""
        self._fit_to_contents(False)  # with every cell it would look through all of them
        self.setRowCount(len(rows))
        for i, row in enumerate(rows):
            several = any("\n" in text for text in row)  # lines in a cell; the others stand beside the first
            height = Qt.AlignmentFlag.AlignTop if several else Qt.AlignmentFlag.AlignVCenter
            for j, text in enumerate(row):
                item = QTableWidgetItem(text)
                item.setFont(THEME.font(px=SMALL_PX, bold=(i, j) in strong))
                item.setTextAlignment(_side(j in self._words) | height)
                if (i, j) in marked:
                    item.setForeground(QColor(THEME.palette.attention))
                self.setItem(i, j, item)
        self._fit_to_contents(True)

    def _fit_to_contents(self, fit: bool) -> None:
        mode = QHeaderView.ResizeMode.ResizeToContents if fit else QHeaderView.ResizeMode.Fixed
        for header in (self.verticalHeader(), self.horizontalHeader()):
            assert header is not None
            header.setSectionResizeMode(mode)

    def showEvent(self, a0: QShowEvent | None) -> None:
        """What was filled in while nobody saw it has given its last column the usual size, which may be too wide."""
        super().showEvent(a0)
        header = self.horizontalHeader()
        assert header is not None
        header.setStretchLastSection(False)
        header.setDefaultSectionSize(header.minimumSectionSize())
        header.setStretchLastSection(self._ends_in_words)

    def as_text(self) -> str:
        """The rows chosen (all when none is) with tabs, headings first."""
        chosen = sorted({index.row() for index in self.selectedIndexes()}) or range(self.rowCount())
        rows = ["\t".join(self._columns)]
        for i in chosen:
            cells = [self.item(i, j) for j in range(len(self._columns))]
            rows.append("\t".join("" if cell is None else cell.text() for cell in cells))
        return "\n".join(rows) + "\n"

    def copy(self) -> None:
        clipboard = QGuiApplication.clipboard()
        assert clipboard is not None
        clipboard.setText(self.as_text())


def _side(words: bool) -> Qt.AlignmentFlag:
    return Qt.AlignmentFlag.AlignLeft if words else Qt.AlignmentFlag.AlignRight
