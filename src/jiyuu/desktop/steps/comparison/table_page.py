"""What was measured, beside each other, as a page: every quantity of every step, what it differs by, what of it."""

from __future__ import annotations

from collections.abc import Iterator

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QWidget

from jiyuu.bench.measured_beside import Line, Measured, beside, cells_of, days_of, measured
from jiyuu.character.comparison import Verdict
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.parts.frame import narrow, page_column
from jiyuu.desktop.parts.plain_table import PlainTable
from jiyuu.desktop.session import Session
from jiyuu.desktop.theme.style import STEP

SHELF = "all filters of the shelf"
NOTHING = ("Nothing is measured yet that could stand beside each other: measure two filters (M, or the whole walk), "
           "or one of them on another day.")
FIELD_PX = 60 * STEP


class TablePresenter(QObject):
    """What stands beside each other: the shelf, or the filter in hand on a day and now."""

    changed = pyqtSignal()

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self.columns: list[Measured] = []
        self.lines: list[Line] = []
        self.days: list[tuple[str, str]] = []
        self.until: str | None = None
        self._reading = Jobs(session.crew, "reading what was measured", self)
        self._reading.stepped.connect(self._on_read)

    def look(self) -> None:
        """At what the book has now, off the interface thread."""
        session, book, until = self._session, self._session.book, self.until
        shelf, in_hand = list(session.shelf), session.in_hand
        modes = {one.id: session.standing(one).mode for one in shelf}

        def steps() -> Iterator[object]:
            days = [] if in_hand is None else days_of(book, in_hand)
            if in_hand is not None and until in {made_at for _, made_at in days}:
                then = next(day for day, made_at in days if made_at == until)
                mode = modes[in_hand.id]
                columns = [measured(book, in_hand, mode=mode, until=until, name=f"{in_hand.letter}, {then}"),
                           measured(book, in_hand, mode=mode, name=f"{in_hand.letter}, newest")]
            else:
                columns = [found for one in shelf if (found := measured(book, one, mode=modes[one.id])).runs]
            yield columns, beside(columns), days

        self._reading.start(steps)

    def _on_read(self, found: tuple[list[Measured], list[Line], list[tuple[str, str]]]) -> None:
        self.columns, self.lines, self.days = found
        self.changed.emit()

    def then(self, made_at: str | None) -> None:
        """The filter in hand as it was known then, beside now; None for the shelf."""
        self.until = made_at
        self.look()


class TablePage(QWidget):
    """Heard differences stand out."""

    def __init__(self, presenter: TablePresenter) -> None:
        super().__init__()
        self.presenter = presenter
        self.setAccessibleName("Measured, beside each other")
        column = page_column(self)
        row = QHBoxLayout()
        self.which = narrow(QComboBox())
        self.which.setAccessibleName("What stands beside each other")
        self.which.setMinimumWidth(FIELD_PX)
        self.which.activated.connect(lambda _: presenter.then(self.which.currentData()))
        self.says = QLabel()
        self.says.setProperty("role", "quiet")
        self.says.setWordWrap(True)
        row.addWidget(self.which)
        row.addWidget(self.says, 1)
        column.addLayout(row)
        self._column = column
        self.table = PlainTable("Measured", ("Quantity",), words=(0,))
        column.addWidget(self.table, 1)
        presenter.changed.connect(self.refresh)

    def refresh(self) -> None:
        """As the presenter stands."""
        presenter = self.presenter
        self.which.clear()
        self.which.addItem(SHELF, None)
        for day, made_at in presenter.days:
            self.which.addItem(f"the one in hand, {day} and now", made_at)
        self.which.setCurrentIndex(max(self.which.findData(presenter.until), 0))
        self.says.setText("± is 95 %; the difference is the last less the first." if presenter.lines else NOTHING)
        names = [one.name for one in presenter.columns]
        heads = ("Quantity", *names, "Difference", "What of it")
        fresh = PlainTable("Measured", heads, words=(0, len(heads) - 1))
        self._column.replaceWidget(self.table, fresh)
        self.table.hide()
        self.table.deleteLater()
        self.table = fresh
        heard = [(i, len(heads) - 1) for i, line in enumerate(presenter.lines) if line.verdict is Verdict.HEARD]
        self.table.fill([cells_of(line) for line in presenter.lines], strong=heard)
        for i, line in enumerate(presenter.lines):
            item = self.table.item(i, len(heads) - 1)
            if item is not None and line.jnd is not None:
                item.setToolTip(f"Noticed from {line.jnd:.3g} {line.unit} on: {line.jnd_source}.")

    def showEvent(self, event: QShowEvent | None) -> None:
        """What was measured meanwhile is seen."""
        self.presenter.look()
        super().showEvent(event)
