"""How the character of filters moves with pitch, level and the resonance control, as a page."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QWidget

from jiyuu.bench.over_sound import NAMES, UNITS, Over, OverSound, over_sound_steps
from jiyuu.character.scales import SCALE
from jiyuu.character.sound import Listening
from jiyuu.desktop.figures.small_plot import Course, SmallPlot
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.parts.frame import narrow, page_column
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.comparison.presenter import ComparisonPresenter
from jiyuu.desktop.theme.style import STEP, THEME
from jiyuu.signals.source import Source, SourceKind

WAITING = "Both filters must be known first."
FIELD_PX = 45 * STEP
OVERS = {Over.PITCH: "pitch of the source", Over.LEVEL: "level of the source", Over.RESONANCE: "resonance control"}


class OverPresenter(QObject):
    """Computed when it is looked at, kept until anything stands otherwise."""

    changed = pyqtSignal()
    message = pyqtSignal(str, bool)

    def __init__(self, session: Session, comparison: ComparisonPresenter) -> None:
        super().__init__(comparison)
        self._comparison = comparison
        self.over, self.name = Over.PITCH, NAMES[Over.PITCH][0]
        self.found: dict[Over, OverSound] = {}
        self._of: object = None
        self._computing = Jobs(session.crew, "listening at other pitches and levels", self)
        self._computing.stepped.connect(self._on_found)
        self._computing.finished.connect(self.changed)
        self._computing.failed.connect(lambda text: self.message.emit(text, True))

    @property
    def busy(self) -> bool:
        return self._computing.busy

    def choose(self, *, over: Over | None = None, name: str | None = None) -> None:
        """Another descriptor, or over something else."""
        self.over, self.name = over or self.over, name or self.name
        if self.name not in NAMES[self.over]:
            self.name = NAMES[self.over][0]
        self.look()

    def look(self) -> None:
        """Compute what is not known of those that stand, the two that are told apart first."""
        comparison = self._comparison
        seen, first = comparison.seen, (comparison.letter, comparison.beside)
        letters = () if seen is None else dict.fromkeys((*first, *(one.letter for one in seen.them)))
        pair = {letter: one.subject for letter in letters
                if seen is not None and (one := seen.of(letter)) is not None and one.subject is not None}
        if not set(first) <= pair.keys():
            self.changed.emit()
            return
        setting = comparison.setting
        of = (tuple(pair.items()), setting)
        if of != self._of:
            self.found, self._of = {}, of
        source = Source(SourceKind(setting.source), setting.pitch_hz, setting.level_v)
        listening, over = Listening(setting.loudness == "equal"), self.over

        def steps() -> Iterator[OverSound]:
            yield from over_sound_steps({letter: subject for letter, subject in pair.items() if subject is not None},
                                        source, listening, over)

        if over not in self.found:
            self._computing.start(steps)
        self.changed.emit()

    def _on_found(self, found: OverSound) -> None:
        self.found[found.over] = found
        self.changed.emit()

    def leave(self) -> None:
        """What is half done is begun anew."""
        if self._computing.busy:
            self._computing.drop()
            self.found.pop(self.over, None)


class OverPage(QWidget):
    """One descriptor of the two at a time."""

    def __init__(self, presenter: OverPresenter) -> None:
        super().__init__()
        self.presenter = presenter
        self.setAccessibleName("Over pitch, level and resonance")
        column = page_column(self)
        row = QHBoxLayout()
        self.name, self.over = narrow(QComboBox()), narrow(QComboBox())
        for over, text in OVERS.items():
            self.over.addItem(text, over)
        self.name.setAccessibleName("What is heard")
        self.over.setAccessibleName("Over what")
        self.name.activated.connect(lambda _: presenter.choose(name=self.name.currentData()))
        self.over.activated.connect(lambda _: presenter.choose(over=self.over.currentData()))
        self.says = QLabel()
        self.says.setWordWrap(True)
        self.says.setMinimumHeight(2 * self.says.fontMetrics().lineSpacing() + STEP)  # else a row gives it one
        for box in (self.name, self.over):
            box.setMinimumWidth(FIELD_PX)
            row.addWidget(box)
        row.addWidget(self.says, 1)
        column.addLayout(row)
        self.plot = SmallPlot("Over pitch")
        column.addWidget(self.plot, 1)
        presenter.changed.connect(self.refresh)

    def refresh(self) -> None:
        """As the presenter stands."""
        presenter, scale = self.presenter, SCALE[self.presenter.name]
        names = NAMES[presenter.over]
        if [self.name.itemData(i) for i in range(self.name.count())] != list(names):
            self.name.clear()
            for name in names:
                self.name.addItem(SCALE[name].title, name)
        self.name.setCurrentIndex(names.index(presenter.name))
        found = presenter.found.get(presenter.over)
        title = f"{scale.title} over the {OVERS[presenter.over]}"
        if found is None:
            self.says.setText("Listening …" if presenter.busy else WAITING)
            self.plot.show_courses(title, (), over=UNITS[presenter.over], unit=scale.unit, says="")
            return
        courses = []
        for letter in found.letters:
            ink = THEME.palette.ink_of(letter)
            courses.append(Course(letter, ink.colour, found.places, found.values[presenter.name][letter],
                                  found.doubts[presenter.name][letter], marked=True, dash=ink.dash))
        self.plot.show_courses(title, courses, over=UNITS[presenter.over], unit=scale.unit,
                               log=presenter.over is not Over.RESONANCE)
        first, second = found.letters[:2]
        known = all(np.isfinite(found.values[presenter.name][letter]).any() for letter in (first, second))
        said = found.turns(presenter.name) if known else ()
        self.says.setText(" ".join(said) or (
            "Listening …" if presenter.busy else f"{first} and {second} do not differ in it."))

    def showEvent(self, event: QShowEvent | None) -> None:
        """Computed only where somebody looks."""
        self.presenter.look()
        super().showEvent(event)
