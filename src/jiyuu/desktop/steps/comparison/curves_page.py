"""Any figure of the walk for all letters of the shelf, as it was measured, as a page."""

from __future__ import annotations

from collections.abc import Iterator

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QCheckBox, QComboBox, QLabel, QWidget

from jiyuu.bench.curves_beside import CURVES, Drawn, curves_beside, less
from jiyuu.bench.measured_beside import measured
from jiyuu.desktop.figures.small_plot import Course, SmallPlot
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.parts.frame import narrow, page_column
from jiyuu.desktop.parts.lines import Lines
from jiyuu.desktop.session import Session
from jiyuu.desktop.theme.style import STEP, THEME

NOTHING = "Not measured of any filter yet: M in its step, or the whole walk."
FIELD_PX = 70 * STEP


class CurvesPresenter(QObject):
    """What the book has of every letter, read when it is looked at."""

    changed = pyqtSignal()

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self.curve = CURVES[0]
        self.differences = False
        self.found: dict[str, list[Drawn]] = {}
        self._reading = Jobs(session.crew, "reading what was measured", self)
        self._reading.stepped.connect(self._on_read)

    def look(self) -> None:
        """At what the book has now, off the interface thread."""
        session, book = self._session, self._session.book
        shelf = list(session.shelf)
        modes = {one.id: session.standing(one).mode for one in shelf}

        def steps() -> Iterator[object]:
            columns = [found for one in shelf if (found := measured(book, one, mode=modes[one.id])).runs]
            yield curves_beside(book, columns)

        self._reading.start(steps)

    def _on_read(self, found: dict[str, list[Drawn]]) -> None:
        self.found = found
        self.changed.emit()

    def choose(self, title: str) -> None:
        self.curve = next(curve for curve in CURVES if curve.title == title)
        self.changed.emit()

    def show_differences(self, on: bool) -> None:
        self.differences = on
        self.changed.emit()

    @property
    def letter(self) -> str:
        """Of the filter in hand."""
        return self._session.in_hand.letter if self._session.in_hand else ""

    @property
    def drawn(self) -> list[Drawn]:
        """As they are, or less the one in hand."""
        drawn = self.found.get(self.curve.title, [])
        return less(drawn, self.letter, log=self.curve.log) if self.differences else drawn


class CurvesPage(QWidget):
    """A choice, and every letter in its ink."""

    def __init__(self, presenter: CurvesPresenter) -> None:
        super().__init__()
        self.presenter = presenter
        self.setAccessibleName("Figures of the walk, beside each other")
        column = page_column(self)
        self.which = narrow(QComboBox())
        self.which.setAccessibleName("Which figure")
        self.which.setMinimumWidth(FIELD_PX)
        self.which.addItems([curve.title for curve in CURVES])
        self.which.textActivated.connect(presenter.choose)
        self.apart = QCheckBox("Less the one in hand")
        self.apart.toggled.connect(presenter.show_differences)
        self.says = QLabel()
        self.says.setProperty("role", "quiet")
        self.says.setWordWrap(True)
        column.addLayout(Lines(self.which, self.apart))
        column.addWidget(self.says)
        self.plot = SmallPlot(CURVES[0].title)
        column.addWidget(self.plot, 1)
        presenter.changed.connect(self.refresh)

    def refresh(self) -> None:
        """As the presenter stands."""
        presenter, curve = self.presenter, self.presenter.curve
        self.which.setCurrentText(curve.title)
        courses = []
        for one in presenter.drawn:
            ink = THEME.palette.ink_of(one.letter)
            few = one.x.size < 60
            courses.append(Course(one.letter, ink.colour, one.x, one.y, one.doubt if few else None, marked=few,
                                  dash=ink.dash))
        title = f"{curve.title}, less {presenter.letter}" if presenter.differences else curve.title
        self.plot.show_courses(title, courses, over=curve.over_said, unit=curve.unit, log=curve.log)
        has = [one.letter for one in presenter.found.get(curve.title, [])]
        if not has:
            self.says.setText(NOTHING)
        elif presenter.differences and presenter.letter not in has:
            self.says.setText(f"{presenter.letter} itself is not measured here; M in its step.")
        else:
            self.says.setText(f"Measured of {', '.join(has)}.")

    def showEvent(self, event: QShowEvent | None) -> None:
        """What was measured meanwhile is seen."""
        self.presenter.look()
        super().showEvent(event)
