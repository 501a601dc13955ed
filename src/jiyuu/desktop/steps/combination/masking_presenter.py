"""State of masking: what is to be heard beside the filter in hand, what of it is hidden, the cut."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from jiyuu.bench.masked import Masked, masked_steps
from jiyuu.bench.steps.combination import CombinationSetting
from jiyuu.desktop.ear_pair import EarPair
from jiyuu.desktop.measuring import EMPTY_SHELF, compiled
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.combination.presenter import CombinationPresenter
from jiyuu.measurement.finding import Finding
from jiyuu.patch.shapes import Band
from jiyuu.progress import Progress
from jiyuu.wording.findings import sentence


class MaskingPresenter(QObject):
    """Of the filter in hand as it stands; once it stands otherwise nothing is known any more."""

    changed = pyqtSignal()
    message = pyqtSignal(str, bool)

    def __init__(self, session: Session, combination: CombinationPresenter) -> None:
        super().__init__(combination)
        self._session, self._combination = session, combination
        self.masked: Masked | None = None
        self.going = ""  # what is being computed
        combination.more = lambda: self.findings
        self.ear = EarPair(session, "looking for what hides it", self)
        self.ear.changed.connect(self.changed)
        self.ear.message.connect(self._refused)
        self.ear.making.stepped.connect(self._step)
        combination.slept.connect(self._sleep)
        session.filter_changed.connect(self._forget)
        session.settings_changed.connect(self._forget)

    @property
    def setting(self) -> CombinationSetting:
        setting = self._combination.setting
        assert isinstance(setting, CombinationSetting)
        return setting

    @property
    def findings(self) -> tuple[Finding, ...]:
        return () if self.masked is None else (self.masked.finding,)

    @property
    def said(self) -> str:
        """The result in words, or what there is to do."""
        if self.going:
            return f"{self.going} …"
        if self.masked is None:
            return ("Say what is to be heard beside the filter in hand; every band of the ear is then cut once in the "
                    "filter's sound.")
        return sentence(self.masked.finding)

    def find(self) -> None:
        """Seconds, off the interface thread."""
        if self._session.in_hand is None:
            self.message.emit(EMPTY_SHELF, True)
            return
        if self.setting.wanted == "file" and not Path(self.setting.wanted_path).exists():
            self.message.emit("The file with the sound is not there any more; choose it again.", True)
            return
        standing, setting = self._session.standing(), self.setting
        self.masked, self.going = None, "Playing the filter in hand"

        def steps() -> Iterator[Any]:
            yield from compiled(standing)
            yield from masked_steps(standing, setting)

        self.ear.make(steps)
        self.changed.emit()

    def take(self) -> None:
        """The cut into the path, behind the filter in hand."""
        cut = None if self.masked is None else self.masked.found.cut
        if cut is None:
            self.message.emit("There is no cut to take; find what hides the sound first.", False)
            return
        self._combination.path.add_band(Band(kind="peak", frequency_hz=cut.frequency_hz, gain_db=cut.gain_db,
                                             q=round(cut.q, 4)))

    def hear(self, which: int) -> None:
        """Both together: 0 as they are, 1 with the cut; what plays already pauses."""
        if self.masked is not None and which < len(self.masked.sounds):
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
        elif isinstance(step, Masked):
            self.masked, self.going = step, ""
            self.ear.take(step.sounds)
            self._combination.say()
        self.changed.emit()

    def _refused(self, text: str, bad: bool) -> None:
        self.going = ""
        self.message.emit(text, bad)
        self.changed.emit()

    def _forget(self) -> None:
        if self.masked is not None or self.going:
            self.ear.making.drop()
            self.ear.pause()
            self.masked, self.going = None, ""
            self.changed.emit()
