"""What the window is about: the open book, the filter in hand, its settings. Views show it, presenters change it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import ValidationError
from PyQt6.QtCore import QObject, pyqtSignal

from jiyuu.book.setup import Setup
from jiyuu.book.store import Book, Shelved
from jiyuu.book.walk import STEPS, StepState, step_state
from jiyuu.circuits.circuit import checked_cutoff
from jiyuu.circuits.components import Components, cutoff_hz, full_gain, stage_headroom_v, usual_components
from jiyuu.circuits.control import Taper
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.trims import Trims
from jiyuu.errors import CircuitError
from jiyuu.quantities import C4_HZ


class Session(QObject):
    """Signals say what changed; the book holds the state."""

    filter_changed = pyqtSignal()
    settings_changed = pyqtSignal()
    book_changed = pyqtSignal()  # runs, findings or notes

    def __init__(self, book: Book) -> None:
        super().__init__()
        self.book = book
        self.shelf: list[Shelved] = book.filters()
        self._in_hand = 0

    @property
    def in_hand(self) -> Shelved | None:
        return self.shelf[self._in_hand] if self.shelf else None

    def take(self, index: int) -> None:
        """Take another filter in hand."""
        if 0 <= index < len(self.shelf) and index != self._in_hand:
            self._in_hand = index
            self.filter_changed.emit()

    def reload_shelf(self) -> None:
        self.shelf = self.book.filters()
        self.filter_changed.emit()

    def settings(self, shelved: Shelved | None = None) -> dict[str, Any]:
        """The controls of a filter (the one in hand): what the file says, then what was changed since."""
        chosen = shelved or self.in_hand
        assert chosen is not None
        document = chosen.document
        start = {
            "mode": document.chosen_mode,
            "cutoff_hz": document.cutoff_hz,
            "resonance_percent": document.resonance_percent,
            "level_v": None,
            "beside": None,
            "resonance_taper": None,
            "cutoff_named": "pole",
            "trims": Trims().as_json(),
        }
        found = {name: self.book.setting(chosen.id, name, value) for name, value in start.items()}
        return {**found, "parameters": self._parameters(chosen), "control": self.document(chosen).control}

    def setup(self, shelved: Shelved | None = None) -> Setup:
        """How a filter (the one in hand) stands on the bench beyond its own knobs."""
        chosen = shelved or self.in_hand
        assert chosen is not None
        return Setup.model_validate(self.book.setting(chosen.id, "setup", {}))

    def change_setup(self, **changes: Any) -> None:
        """Move something of the set-up as one undoable act. Raises CircuitError saying what is out of range."""
        chosen = self.in_hand
        if chosen is None:
            return
        before = self.book.setting(chosen.id, "setup")
        try:
            after = Setup.model_validate({**self.setup().model_dump(mode="json"), **changes})
        except ValidationError as error:
            first = error.errors()[0]
            name = ".".join(str(part) for part in first["loc"])
            said = first["msg"].removeprefix("Value error, ")
            raise CircuitError(f"{name}: {said.lower()}." if name else f"{said[:1].upper()}{said[1:]}.") from error
        kept = after.model_dump(mode="json")
        if kept != before:
            self.book.set_values(chosen.id, {"setup": kept}, before={"setup": before})
            self.settings_changed.emit()

    def set_neutral(self) -> None:
        """Resonance and everything that moves the cutoff or drives the filter to nothing, as one act."""
        chosen = self.in_hand
        if chosen is None:
            return
        now = self.settings()
        before = {"setup": self.book.setting(chosen.id, "setup"), "resonance_percent": now["resonance_percent"],
                  "level_v": now["level_v"]}
        after = {"setup": self.setup().neutral().model_dump(mode="json"), "resonance_percent": 0.0, "level_v": None}
        self.book.set_values(chosen.id, after, before=before)
        self.settings_changed.emit()

    def components(self) -> Components:
        """The component values of the filter in hand: as changed, as its file gives them, or the usual ones."""
        chosen = self.in_hand
        assert chosen is not None
        kept = self.book.setting(chosen.id, "components")
        if kept is not None:
            return Components.model_validate(kept)
        document = self.document()
        if document.components is not None:
            return document.components
        headroom = document.entry.values(document.parameters).get("stage_headroom_v", 1.0)
        usual = usual_components(document.circuit, headroom, C4_HZ)
        return usual.model_copy(update={"resonance_ohm": usual.loop_ohm / document.gain_at(100.0)})

    def set_component(self, name: str, value: float) -> None:
        """Another value on the board: cutoff and headroom move with it, the control voltage stays. One act."""
        chosen = self.in_hand
        assert chosen is not None
        before, now, document = self.components(), self.settings(), self.document()
        try:
            after = Components.model_validate({**before.model_dump(), name: int(value) if name == "diodes" else value})
        except ValidationError as error:
            raise CircuitError(f"{name} = {value:g}: {error.errors()[0]['msg'].lower()}.") from error
        moved = now["cutoff_hz"] * cutoff_hz(document.circuit, after) / cutoff_hz(document.circuit, before)
        values: dict[str, Any] = {"components": after.model_dump(), "cutoff_hz": round(checked_cutoff(moved), 3)}
        old: dict[str, Any] = {
            "components": self.book.setting(chosen.id, "components"), "cutoff_hz": now["cutoff_hz"],
        }
        headroom = stage_headroom_v(after)
        if abs(headroom / stage_headroom_v(before) - 1) > 1e-9:
            document.entry.values({**document.parameters, "stage_headroom_v": headroom})
            old["parameters"] = dict(self.book.setting(chosen.id, "parameters", {}))
            values["parameters"] = {**old["parameters"], "stage_headroom_v": headroom}
        self.book.set_values(chosen.id, values, before=old)
        self.settings_changed.emit()

    def _parameters(self, chosen: Shelved) -> dict[str, float]:
        return {**chosen.document.parameters, **self.book.setting(chosen.id, "parameters", {})}

    def document(self, shelved: Shelved | None = None) -> Filter:
        """The filter as it stands: its file with the parameters changed since."""
        chosen = shelved or self.in_hand
        assert chosen is not None
        changed: dict[str, Any] = {"parameters": self._parameters(chosen)}
        kept = self.book.setting(chosen.id, "components")
        if kept is not None and kept.get("resonance_ohm") is not None:
            changed["full_gain"] = full_gain(Components.model_validate(kept))
        taper = self.book.setting(chosen.id, "resonance_taper")
        if taper is not None:
            changed["resonance_taper"] = Taper(taper) if isinstance(taper, str) else tuple(map(tuple, taper))
        return chosen.document.model_copy(update=changed)

    def set_parameter(self, name: str, value: float | None) -> None:
        """Change one parameter of the filter in hand; None takes it back to what its file says."""
        chosen = self.in_hand
        if chosen is None:
            return
        changed = dict(self.book.setting(chosen.id, "parameters", {}))
        before = dict(changed)
        if value is None:
            changed.pop(name, None)
        else:
            changed[name] = value
        if changed != before:
            self.book.set_values(chosen.id, {"parameters": changed}, before={"parameters": before})
            self.settings_changed.emit()

    def change(self, values: Mapping[str, Any]) -> None:
        """Move controls of the filter in hand as one undoable act."""
        chosen = self.in_hand
        if chosen is None:
            return
        self.book.set_values(chosen.id, values, before=self.settings())
        self.settings_changed.emit()

    def reset(self, name: str) -> None:
        """A control back to what the filter's file says."""
        chosen = self.in_hand
        if chosen is not None:
            document = chosen.document
            start = {"cutoff_hz": document.cutoff_hz, "resonance_percent": document.resonance_percent}
            self.change({name: start[name]})

    def undo(self) -> str | None:
        return self._turned(self.book.undo())

    def redo(self) -> str | None:
        return self._turned(self.book.redo())

    def _turned(self, kind: str | None) -> str | None:
        if kind == "set":
            self.settings_changed.emit()
        elif kind is not None:
            self.book_changed.emit()
        return kind

    def states(self, shelved: Shelved | None = None) -> dict[str, StepState]:
        """State of every step for a filter."""
        chosen = shelved or self.in_hand
        if chosen is None:
            return dict.fromkeys(STEPS, StepState.OPEN)
        settings = self.settings(chosen)
        return {step: step_state(self.book, chosen.id, step, settings) for step in STEPS}
