"""Hearing where a source is bent: clean, driven, by a curve behind, by the output fed back, all of one loudness."""

from __future__ import annotations

from collections.abc import Iterator

from PyQt6.QtCore import QObject, pyqtSignal

from jiyuu.bench.bent import Bent, Way, bent_steps
from jiyuu.desktop.ear_pair import EarPair
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.drive.presenter import DrivePresenter
from jiyuu.progress import Progress

WAYS = tuple(Way)
HEARD = {
    Way.CLEAN: "Heard as if nothing in it bent.", Way.DRIVEN: "Heard driven at the nominal level.",
    Way.BEHIND: "Heard clean, and bent behind by as much as driving it does.",
    Way.FED_BACK: "Heard at the nominal level, with its output fed back.",
}


class BentPresenter(QObject):
    """Of the filter as it stands and as the step is asked; once either is moved its sounds are made again."""

    changed = pyqtSignal()
    message = pyqtSignal(str, bool)

    def __init__(self, session: Session, drive: DrivePresenter) -> None:
        super().__init__(drive)
        self._session, self._drive = session, drive
        self.bent: Bent | None = None
        self._wanted: Way | None = None  # to be heard once it is made
        self.ear = EarPair(session, "bending it in other places", self)
        self.ear.changed.connect(self.changed)
        self.ear.message.connect(self._refused)
        self.ear.making.stepped.connect(self._step)
        drive.slept.connect(self._sleep)
        drive.driven.connect(lambda _: self._forget())
        session.filter_changed.connect(self._forget)
        session.settings_changed.connect(self._forget)

    @property
    def making(self) -> bool:
        return self._wanted is not None

    def hear(self, way: Way) -> None:
        """One of them in place of what sounds; what plays already pauses. Made first where it is not there yet."""
        if self.bent is None:
            self._make(way)
            return
        if way in self.bent.why:
            self.message.emit(self.bent.why[way], False)
            self.changed.emit()
        elif self.ear.heard == WAYS.index(way):
            self.ear.pause()
        else:
            self.ear.hear(WAYS.index(way), list(self.bent.sounds).index(way))
            if self.ear.heard is not None:
                self.message.emit(HEARD[way], False)

    def _make(self, way: Way) -> None:
        study = self._drive.latest
        if study is None or study.ladder is None or self._drive.waiting:
            self.message.emit("Oscillates by itself here; turn resonance under its onset to hear it driven."
                              if study is not None and study.oscillates else
                              "How it is bent is still being computed; a moment.", False)
            self.changed.emit()
            return
        standing = self._session.standing()
        self._wanted = way

        def steps() -> Iterator[object]:
            yield from bent_steps(standing, study)

        self.ear.make(steps)

    def _step(self, step: object) -> None:
        if isinstance(step, Bent):
            self.bent, wanted, self._wanted = step, self._wanted, None
            self.ear.take(list(step.sounds.values()))
            if wanted is not None:
                self.hear(wanted)
        elif isinstance(step, Progress):
            self.message.emit(f"{step.text} …", False)

    def _sleep(self) -> None:
        self.ear.leave()
        self._forget()

    def _refused(self, text: str, bad: bool) -> None:
        self._wanted = None
        self.message.emit(text, bad)
        self.changed.emit()

    def _forget(self) -> None:
        if self.bent is not None or self.making:
            self.ear.making.drop()
            self.ear.pause()
            self.bent = self._wanted = None
            self.changed.emit()
