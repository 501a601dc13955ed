"""The logbook: every finding kept, with the settings that gave it, and the notes."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QGuiApplication, QKeySequence, QShortcut
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QLabel,
    QLineEdit,
    QListWidget,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from jiyuu.book.store import LoggedFinding
from jiyuu.desktop.session import Session
from jiyuu.desktop.theme.style import STEP, THEME
from jiyuu.measurement.finding import Verdict
from jiyuu.measurement.wording import QUANTITIES, sentence
from jiyuu.quantities import shown_hz

_COLUMNS = ("Filter", "Step", "Finding", "Stamp", "Cutoff", "Resonance", "Mode", "Kept")


class LogbookView:
    """A table of what is kept; notes beside it."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._rows: list[LoggedFinding] = []
        self.figures = QWidget()
        column = QVBoxLayout(self.figures)
        column.setContentsMargins(2 * STEP, 2 * STEP, 2 * STEP, 2 * STEP)
        self.empty = QLabel(
            "Nothing is kept yet. Measure in the step Response (M), choose a finding and press K: it stands here with "
            "the settings that gave it."
        )
        self.empty.setWordWrap(True)
        column.addWidget(self.empty)
        self.table = QTableWidget(0, len(_COLUMNS))
        self.table.setHorizontalHeaderLabels(_COLUMNS)
        self.table.setAccessibleName("Findings kept")
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setWordWrap(True)
        self.table.setShowGrid(False)
        self.table.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        vertical, header = self.table.verticalHeader(), self.table.horizontalHeader()
        assert vertical is not None
        assert header is not None
        vertical.hide()
        vertical.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        column.addWidget(self.table, 1)
        self._build_side()
        copy = QShortcut(QKeySequence.StandardKey.Copy, self.table, self.copy_rows)
        copy.setContext(Qt.ShortcutContext.WidgetShortcut)
        session.book_changed.connect(self.refresh)
        session.filter_changed.connect(self.refresh)
        self.refresh()

    def _build_side(self) -> None:
        self.side = QWidget()
        column = QVBoxLayout(self.side)
        column.setContentsMargins(2 * STEP, STEP, 2 * STEP, STEP)
        column.setSpacing(STEP)
        heading = QLabel("Notes")
        heading.setProperty("role", "heading")
        column.addWidget(heading)
        self.note = QLineEdit()
        self.note.setPlaceholderText("New note, then Enter")
        self.note.setAccessibleName("New note")
        self.note.returnPressed.connect(self._add_note)
        column.addWidget(self.note)
        self.notes = QListWidget()
        self.notes.setWordWrap(True)
        self.notes.setProperty("role", "notes")
        self.notes.setAccessibleName("Notes")
        column.addWidget(self.notes, 1)
        self.take_out = QPushButton("Take finding out  K")
        self.take_out.setToolTip("Only out of the logbook: the run keeps it, and undo brings it back.")
        self.take_out.clicked.connect(self.keep_current)
        column.addWidget(self.take_out)

    def restyle(self) -> None:
        """Draw again in the theme's colours."""
        self.refresh()

    def refresh(self) -> None:
        """The table anew from the book."""
        self._rows = self._session.book.logbook()
        by_id = {shelved.id: shelved for shelved in self._session.shelf}
        self.empty.setVisible(not self._rows)
        self.table.setVisible(bool(self._rows))
        self.take_out.setEnabled(bool(self._rows))
        self.table.setRowCount(len(self._rows))
        for row, logged in enumerate(self._rows):
            finding, settings = logged.finding, logged.finding.settings
            letter = by_id[logged.filter_id].letter if logged.filter_id in by_id else "?"
            cells = (
                letter, logged.step, sentence(finding),
                "" if finding.verdict is Verdict.UNJUDGED else finding.verdict.value,
                shown_hz(settings["cutoff_hz"]) if "cutoff_hz" in settings else "",
                f"{settings['resonance_percent']:.3g} %" if "resonance_percent" in settings else "",
                str(settings.get("mode", "")), (logged.kept_at or "")[:16].replace("T", " "),
            )
            for column, text in enumerate(cells):
                item = QTableWidgetItem(text)
                item.setTextAlignment(Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft)
                if column == 0:
                    item.setForeground(QColor(THEME.palette.ink_of(letter).colour))
                    item.setFont(THEME.font(bold=True))
                if column == 3 and finding.verdict is Verdict.OUTSIDE:
                    item.setForeground(QColor(THEME.palette.attention))
                if column == 2:
                    quantity = QUANTITIES[finding.quantity]
                    item.setToolTip(f"{quantity.meaning}\nHow it is measured: {quantity.how}")
                self.table.setItem(row, column, item)
        self.notes.clear()
        for note in self._session.book.notes():
            about = f", {by_id[note.filter_id].letter}" if note.filter_id in by_id else ""
            self.notes.addItem(f"{note.made_at[:10]}{about}\n{note.text}")

    def keep_current(self) -> None:
        """Take the chosen finding out of the logbook."""
        row = self.table.currentRow()
        if 0 <= row < len(self._rows):
            self._session.book.keep(self._rows[row].id, kept=False)
            self._session.book_changed.emit()

    def copy_rows(self) -> None:
        """Chosen rows (all when none is chosen) as text with tabs, headings first."""
        chosen = sorted({index.row() for index in self.table.selectedIndexes()}) or range(self.table.rowCount())
        lines = ["\t".join(_COLUMNS)]
        for row in chosen:
            cells = [self.table.item(row, column) for column in range(len(_COLUMNS))]
            lines.append("\t".join(cell.text() if cell else "" for cell in cells))
        clipboard = QGuiApplication.clipboard()
        assert clipboard is not None
        clipboard.setText("\n".join(lines))

    def _add_note(self) -> None:
        text = self.note.text().strip()
        if text:
            shelved = self._session.in_hand
            self._session.book.add_note(text, filter_id=shelved.id if shelved else None)
            self.note.clear()
            self._session.book_changed.emit()
