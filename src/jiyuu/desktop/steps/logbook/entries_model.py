"""Entries of the logbook as a table that asks only for the rows in sight."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt
from PyQt6.QtGui import QColor, QGuiApplication, QKeySequence, QResizeEvent, QShortcut
from PyQt6.QtWidgets import QHeaderView, QTableView

from jiyuu.bench.timeline import Entry
from jiyuu.bench.walk import walk
from jiyuu.desktop.theme.style import SMALL_PX, THEME
from jiyuu.measurement.finding import Verdict

COLUMNS = ("Day", "Filter", "Step", "What", "Stamp")
WHAT, STAMP = 3, 4
ROOM = "lowpass-24, 820.0 Hz, 45 %"  # that What has at the least; where it would not, the stamp is a sign before it
ROW_SHARE = 1.6  # of the height of the letters


class EntriesModel(QAbstractTableModel):
    """A row an entry."""

    def __init__(self) -> None:
        super().__init__()
        self.entries: Sequence[Entry] = ()
        self.is_narrow = False
        self._steps = {one.key: one.name for one in walk()}

    def show_entries(self, entries: Sequence[Entry]) -> None:
        self.beginResetModel()
        self.entries = entries
        self.endResetModel()

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.entries)

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        return len(COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> object:
        return COLUMNS[section] if role == Qt.ItemDataRole.DisplayRole and section < len(COLUMNS) else None

    def cells(self, entry: Entry) -> tuple[str, ...]:
        """What stands in a row."""
        stamp = "" if entry.verdict is Verdict.UNJUDGED else str(entry.verdict)
        return (f"{entry.at.day} {entry.at:%b %Y}", entry.letter, self._steps.get(entry.step, entry.step),
                entry.text.replace("\n", " "), stamp)

    def data(self, index: QModelIndex, role: int = 0) -> object:
        entry = self.entries[index.row()]
        if role == Qt.ItemDataRole.DisplayRole:
            text = self.cells(entry)[index.column()]
            outside = self.is_narrow and index.column() == WHAT and entry.verdict is Verdict.OUTSIDE
            return f"✗ {text}" if outside else text
        if role == Qt.ItemDataRole.ToolTipRole:
            return entry.text
        if role == Qt.ItemDataRole.FontRole:
            return THEME.font(px=SMALL_PX)
        if role == Qt.ItemDataRole.ForegroundRole:
            if index.column() == 1 and entry.letter:
                return QColor(THEME.palette.ink_of(entry.letter).colour)
            if index.column() == (WHAT if self.is_narrow else STAMP) and entry.verdict is Verdict.OUTSIDE:
                return QColor(THEME.palette.attention)
        return None


class EntriesTable(QTableView):
    """Rows of one height, so that fifty thousand open as quickly as fifty; Ctrl+C copies those chosen."""

    def __init__(self) -> None:
        super().__init__()
        self.entries_model = EntriesModel()
        self.setModel(self.entries_model)
        self.setAccessibleName("Entries")
        self.setSelectionBehavior(QTableView.SelectionBehavior.SelectRows)
        self.setEditTriggers(QTableView.EditTrigger.NoEditTriggers)
        self.setShowGrid(False)
        self.setTabKeyNavigation(False)  # Tab leaves; arrows move inside
        self.setWordWrap(False)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        copy = QShortcut(QKeySequence.StandardKey.Copy, self, self.copy)
        copy.setContext(Qt.ShortcutContext.WidgetShortcut)
        self.restyle()

    def restyle(self) -> None:
        """Heights and widths for the size of type."""
        vertical, header = self.verticalHeader(), self.horizontalHeader()
        assert vertical is not None
        assert header is not None
        metrics = self.fontMetrics()
        vertical.hide()
        vertical.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        vertical.setDefaultSectionSize(round(ROW_SHARE * metrics.height()))
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        header.setSectionResizeMode(WHAT, QHeaderView.ResizeMode.Stretch)
        longest = {0: "30 Nov 2026", 1: "Filter", 2: "Self-oscillation", STAMP: "out of tolerance"}
        self._widths = {column: metrics.horizontalAdvance(text) + 14 for column, text in longest.items()}
        for column, width in self._widths.items():
            header.setSectionResizeMode(column, QHeaderView.ResizeMode.Fixed)
            header.resizeSection(column, width)
        self._fit()

    def resizeEvent(self, e: QResizeEvent | None) -> None:
        super().resizeEvent(e)
        self._fit()

    def _fit(self) -> None:
        viewport = self.viewport()
        assert viewport is not None
        taken = sum(self._widths.values()) + self.fontMetrics().horizontalAdvance(ROOM)
        self.entries_model.is_narrow = viewport.width() < taken
        self.setColumnHidden(STAMP, self.entries_model.is_narrow)
        viewport.update()

    def copy(self) -> None:
        """The rows chosen (all when none is) with tabs, headings first."""
        model, selection = self.entries_model, self.selectionModel()
        assert selection is not None
        rows = sorted({index.row() for index in selection.selectedRows()}) or range(len(model.entries))
        lines = ["\t".join(COLUMNS), *("\t".join(model.cells(model.entries[row])) for row in rows)]
        clipboard = QGuiApplication.clipboard()
        assert clipboard is not None
        clipboard.setText("\n".join(lines) + "\n")
