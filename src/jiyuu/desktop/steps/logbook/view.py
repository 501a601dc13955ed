"""The Logbook as widgets: days and filters as a timeline, its entries as a table, one of them as it was then."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QModelIndex
from PyQt6.QtWidgets import QComboBox, QLabel, QLineEdit, QPushButton, QStackedWidget

from jiyuu.bench.step import Step
from jiyuu.bench.timeline import Entry, Kind
from jiyuu.bench.walk import walk
from jiyuu.book.table import Table
from jiyuu.desktop.figures.enclosed_figure import EnclosedFigure
from jiyuu.desktop.figures.small_plot import DASHED, Course, SmallPlot, digits
from jiyuu.desktop.figures.timeline_figure import TimelineFigure
from jiyuu.desktop.file_names import chosen_to_write
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.parts.frame import SideColumn, beside, form, narrow, stacked, under
from jiyuu.desktop.parts.page_buttons import page_buttons
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.logbook.entries_model import EntriesTable
from jiyuu.desktop.steps.logbook.presenter import TAKEN_OUT, AsItWas, LogbookPresenter, Seen
from jiyuu.desktop.steps.step_view import Act, StepView
from jiyuu.desktop.theme.style import THEME
from jiyuu.errors import JiyuuError
from jiyuu.measurement.curve_reading import above_noise
from jiyuu.measurement.finding import Finding, Verdict
from jiyuu.wording.findings import QUANTITIES, sentence

EMPTY = ("Nothing is written down yet. Measure in any step (M): every run stands here by its day. Choose a finding and "
         "press K to keep it; write a note at the right, or drop a picture or a recording here.")
NO_RUN = "Choose a run or a finding: what was measured stands here, beside the newest of its kind."
NOTHING_DRAWN = "Of this run nothing is drawn here."
ANY = "any"
WORDS = {Kind.RUN: "runs", Kind.FINDING: "findings kept", Kind.NOTE: "notes", Kind.TRIM: "trims", Kind.SHELF: "shelf",
         Kind.ENCLOSED: "pictures, recordings"}
# What of a step's tables is drawn: table, x, y, over, whether x is logarithmic.
DRAWN = {
    "response": ("response", "frequency_hz", "magnitude_db", "Frequency, Hz", True),
    "resonance": ("resonance", "position_percent", "peak_db", "Resonance control, %", False),
    "self_oscillation": ("pull", "position_percent", "frequency_hz", "Resonance control, %", False),
    "tracking": ("tracking", "volts", "frequency_hz", "Control voltage, V", False),
    "drive": ("drive", "input_peak_v", "gain_db", "Input, V peak", True),
}
HEIGHTS = 310, 370
FIGURE_PX = 250  # wide at the least; what the table has to say needs the room more
MOST_LINES = 8


class LogbookView(StepView):
    """Every entry reopens as it was then, beside today."""

    presenter: LogbookPresenter

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self.presenter = presenter = LogbookPresenter(session, measuring, step)
        self._shown: AsItWas | None = None
        self.timeline = self.main_figure = TimelineFigure()
        self.timeline.chosen.connect(presenter.look_at)
        self.timeline.day_chosen.connect(self._choose_day)
        self.table = EntriesTable()
        selection = self.table.selectionModel()
        assert selection is not None
        selection.currentRowChanged.connect(self._row_chosen)
        self.empty = QLabel(EMPTY)
        self.empty.setWordWrap(True)
        self.then, self.over_time = SmallPlot("As it was then"), SmallPlot("Over time")
        self.pages = QStackedWidget()
        self.enclosed = EnclosedFigure()
        for figure in (self.then, self.over_time, self.enclosed):
            figure.refused.connect(self.refused)
            figure.setMinimumWidth(FIGURE_PX)
            self.pages.addWidget(figure)
        self.timeline.refused.connect(self.refused)
        row, self.page_choice = page_buttons(("As it was then", "Over time"), self.pages)
        self.page_choice.idClicked.connect(lambda _: self._show_course())
        self.quantity = narrow(QComboBox())
        self.quantity.setAccessibleName("Quantity over time")
        self.quantity.textActivated.connect(lambda _: self._show_course())
        self.quantity.hide()
        self.pages.currentChanged.connect(
            lambda place: self.quantity.setVisible(self.pages.widget(place) is self.over_time))
        row.addWidget(self.quantity)
        lower = beside(under(self.empty, self.table), under(row, self.pages), sizes=(560, 300))
        self.figures = stacked(self.timeline, lower, shares=(45, 55))
        self.figures.setSizes(list(HEIGHTS))
        self._build_side()
        self.acts = (Act("put_back", "Put the filter back as it &was", "", presenter.put_back),
                     Act("save_recording", "Save the &recording …", "", self.save_recording))
        presenter.read.connect(self._show_entries)
        presenter.looked_at.connect(self._show_entry)
        presenter.unfolded.connect(self._show_enclosed)

    def _build_side(self) -> None:
        presenter = self.presenter
        self.side = column = SideColumn()
        column.circuit.setText("What was found, and when")
        rows = form()
        self.words = QLineEdit()
        self.words.setPlaceholderText("words")
        self.words.setAccessibleName("Look for words")
        self.words.textChanged.connect(lambda text: presenter.look_for(words=text))
        rows.addRow("Look for", self.words)
        self.letter, self.step_box, self.kind, self.stamp = (narrow(QComboBox()) for _ in range(4))
        for name, box in (("Filter", self.letter), ("Step", self.step_box), ("What", self.kind),
                          ("Stamp", self.stamp)):
            box.setAccessibleName(name)
            box.addItem(ANY, None)
            rows.addRow(name, box)
        for step in walk():
            if step.measures:
                self.step_box.addItem(step.name, step.run_key)
        for kind, text in WORDS.items():
            self.kind.addItem(text, kind)
        for verdict in Verdict:
            if verdict is not Verdict.UNJUDGED:
                self.stamp.addItem(str(verdict), verdict)
        self.letter.activated.connect(lambda _: presenter.look_for(letter=self.letter.currentData() or ""))
        self.step_box.activated.connect(lambda _: presenter.look_for(step=self.step_box.currentData() or ""))
        self.kind.activated.connect(lambda _: presenter.look_for(kind=self.kind.currentData()))
        self.stamp.activated.connect(lambda _: presenter.look_for(verdict=self.stamp.currentData()))
        column.add(rows)
        self.every_day = QPushButton("All days")
        self.every_day.setToolTip("Click a day over the timeline to see only that.")
        self.every_day.clicked.connect(lambda: presenter.look_for(day=None))
        column.add(self.every_day)
        self.about = QLabel()
        self.about.setProperty("role", "heading")
        self.about.setWordWrap(True)
        column.add(self.about)
        self.told = QLabel()
        self.told.setWordWrap(True)
        column.add(self.told)
        self.back, self.out = QPushButton("Put back as it was"), QPushButton("Take out  K")
        self.back.setToolTip("The filter as it stood when that was measured, as one act that can be undone.")
        self.back.clicked.connect(presenter.put_back)
        self.out.setToolTip("Only out of the logbook: the book keeps it, and undo brings it back.")
        self.out.clicked.connect(presenter.take_away)
        for button in (self.back, self.out):
            column.add(button)
        column.add(QLabel(), 1)
        self.note = QLineEdit()
        self.note.setPlaceholderText("New note, then Enter")
        self.note.setAccessibleName("New note")
        self.note.setMaxLength(20_000)
        self.note.returnPressed.connect(self._add_note)
        column.add(self.note)

    # What the presenter says

    def _show_entries(self) -> None:
        presenter = self.presenter
        letters = [shelved.letter for shelved in self._session.shelf]
        known = sorted({entry.letter for entry in presenter.every if entry.letter} | {*letters})
        if [self.letter.itemText(i) for i in range(1, self.letter.count())] != known:
            chosen = self.letter.currentText()
            self.letter.clear()
            self.letter.addItem(ANY, None)
            for letter in known:
                self.letter.addItem(letter, letter)
            self.letter.setCurrentText(chosen)
        self.timeline.show_entries(presenter.fitting, letters)
        self.table.entries_model.show_entries(presenter.fitting)
        self.empty.setVisible(not presenter.every)
        self.table.setVisible(bool(presenter.every))
        day = presenter.sought.day
        self.every_day.setText("All days" if day is None else f"{day.day} {day:%b %Y} only: show all days")
        self.every_day.setEnabled(day is not None)

    def _show_entry(self, entry: Entry | None, found: AsItWas | None) -> None:
        self._shown = found
        self.timeline.show_current(entry)
        if entry is not None and entry in self.presenter.fitting:
            row = self.presenter.fitting.index(entry)
            if self.table.currentIndex().row() != row:
                self.table.selectRow(row)
        self.back.setEnabled(found is not None)
        self.out.setEnabled(entry is not None and entry.kind in TAKEN_OUT)
        if entry is None:
            nothing = "Nothing fits what is looked for." if self.presenter.every else ""
            self.about.setText(nothing)
            self.told.setText("")
        else:
            of = f"{entry.letter}, " if entry.letter else ""
            self.about.setText(f"{of}{entry.at.day} {entry.at:%b %Y, %H:%M}")
            self.told.setText("\n".join([entry.text, *self._otherwise(found), *self._since(found)]))
        if entry is not None and entry.kind is Kind.ENCLOSED:
            self.enclosed.show_nothing(entry.text, "Opening …")
            self.pages.setCurrentWidget(self.enclosed)
        else:
            self.pages.setCurrentIndex(max(self.page_choice.checkedId(), 0))
        self._show_then()
        self._show_quantities(entry)

    def _show_enclosed(self, seen: Seen) -> None:
        if seen.picture is not None:
            self.enclosed.show_picture(seen.name, seen.picture)
        elif seen.sound is not None:
            self.enclosed.show_sound(seen.name, seen.sound)
        else:
            self.enclosed.show_nothing(seen.name, seen.why)

    @staticmethod
    def _otherwise(found: AsItWas | None) -> list[str]:
        if found is None:
            return []
        if not found.moved:
            return ["", "It stands today as it did then."]
        moved = found.moved[:MOST_LINES]
        return ["", "Otherwise today:", *(f"{one.what}: was {one.then}, is {one.now}." for one in moved)]

    @staticmethod
    def _since(found: AsItWas | None) -> list[str]:
        """What was measured then against the newest, of what is judged."""
        if found is None or found.newest is None:
            return []
        newest = {one.quantity: one.value for one in found.newest_findings}
        lines = [f"{QUANTITIES[one.quantity].title}: {digits(one.value)}, newest {digits(newest[one.quantity])} "
                 f"{one.unit}." for one in found.findings if one.tolerance is not None and one.quantity in newest]
        return ["", "Measured then and last:", *lines[:MOST_LINES]] if lines else []

    def _show_then(self) -> None:
        found, palette = self._shown, THEME.palette
        drawn = None if found is None else DRAWN.get(found.run.step)
        if found is None or drawn is None or drawn[0] not in found.tables:
            said = NO_RUN if found is None else " ".join(map(sentence, found.findings)) or NOTHING_DRAWN
            self.then.show_courses("As it was then", (), over="", unit="", says=said)
            return
        name, x, y, over, log = drawn
        entry = self.presenter.current
        ink = palette.ink_of(entry.letter).colour if entry is not None and entry.letter else palette.ink
        table = found.tables[name]
        courses = [Course(found.run.title.partition(":")[0], ink, table[x], _heard(table, y), width=2.4)]
        if found.newest is not None and name in found.newest_tables:
            newest = found.newest_tables[name]
            courses.insert(0, Course(f"newest, {found.newest.title.partition(':')[0]}", palette.quiet, newest[x],
                                     _heard(newest, y), width=1.4, dash=DASHED))
            said = f"{found.newest.title.partition(': ')[2]} is the newest."
        else:
            said = f"{found.run.title.partition(': ')[2]}; nothing newer was measured."
        self.then.show_courses("As it was then", courses, over=over, unit=table.units[y], log=log, says=said)

    def _show_quantities(self, entry: Entry | None) -> None:
        found = self._shown
        names = [] if found is None else _in_order(found.findings)
        before = self.quantity.currentData()
        self.quantity.clear()
        for name in names:
            self.quantity.addItem(QUANTITIES[name].title, name)
        wanted = entry.quantity if entry is not None and entry.quantity in names else before
        place = self.quantity.findData(wanted) if wanted is not None else 0
        self.quantity.setCurrentIndex(max(place, 0) if names else -1)
        self._show_course()

    def _show_course(self) -> None:
        name, found = self.quantity.currentData(), self._shown
        if found is None or name is None or self.pages.currentIndex() != 1:
            self.over_time.show_courses("Over time", (), over="", unit="", says=NO_RUN)
            return
        course, entry = self.presenter.course(found, name), self.presenter.current
        letter = entry.letter if entry is not None else ""
        ink = THEME.palette.ink_of(letter).colour if letter else THEME.palette.ink
        x = np.array([point.at.timestamp() for point in course.points])
        y = np.array([point.value for point in course.points])
        doubt = np.array([np.nan if point.uncertainty is None else point.uncertainty for point in course.points])
        written = {point.at.timestamp(): f"{point.at.day} {point.at:%b}" for point in course.points}
        drift = course.drift
        says = "Measured once; measure again another day to see whether it moves." if drift is None else \
            f"{len(course.points)} times; last less first {drift:+.4g} {course.unit}.".replace("-", "−")
        band = None if course.tolerance is None else (course.tolerance.low, course.tolerance.high)
        if band is not None:
            says += f" Tolerance {digits(band[0])} to {digits(band[1])} {course.unit}."
        self.over_time.show_courses(
            f"{QUANTITIES[course.quantity].title} of {letter}", [Course(letter, ink, x, y, doubt, marked=True)],
            over="Day", unit=course.unit, says=says, band=band, written=lambda value: written.get(value, ""))

    # Hands

    def _row_chosen(self, current: QModelIndex, before: QModelIndex) -> None:
        row = current.row()
        if 0 <= row < len(self.presenter.fitting) and self.presenter.fitting[row] != self.presenter.current:
            self.presenter.look_at(self.presenter.fitting[row])

    def _choose_day(self, day: date) -> None:
        self.presenter.look_for(day=None if self.presenter.sought.day == day else day)

    def _add_note(self) -> None:
        self.presenter.add_note(self.note.text())
        self.note.clear()

    def keep_current(self) -> None:
        """Take what is looked at out of the logbook."""
        self.presenter.take_away()

    def save_recording(self) -> None:
        """Ask for a name, and save the raw recording of the run, or what is enclosed."""
        try:
            entry = self.presenter.current
            if entry is not None and entry.kind is Kind.ENCLOSED:
                ending = Path(entry.text).suffix
                path = chosen_to_write(self.figures, "Save what is enclosed", entry.text, f"Files (*{ending})",
                                       ending=ending)
            else:
                path = chosen_to_write(self.figures, "Save the recording", "recording.wav", "Sounds (*.wav)",
                                       ending=".wav")
            if path is not None:
                self.presenter.save_recording(path)
        except JiyuuError as error:
            self.refused(str(error))

    def restyle(self) -> None:
        """Draw again in the theme's colours and size of type."""
        self.table.restyle()
        self._show_then()
        self._show_course()


def _in_order(findings: Sequence[Finding]) -> list[str]:
    """Quantities: what is judged first, then by title."""
    judged = {one.quantity for one in findings if one.tolerance is not None}
    return sorted({one.quantity for one in findings}, key=lambda name: (name not in judged, QUANTITIES[name].title))


def _heard(table: Table, column: str) -> np.ndarray:
    """(n,) without what lies in the noise."""
    if "snr_db" not in table:
        return table[column]
    return np.where(above_noise(table["frequency_hz"], table["magnitude_db"], table["snr_db"]), table[column], np.nan)
