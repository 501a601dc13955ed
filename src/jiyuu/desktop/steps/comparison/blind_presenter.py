"""State of a series of blind listening: begun, heard, answered, over."""

from __future__ import annotations

import secrets
from collections.abc import Iterator

from PyQt6.QtCore import QObject, pyqtSignal

from jiyuu.bench.blind import Series, keep_series, pair_of_sounds
from jiyuu.character.blind import FEWEST, Task, proposed_trials
from jiyuu.desktop.ear_pair import EarPair
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.comparison.presenter import ComparisonPresenter
from jiyuu.errors import JiyuuError
from jiyuu.signals.source import Source, SourceKind
from jiyuu.wording.findings import sentence

KEPT_AS = "blind"  # among a filter's settings, while a series goes on


class BlindPresenter(QObject):
    """One series at a time, of the filter in hand and the one beside it."""

    changed = pyqtSignal()
    message = pyqtSignal(str, bool)

    def __init__(self, session: Session, comparison: ComparisonPresenter) -> None:
        super().__init__(comparison)
        self._session, self._comparison = session, comparison
        self.task, self.trials = Task.ABX, proposed_trials(Task.ABX)
        self.series: Series | None = None
        self.result = ""  # of the series before, in words
        self.after = ""  # what the last answer was
        self._of: int | None = None  # row of the filter in hand when it began
        self.ear = EarPair(session, "making two sounds", self)
        self.ear.changed.connect(self.changed)
        self.ear.message.connect(self.message)
        self.ear.making.stepped.connect(self.ear.take)

    # Before

    def choose(self, task: Task) -> None:
        """What is asked; the trials that it takes come with it."""
        self.task, self.trials = task, proposed_trials(task)
        self.changed.emit()

    def set_trials(self, trials: float) -> None:
        self.trials = round(trials)
        self.changed.emit()

    @property
    def proposal(self) -> str:
        """Why so many."""
        return (f"{proposed_trials(self.task)} trials find 4 of 5 listeners who are right 3 times of 4; fewer find "
                f"fewer of them. {FEWEST} at least.")

    @property
    def ready(self) -> bool:
        """A trial can be heard."""
        return self.series is not None and self.ear.ready

    @property
    def heard(self) -> int | None:
        """Button that plays."""
        return self.ear.heard

    def begin(self) -> None:
        """Draw the order, keep it, make the sounds."""
        comparison = self._comparison
        seen, letters = comparison.seen, (comparison.letter, comparison.beside)
        subjects = [None if seen is None or (one := seen.of(letter)) is None else one.subject for letter in letters]
        if any(subject is None for subject in subjects) or self._session.in_hand is None:
            self.message.emit("Wait until both filters are known, then begin.", False)
            return
        try:
            series = Series.begun(self.task, letters, self.trials, secrets.randbits(63))
        except JiyuuError as error:
            self.message.emit(str(error), True)
            return
        self._of = self._session.in_hand.id
        self._session.change({KEPT_AS: series.as_json()})
        self.series, self.result, self.after = series, "", ""
        setting = comparison.setting
        source = Source(SourceKind(setting.source), setting.pitch_hz, setting.level_v)
        equal = setting.loudness == "equal"

        def steps() -> Iterator[object]:
            yield pair_of_sounds([subject for subject in subjects if subject is not None], source, equal=equal)

        self.ear.make(steps)

    # While it goes on

    def hear(self, button: int) -> None:
        """What a button plays, in place of what sounds."""
        if self.series is not None:
            self.ear.hear(button, self.series.playing[button])

    def pause(self) -> None:
        """Silence, until something is heard again."""
        self.ear.pause()

    def answer(self, answer: int) -> None:
        """The next trial, or the result."""
        series = self.series
        if series is None or not self.ear.ready:
            return
        if len(self.ear.seen) < len(series.playing):
            self.message.emit("Listen to all of them first.", False)
            return
        self.series = series = series.answered(answer)
        self.after = "That was right." if series.last_was_right else "That was not right."
        self.ear.seen = set()
        if series.over:
            self._end(series)
        self.ear.pause()

    def break_off(self) -> None:
        """What was answered so far counts, as the series of its own that it then is: a series ended where it pleases
        shows less, and that is said."""
        series = self.series
        if series is not None and series.answers:
            self._end(series, early=True)
        elif series is not None:
            self._session.change({KEPT_AS: None})
        self.series = None
        self.ear.pause()

    def _end(self, series: Series, *, early: bool = False) -> None:
        shelved = next((one for one in self._session.shelf if one.id == self._of), None)
        said = sentence(series.finding())
        if early:
            said += f" Broken off after {len(series.answers)} of {len(series.order)} trials: it counts for less."
        self.result = said
        self.series = None
        if shelved is not None:
            setting = self._comparison.setting.model_dump(mode="json")
            keep_series(self._session.book, shelved.id, self._session.standing(shelved), series, setting)
            if self._session.in_hand is not None and self._session.in_hand.id == shelved.id:
                self._session.change({KEPT_AS: None})
            self._session.runs_changed()

    def leave(self) -> None:
        """Nobody looks at it any more: silence. A series under way is given up; its order stays in the book."""
        self.ear.leave()
        self.series = None
