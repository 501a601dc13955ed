"""What is asked of the filter in hand by a button, takes seconds, is told as findings and heard as sounds beside each
other."""

from __future__ import annotations

from typing import Protocol, runtime_checkable

from PyQt6.QtCore import QObject, pyqtSignal

from jiyuu.arrays import FloatArray
from jiyuu.desktop.ear_pair import EarPair
from jiyuu.desktop.jobs import Steps
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.combination.presenter import CombinationPresenter
from jiyuu.measurement.finding import Finding
from jiyuu.progress import Progress
from jiyuu.wording.findings import sentence


@runtime_checkable
class Told(Protocol):
    """A result: its findings, and its sounds (n,) re full scale."""

    @property
    def findings(self) -> tuple[Finding, ...]: ...

    @property
    def sounds(self) -> tuple[FloatArray, ...]: ...


class BesidePresenter(QObject):
    """Of the filter in hand as it stands; once it stands otherwise nothing is known any more."""

    changed = pyqtSignal()
    message = pyqtSignal(str, bool)

    def __init__(self, session: Session, combination: CombinationPresenter, what: str) -> None:
        super().__init__(combination)
        self._session, self._combination = session, combination
        self.found: Told | None = None
        self.going = ""  # what is being computed
        combination.more.append(lambda: self.findings)
        self.ear = EarPair(session, what, self)
        self.ear.changed.connect(self.changed)
        self.ear.message.connect(self._refused)
        self.ear.making.stepped.connect(self._step)
        combination.slept.connect(self._sleep)
        session.filter_changed.connect(self._forget)
        session.settings_changed.connect(self._forget)

    @property
    def findings(self) -> tuple[Finding, ...]:
        return () if self.found is None else self.found.findings

    def said(self, to_do: str) -> str:
        """The result in words; as long as there is none, what there is to do."""
        if self.going:
            return f"{self.going} …"
        return " ".join(sentence(finding) for finding in self.findings) or to_do

    def start(self, going: str, steps: Steps) -> None:
        """Seconds, off the interface thread; steps yield how far they are, then the result."""
        self.found, self.going = None, going
        self.ear.make(steps)
        self.changed.emit()

    def hear(self, which: int) -> None:
        """One of the sounds; what plays already pauses."""
        if self.found is None or which >= len(self.found.sounds):
            return
        if self.ear.heard == which:
            self.ear.pause()
        else:
            self.ear.hear(which, which)

    def _sleep(self) -> None:
        self.ear.leave()
        self._forget()

    def _step(self, step: object) -> None:
        if isinstance(step, Progress):
            self.going = step.text
        elif isinstance(step, Told):
            self.found, self.going = step, ""
            self.ear.take(step.sounds)
            self._combination.say()
        self.changed.emit()

    def _refused(self, text: str, bad: bool) -> None:
        self.going = ""
        self.message.emit(text, bad)
        self.changed.emit()

    def _forget(self) -> None:
        if self.found is not None or self.going:
            self.ear.making.drop()
            self.ear.pause()
            self.found, self.going = None, ""
        self.changed.emit()
