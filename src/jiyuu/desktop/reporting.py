"""Reports from the window: what kind, of which filters, where to; written off the interface thread."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from PyQt6.QtCore import QObject, Qt, pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QWidget

from jiyuu.bench.report.from_book import TITLES, Kind, sheet_of, write_report
from jiyuu.desktop.file_names import chosen_to_write
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.parts.aside import Aside, main_button, quiet
from jiyuu.desktop.session import Session
from jiyuu.desktop.theme.style import STEP
from jiyuu.errors import JiyuuError

REPORTS = "Reports (*.pdf *.html)"
ABOUT = {
    Kind.DATASHEET: "Drawing, conditions, figures and every finding of one filter, with tolerances and stamps.",
    Kind.COMPARISON: "What was measured of two or more, quantity by quantity, and what of it is heard.",
    Kind.CALIBRATION: "The newest tracking of one filter: steps, trims, temperature, verdict.",
    Kind.BLIND: "Every series of blind listening of one filter: order, answers, what it shows and what not.",
}


class Reporting(QObject):
    """One for a window."""

    message = pyqtSignal(str, bool)

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self._session, self._window = session, parent
        self.chooser: ReportChooser | None = None
        self._jobs = Jobs(session.crew, "writing a report", self)
        self._jobs.stepped.connect(lambda path: self.message.emit(f"{path.name} is written.", False))
        self._jobs.failed.connect(lambda text: self.message.emit(text, True))

    def choose(self) -> None:
        """What is to be reported."""
        if self.chooser is None:
            self.chooser = ReportChooser(self._window)
            self.chooser.chosen.connect(self._save)
        in_hand = self._session.in_hand
        self.chooser.ask([(one.letter, one.document.name) for one in self._session.shelf],
                         "" if in_hand is None else in_hand.letter)

    def _save(self, kind: Kind, letters: list[str]) -> None:
        name = f"{kind!s} {' '.join(letters)}.pdf"
        try:
            path = chosen_to_write(self._window, f"Save the {TITLES[kind].lower()}", name, REPORTS, ending=".pdf")
        except JiyuuError as error:
            self.message.emit(str(error), True)
            return
        if path is not None:
            self.write(kind, letters, path)

    def write(self, kind: Kind, letters: list[str], path: Path) -> None:
        """A comparison is computed anew, which takes seconds."""
        book = self._session.book

        def steps() -> Iterator[Path]:
            write_report(sheet_of(book, kind, letters), path, inputs=(book.path,))
            yield path

        self.message.emit(f"Writing {path.name} …", False)
        self._jobs.start(steps)


class ReportChooser(Aside):
    """Not modal."""

    chosen = pyqtSignal(object, object)  # Kind, letters

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, "Write a report")
        column = self.sheet()
        self.kind = QComboBox()
        self.kind.setAccessibleName("Kind of report")
        for kind in Kind:
            self.kind.addItem(TITLES[kind], kind)
        self.kind.activated.connect(lambda _: self._show_kind())
        column.addWidget(self.kind)
        self.about = quiet()
        self.about.setMinimumWidth(90 * STEP)
        column.addWidget(self.about)
        self._rows = QHBoxLayout()
        self._rows.setSpacing(2 * STEP)
        column.addLayout(self._rows)
        self.letters: dict[str, QCheckBox] = {}
        self._in_hand = ""
        self.write = main_button("Write …", self._take)
        column.addWidget(self.write, 0, Qt.AlignmentFlag.AlignLeft)

    def ask(self, shelf: list[tuple[str, str]], in_hand: str) -> None:
        """shelf: letters and names; in_hand: the letter that is chosen to begin with."""
        for box in self.letters.values():
            box.deleteLater()
        self.letters = {}
        self._in_hand = in_hand
        for letter, name in shelf:
            box = self.letters[letter] = QCheckBox(letter)
            box.setToolTip(name)
            box.setAccessibleName(f"{letter} {name}")
            box.clicked.connect(lambda _, letter=letter: self._ticked(letter))
            self._rows.addWidget(box)
        self._show_kind()
        self.adjustSize()
        self.bring()

    @property
    def _one(self) -> bool:
        return self.kind.currentData() is not Kind.COMPARISON

    def _show_kind(self) -> None:
        self.about.setText(ABOUT[self.kind.currentData()])
        for letter, box in self.letters.items():
            box.setChecked(letter == self._in_hand or not self._one)
        self._check()

    def _ticked(self, letter: str) -> None:
        if self._one:
            for other, box in self.letters.items():
                box.setChecked(other == letter)
        self._check()

    def _check(self) -> None:
        self.write.setEnabled(len(self._chosen()) >= (1 if self._one else 2))

    def _chosen(self) -> list[str]:
        return [letter for letter, box in self.letters.items() if box.isChecked()]

    def _take(self) -> None:
        self.chosen.emit(self.kind.currentData(), self._chosen())
        self.close()
