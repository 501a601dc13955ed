"""State of the Setup step: the reach of the cutoff, the source in and out, what is not neutral, the session's plan."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from PyQt6.QtCore import pyqtSignal

from jiyuu.book.keeping import keep_levels
from jiyuu.book.setup import Setup
from jiyuu.circuits.linear import complex_gain
from jiyuu.circuits.reach import Reach, dead_sentence, reach, reach_sentence
from jiyuu.circuits.trims import Trims
from jiyuu.desktop.bench.measuring import compiled
from jiyuu.desktop.bench.sounding import Sounding
from jiyuu.desktop.bench.step_presenter import StepPresenter, within_cutoffs
from jiyuu.desktop.session import Session
from jiyuu.errors import JiyuuError
from jiyuu.measurement.levels import gain_staging

_GRID_HZ = np.geomspace(16.0, 21_000.0, 481)


@dataclass(frozen=True, slots=True)
class Advice:
    """What is said beside the figures: the reach, dead travel, gain staging; and what is not neutral."""

    reach: str
    dead: tuple[str, ...]
    staging: tuple[str, ...]
    not_neutral: tuple[str, ...]


class SetupPresenter(StepPresenter):
    """The view asks with methods; signals carry finished values."""

    settings = pyqtSignal(object, object)  # dict, Setup
    reached = pyqtSignal(object)  # Reach
    sounded = pyqtSignal(object)  # Sounded
    advised = pyqtSignal(object)  # Advice
    findings = pyqtSignal(object)  # list[LoggedFinding]

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._sounding = Sounding()
        self.measuring.kept.connect(lambda _: self.show_findings())
        session.book_changed.connect(lambda: self.show_findings() if self._awake else None)

    def refresh(self) -> None:
        """Everything anew."""
        if self.shelved is None:
            return
        self._fresh = True
        self._document = self._session.document()
        self._show(self._session.settings(), self._session.setup())
        self.show_findings()

    def _show(self, now: dict[str, Any], setup: Setup) -> None:
        self.settings.emit(now, setup)
        found = self._reach(now["cutoff_hz"], setup)
        self.reached.emit(found)
        source_v, output_v = self._sound(now, setup, found.now_hz)
        headroom = self._document.entry.values(self._document.parameters).get("stage_headroom_v")
        self.advised.emit(Advice(
            reach_sentence(found), tuple(dead_sentence(part) for part in found.dead),
            gain_staging(source_v, setup.drive_db, headroom, output_v, setup.next_limit_v,
                         self._document.tolerances.rail_v),
            tuple(setup.not_neutral(now["resonance_percent"])),
        ))

    def _reach(self, knob_hz: float, setup: Setup) -> Reach:
        return reach(setup.controls(knob_hz), lowest_hz=setup.lowest_hz, highest_hz=setup.highest_hz)

    def _sound(self, now: dict[str, Any], setup: Setup, standing_hz: float) -> tuple[float, float]:
        """Shows the source in and out; returns the peak volts of it and of what comes out by small signal."""
        try:
            self._sounding.take(setup)
        except JiyuuError as error:
            self.message.emit(str(error), True)
            return 0.0, 0.0
        network, gain = self._document.network(), self._document.gain_at(now["resonance_percent"])
        gains = complex_gain(network, _GRID_HZ, cutoff_hz=standing_hz, gain=gain, modes=[now["mode"]])
        sounded = self._sounding.sounded([now["mode"]], _GRID_HZ, gains, drive_db=setup.drive_db)
        self.sounded.emit(sounded)
        return float(np.abs(sounded.source_v).max()), float(np.abs(sounded.output_v).max())

    # What the person does

    def try_cutoff(self, cutoff_hz: float) -> None:
        """While the line is dragged: the figures follow, the book waits."""
        if self.shelved is not None:
            moved = within_cutoffs(cutoff_hz)
            self._show({**self._session.settings(), "cutoff_hz": moved}, self._session.setup())

    def change(self, **changes: Any) -> None:
        """Something of the set-up; what cannot be is said and not taken."""
        try:
            self._session.change_setup(**changes)
        except JiyuuError as error:
            self.message.emit(str(error), True)
            self._changed()

    def change_input(self, index: int, **changes: Any) -> None:
        inputs = [setting.model_dump(mode="json") for setting in self._session.setup().inputs]
        inputs[index].update(changes)
        self.change(inputs=inputs)

    def add_input(self) -> None:
        inputs = [setting.model_dump(mode="json") for setting in self._session.setup().inputs]
        if len(inputs) < 3:
            self.change(inputs=[*inputs, {"kind": "sine", "pitch_hz": 55.0, "level_v": 2.5}])

    def remove_input(self, index: int) -> None:
        inputs = [setting.model_dump(mode="json") for setting in self._session.setup().inputs]
        if len(inputs) > 1:
            del inputs[index]
            self.change(inputs=inputs)

    def change_cv(self, index: int, **changes: Any) -> None:
        cvs = [cv.model_dump(mode="json") for cv in self._session.setup().cvs]
        cvs[index].update(changes)
        self.change(cvs=cvs)

    def set_neutral(self) -> None:
        self._session.set_neutral()
        self.message.emit("Neutral: nothing but the knob moves the cutoff. Ctrl+Z takes it back.", False)

    # Measurement

    def measure(self) -> None:
        """Play the source through the simulated unit and measure what comes out."""
        if not self.measuring.may_begin(needs_unit=True):
            return
        shelved, now, setup = self.shelved, self._session.settings(), self._session.setup()
        assert shelved is not None
        assert shelved.seed is not None
        document, seed, book = self._document, shelved.seed, self._session.book
        standing_hz = self._reach(now["cutoff_hz"], setup).now_hz

        def steps() -> Iterator[Any]:
            from jiyuu.rig.level_run import LevelRequest, run_levels
            from jiyuu.rig.simulated import SimulatedRig

            yield from compiled(document)
            request = LevelRequest(
                document, standing_hz, now["resonance_percent"], now["mode"], setup.sources(), setup.drive_db,
                setup.next_limit_v, knob_hz=now["cutoff_hz"], trims=Trims(**now["trims"]),
            )
            yield from run_levels(request, SimulatedRig(document, seed=seed))

        self.measuring.begin(shelved.id, steps, lambda run: keep_levels(book, shelved.id, run, source="simulated rig"))

    def show_findings(self) -> None:
        """Of the newest run of this step."""
        if self.shelved is None:
            return
        runs = self._session.book.runs(self.shelved.id, "Setup")
        self.findings.emit(self._session.book.findings_of_run(runs[0].id) if runs else [])
