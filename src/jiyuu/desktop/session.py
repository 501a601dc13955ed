"""What the window is about: the open book, the filter in hand, how it stands. Views show it, presenters change it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from jiyuu.bench.readable import readable
from jiyuu.bench.setup import Setup
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.bench.walk import StepState, setting_of, states, walk
from jiyuu.book.store import Book
from jiyuu.book.stored import Act, Shelved
from jiyuu.circuits.circuit import checked_cutoff
from jiyuu.circuits.components import cutoff_hz, stage_headroom_v
from jiyuu.circuits.filter_file import Filter
from jiyuu.desktop.jobs import Crew
from jiyuu.errors import CircuitError, JiyuuError
from jiyuu.patch.document import AnyStage
from jiyuu.patch.editing import places
from jiyuu.wording.acts import act_line

LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"


class Session(QObject):
    """Signals say what changed; the book holds the state. Settings are read once and after every change, in one query.
    """

    filter_changed = pyqtSignal()  # another one in hand, or another shelf
    settings_changed = pyqtSignal()
    book_changed = pyqtSignal()  # runs, findings or notes
    sounding = pyqtSignal(object)  # who begins to sound: everyone else is silent then

    def __init__(self, book: Book, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.crew = Crew(self)
        self.book = book
        self.shelf: list[Shelved] = []
        self._in_hand: int | None = None
        self._kept: dict[int, dict[str, object]] = {}
        self._strange: list[str] = []
        self._standing: dict[int, Standing] = {}
        self._states: dict[str, StepState] | None = None
        self._read()

    # The book and the shelf

    def open(self, book: Book) -> None:
        """Another book, all at once: nobody sees one book's shelf over another's settings."""
        old, self.book = self.book, book
        self._in_hand = None
        self._read()
        old.close()
        self.filter_changed.emit()
        self.book_changed.emit()

    def _read(self) -> None:
        """Shelf and settings as the book has them."""
        self.shelf = self.book.filters()
        self._read_settings()
        self._standing.clear()
        self._states = None
        if self._in_hand not in {shelved.id for shelved in self.shelf}:
            self._in_hand = self.shelf[0].id if self.shelf else None

    @property
    def in_hand(self) -> Shelved | None:
        return next((shelved for shelved in self.shelf if shelved.id == self._in_hand), None)

    def take(self, index: int) -> None:
        """Take another filter in hand."""
        if 0 <= index < len(self.shelf) and self.shelf[index].id != self._in_hand:
            self._in_hand = self.shelf[index].id
            self._states = None
            self.filter_changed.emit()

    def take_letter(self, letter: str) -> None:
        for index, shelved in enumerate(self.shelf):
            if shelved.letter == letter:
                self.take(index)

    def shelve(self, document: Filter, kept: Mapping[str, object] | None = None) -> str:
        """Put a filter on the shelf and take it in hand; kept: what stands round it. Returns its letter. Raises
        JiyuuError where none is free."""
        used = set(self.book.letters().values())
        free = [letter for letter in LETTERS if letter not in used]
        if not free:
            raise JiyuuError("The shelf is full (A to Z); start a new book for more filters.")
        self._in_hand = self.book.add_filter(free[0], document, seed=1, kept=kept)
        self._read()
        self.filter_changed.emit()
        return free[0]

    def put_away(self) -> str | None:
        """Take the filter in hand off the shelf; its runs and findings stay in the book. Returns its letter."""
        chosen = self.in_hand
        if chosen is None:
            return None
        self.book.show_filter(chosen.id, shown=False)
        self._read()
        self.filter_changed.emit()
        self.book_changed.emit()
        return chosen.letter

    # How a filter stands

    def kept(self, shelved: Shelved | None = None) -> Mapping[str, Any]:
        """What the book keeps of a filter's controls and steps, where they were moved."""
        chosen = shelved or self.in_hand
        return {} if chosen is None else self._kept.get(chosen.id, {})

    def standing(self, shelved: Shelved | None = None) -> Standing:
        """A filter (the one in hand) as it stands. Raises CircuitError where there is none."""
        chosen = shelved or self.in_hand
        if chosen is None:
            raise CircuitError("There is no filter on the shelf.")
        if chosen.id not in self._standing:
            self._standing[chosen.id] = Standing.of(chosen.document, self.kept(chosen))
        return self._standing[chosen.id]

    def setting(self, step: Step) -> Any:
        """What a step is asked for the filter in hand."""
        return setting_of(step, self.kept())

    def states(self) -> dict[str, StepState]:
        """State of every step, by key, for the filter in hand."""
        if self._states is None:
            chosen = self.in_hand
            self._states = dict.fromkeys((step.key for step in walk()), StepState.OPEN) if chosen is None else states(
                self.book, chosen.id, self.standing(), self.kept())
        return self._states

    # Acts

    def change(self, values: Mapping[str, object], *, together: bool = False) -> None:
        """Move controls of the filter in hand as one undoable act; None takes one back to what its file says. together:
        presses that follow each other are one act."""
        chosen = self.in_hand
        if chosen is not None and self.book.set_values(chosen.id, values, together=together):
            self._moved()

    def _read_settings(self) -> None:
        kept, self._strange = self.book.settings(), []
        self._kept = {}
        for shelved in self.shelf:
            self._kept[shelved.id], said = readable(shelved.document, kept.get(shelved.id, {}))
            self._strange += said

    def unread(self) -> list[str]:
        """A sentence for everything in the book that could not be read so far."""
        return [*self.book.unread.values(), *self._strange]

    def look_again(self) -> None:
        """Others have written into the book."""
        shelf, in_hand = self.shelf, self._in_hand
        self._read()
        if self.shelf != shelf or self._in_hand != in_hand:
            self.filter_changed.emit()
        else:
            self.settings_changed.emit()
        self.book_changed.emit()

    def _moved(self) -> None:
        self._read_settings()
        self._standing.clear()
        self._states = None
        self.settings_changed.emit()

    def runs_changed(self) -> None:
        """Runs, findings or notes were written."""
        self._states = None
        self.book_changed.emit()

    def ask(self, step: Step, **changes: object) -> None:
        """Ask something else of a step. Raises CircuitError naming the field and its range."""
        after = self.setting(step).changed(**changes)
        self.change({step.key: after.model_dump(mode="json", exclude_defaults=True) or None})

    def change_setup(self, **changes: object) -> None:
        """Move something of the set-up. Raises CircuitError naming the field and its range."""
        after = self.standing().setup.changed(**changes)
        self.change({"setup": after.model_dump(mode="json", exclude_defaults=True) or None})

    def change_path(self, path: tuple[AnyStage, ...]) -> None:
        """Other stages round the filter in hand, as one act. Raises CircuitError where they cannot be played."""
        standing = self.standing()
        there = {stage.id for _, stage in places(path)}
        tied = {name: octaves for name, octaves in standing.setup.tied.items() if name in there}
        setup = standing.setup.changed(path=path, tied=tied)
        standing.moved(setup=setup).network.output_index(standing.mode)
        self.change_setup(path=path, tied=tied)

    def set_neutral(self) -> None:
        """Resonance and everything that moves the cutoff or drives the filter to nothing, as one act."""
        if self.in_hand is not None:
            setup: Setup = self.standing().setup.neutral()
            self.change({"setup": setup.model_dump(mode="json", exclude_defaults=True) or None,
                         "resonance_percent": 0.0})

    def set_component(self, name: str, value: float) -> None:
        """Another value on the board: cutoff and headroom move with it, the control voltage stays. One act. Raises
        CircuitError saying what is out of range."""
        standing = self.standing()
        before, document = standing.component_values, standing.document
        after = before.changed(**{name: int(value) if name == "diodes" else value})
        moved = standing.cutoff_hz * cutoff_hz(document.circuit, after) / cutoff_hz(document.circuit, before)
        values: dict[str, object] = {"components": after.model_dump(), "cutoff_hz": round(checked_cutoff(moved), 3)}
        headroom = stage_headroom_v(after)
        if abs(headroom / stage_headroom_v(before) - 1) > 1e-9:
            parameters = {**self.kept().get("parameters", {}), "stage_headroom_v": headroom}
            document.entry.values({**document.parameters, **parameters})
            values["parameters"] = parameters
        self.change(values)

    def set_parameter(self, name: str, value: float | None) -> None:
        """Change one parameter of the filter in hand; None takes it back to what its file says. Raises CircuitError
        for a combination that the circuit cannot have."""
        changed = dict(self.kept().get("parameters", {}))
        changed.pop(name, None)
        if value is not None:
            changed[name] = value
        document = self.standing().document
        document.entry.network({**document.parameters, **changed})
        self.change({"parameters": changed or None})

    def undo(self) -> str:
        """Take back the last act; what that was, and where."""
        return self._turned(self.book.undo(), "Undone", "There is nothing to undo.")

    def redo(self) -> str:
        """Do again what was taken back last; what that was, and where."""
        return self._turned(self.book.redo(), "Done again", "There is nothing to redo.")

    def _turned(self, act: Act | None, verb: str, nothing: str) -> str:
        if act is None:
            return nothing
        in_hand = self._in_hand
        self._read()
        if act.kind == "filter" or in_hand != self._in_hand:
            self.filter_changed.emit()
        elif act.kind == "set":
            self.settings_changed.emit()
        self.book_changed.emit()
        return f"{verb}{self._where(act)}: {act_line(act.kind, act.state)}."

    def _where(self, act: Act) -> str:
        filter_id = act.state.get("filter_id")
        letter = self.book.letters().get(filter_id) if isinstance(filter_id, int) else None
        return "" if letter is None else f" on {letter}"

