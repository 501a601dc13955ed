"""What the presenters of steps have in common: they work only while their step is looked at, and pass on the knobs."""

from __future__ import annotations

from collections.abc import Callable

from pydantic import BaseModel, ValidationError
from PyQt6.QtCore import QObject, pyqtSignal

from jiyuu.book.store import LoggedFinding, Shelved
from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ, CUTOFF_MINIMUM_HZ
from jiyuu.circuits.filter_file import Filter
from jiyuu.desktop.bench.measuring import Measuring
from jiyuu.desktop.session import Session


class StepPresenter(QObject):
    """`wake` and `sleep` say whether the step is looked at; `refresh` of each step shows everything anew."""

    busy = pyqtSignal(bool)
    progress = pyqtSignal(str, float)
    message = pyqtSignal(str, bool)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._awake = False
        self._fresh = False
        self._document: Filter = Filter.model_construct()
        self.measuring = Measuring(session, self)
        self.measuring.busy.connect(self.busy)
        self.measuring.progress.connect(self.progress)
        self.measuring.message.connect(self.message)
        session.filter_changed.connect(self._changed)
        session.settings_changed.connect(self._changed)

    @property
    def shelved(self) -> Shelved | None:
        return self._session.in_hand

    @property
    def letter(self) -> str:
        """Of the filter in hand."""
        return self.shelved.letter if self.shelved else "A"

    @property
    def document(self) -> Filter:
        """The filter in hand as it stands."""
        return self._document

    def wake(self) -> None:
        """The step is looked at."""
        self._awake = True
        if not self._fresh:
            self.refresh()

    def sleep(self) -> None:
        """The step is not looked at any more."""
        self._awake = False

    def _changed(self) -> None:
        self._fresh = False
        if self._awake:
            self.refresh()

    def refresh(self) -> None:
        """Everything anew."""
        raise NotImplementedError

    def _change_kept(self, name: str, make: Callable[[], BaseModel]) -> None:
        """Keep what `make` makes as the filter's setting of that name, as one undoable act; what cannot be made is said
        and not taken."""
        chosen = self._session.in_hand
        if chosen is None:
            return
        try:
            after = make()
        except ValidationError as error:
            said = error.errors()[0]["msg"].removeprefix("Value error, ")
            self.message.emit(f"{said[:1].upper()}{said[1:]}.", True)
            return
        before = self._session.book.setting(chosen.id, name)
        self._session.book.set_values(chosen.id, {name: after.model_dump(mode="json")}, before={name: before})
        self._session.settings_changed.emit()

    def set_mode(self, mode: str) -> None:
        self._session.change({"mode": mode})

    def set_cutoff(self, cutoff_hz: float) -> None:
        self._session.change({"cutoff_hz": round(within_cutoffs(cutoff_hz), 3)})

    def set_resonance(self, percent: float) -> None:
        self._session.change({"resonance_percent": round(within_travel(percent), 2)})

    def reset(self, name: str) -> None:
        self._session.reset(name)

    def cancel(self) -> None:
        self.measuring.cancel()

    def toggle_kept(self, logged: LoggedFinding) -> None:
        """Into the logbook, or out of it."""
        self._session.book.keep(logged.id, kept=not logged.kept)
        self._session.book_changed.emit()


def within_cutoffs(cutoff_hz: float) -> float:
    """The nearest cutoff a circuit is stated for."""
    return float(min(max(cutoff_hz, CUTOFF_MINIMUM_HZ), CUTOFF_MAXIMUM_HZ))


def within_travel(percent: float) -> float:
    return float(min(max(percent, 0.0), 100.0))
