"""The logbook: every finding kept, with the settings that gave it, and the notes."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QHeaderView, QLabel, QLineEdit, QListWidget, QPushButton, QVBoxLayout, QWidget

from jiyuu.bench.step import Step
from jiyuu.bench.walk import walk
from jiyuu.book.stored import LoggedFinding, Note, StoredRun
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.parts.plain_table import PlainTable
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.presenter import StepPresenter
from jiyuu.desktop.steps.step_view import StepView
from jiyuu.desktop.theme.style import STEP, THEME
from jiyuu.measurement.finding import Verdict
from jiyuu.quantities import shown_hz
from jiyuu.wording.findings import QUANTITIES, sentence

COLUMNS = ("Filter", "Step", "Finding", "Stamp", "Cutoff", "Resonance", "Mode", "Kept")
EMPTY = ("Nothing is kept yet. Measure in any step (M), choose a finding and press K: it stands here with the settings "
         "that gave it. Notes are written at the right.")


class LogbookPresenter(StepPresenter):
    """What is kept, over all filters: nothing here depends on the one in hand."""

    def wake(self) -> None:
        self._awake = True
        self.say()

    def _book_changed(self) -> None:
        if self._awake:
            self.say()

    def _changed(self) -> None:
        self._book_changed()

    def entries(self) -> list[tuple[LoggedFinding, str, StoredRun | None]]:
        """Every finding kept with the letter of its filter and the run it came from, newest first."""
        book = self._session.book
        kept, letters = book.logbook(), book.letters()
        runs = {number: book.run(number) for number in {logged.run_id for logged in kept} if number is not None}
        return [(logged, letters.get(logged.filter_id, "?"), runs.get(logged.run_id or -1)) for logged in kept]

    def notes(self) -> list[tuple[Note, str]]:
        """Every note with the letter of its filter, '' for one of the whole book."""
        letters = self._session.book.letters()
        return [(note, letters.get(note.filter_id or -1, "")) for note in self._session.book.notes()]

    def add_note(self, text: str) -> None:
        """About the filter in hand."""
        if text.strip():
            shelved = self.shelved
            self._session.book.add_note(text.strip(), filter_id=shelved.id if shelved else None)
            self._session.runs_changed()

    def take_note_away(self, note: Note) -> None:
        self._session.book.show_note(note.id, shown=False)
        self._session.runs_changed()
        self.message.emit("The note is gone; Ctrl+Z brings it back.", False)

    def measure(self) -> None:
        self.message.emit("Nothing is measured in the logbook; go to a step first.", True)


class LogbookView(StepView):
    """A table of what is kept; notes beside it."""

    presenter: LogbookPresenter

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self.presenter = LogbookPresenter(session, measuring, step)
        self._entries: list[tuple[LoggedFinding, str, StoredRun | None]] = []
        self._notes: list[tuple[Note, str]] = []
        self.figures = QWidget()
        column = QVBoxLayout(self.figures)
        column.setContentsMargins(2 * STEP, 2 * STEP, 2 * STEP, 2 * STEP)
        self.empty = QLabel(EMPTY)
        self.empty.setWordWrap(True)
        column.addWidget(self.empty)
        self.table = PlainTable("Findings kept", COLUMNS, words=(0, 1, 2, 3, 6, 7))
        self.table.setWordWrap(True)
        self.table.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        header = self.table.horizontalHeader()
        assert header is not None
        header.setStretchLastSection(False)
        header.setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        column.addWidget(self.table, 1)
        self._build_side()
        self.presenter.findings.connect(lambda _: self.refresh())

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
        self.note.setMaxLength(20_000)
        self.note.returnPressed.connect(self._add_note)
        column.addWidget(self.note)
        self.notes = QListWidget()
        self.notes.setWordWrap(True)
        self.notes.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.notes.setProperty("role", "notes")
        self.notes.setAccessibleName("Notes")
        column.addWidget(self.notes, 1)
        self.away = QPushButton("Take note away")
        self.away.clicked.connect(self._take_note_away)
        column.addWidget(self.away)
        self.take_out = QPushButton("Take finding out  K")
        self.take_out.setToolTip("Only out of the logbook: the run keeps it, and undo brings it back.")
        self.take_out.clicked.connect(self.keep_current)
        column.addWidget(self.take_out)

    def restyle(self) -> None:
        self.refresh()

    def refresh(self) -> None:
        """The table anew from the book."""
        self._entries, self._notes = self.presenter.entries(), self.presenter.notes()
        names = {one.key: one.name for one in walk()}
        for widget, there in ((self.empty, not self._entries), (self.table, bool(self._entries))):
            widget.setVisible(there)
        self.take_out.setEnabled(bool(self._entries))
        self.away.setEnabled(bool(self._notes))
        rows = []
        for logged, letter, run in self._entries:
            finding, standing = logged.finding, {} if run is None else run.standing
            rows.append((
                letter, names.get(logged.step, logged.step), sentence(finding),
                "" if finding.verdict is Verdict.UNJUDGED else finding.verdict.value,
                shown_hz(standing["cutoff_hz"]) if "cutoff_hz" in standing else "",
                f"{standing['resonance_percent']:.3g} %" if "resonance_percent" in standing else "",
                "" if run is None else str(run.mode or ""), (logged.kept_at or "")[:16].replace("T", " "),
            ))
        outside = {(i, 3) for i, (logged, _, _) in enumerate(self._entries)
                   if logged.finding.verdict is Verdict.OUTSIDE}
        self.table.fill(rows, marked=outside)
        for i, (logged, letter, _) in enumerate(self._entries):
            self.table.item(i, 0).setForeground(QColor(THEME.palette.ink_of(letter).colour))  # type: ignore[union-attr]
            self.table.item(i, 2).setToolTip(QUANTITIES[logged.finding.quantity].help)  # type: ignore[union-attr]
        self.notes.clear()
        for note, letter in self._notes:
            self.notes.addItem(f"{note.made_at[:10]}{f', {letter}' if letter else ''}\n{note.text}")

    def keep_current(self) -> None:
        """Take the chosen finding out of the logbook."""
        row = self.table.currentRow()
        if 0 <= row < len(self._entries):
            self.presenter.toggle_kept(self._entries[row][0])
        else:
            self.presenter.message.emit("Choose a finding first: it can be taken out here.", False)

    def _add_note(self) -> None:
        self.presenter.add_note(self.note.text())
        self.note.clear()

    def _take_note_away(self) -> None:
        row = self.notes.currentRow()
        if 0 <= row < len(self._notes):
            self.presenter.take_note_away(self._notes[row][0])
