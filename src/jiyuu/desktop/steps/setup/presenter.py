"""State of the Setup step: the reach of the cutoff, the source in and out, what is not neutral, the session's plan."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import pyqtSignal

from jiyuu.bench.setup import MOST_SOURCES
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.circuits.linear import complex_gain
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.session import Session
from jiyuu.desktop.sounding import Sounding
from jiyuu.desktop.steps.presenter import StepPresenter
from jiyuu.errors import JiyuuError
from jiyuu.measurement.levels import gain_staging
from jiyuu.prediction.response import GRID_HZ
from jiyuu.wording.levels import staging_lines
from jiyuu.wording.reach import dead_line, reach_line


@dataclass(frozen=True, slots=True)
class Advice:
    """What is said beside the figures: the reach, dead travel, gain staging; and what is not neutral."""

    reach: str
    dead: tuple[str, ...]
    staging: tuple[str, ...]
    not_neutral: tuple[str, ...]


class SetupPresenter(StepPresenter):
    """The view asks with methods; signals carry finished values."""

    reached = pyqtSignal(object)  # Reach
    sounded = pyqtSignal(object)  # Sounded
    advised = pyqtSignal(object)  # Advice

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self._sounding = Sounding()
        self._peaks_v = 0.0, 0.0  # of the source, of what comes out by small signal

    def show_standing(self) -> None:
        standing = self.now()
        self.reached.emit(standing.reach)
        self._peaks_v = self._sound(standing)
        if not self.dragging:
            self._advise(standing)

    def begin_computing(self) -> None:
        """Sentences wait until the hand slows down: nobody reads them before, and to set them takes as long as the
        figures do."""
        self._advise(self.now())

    def _advise(self, standing: Standing) -> None:
        source_v, output_v = self._peaks_v
        document, setup = standing.document, standing.setup
        headroom = document.entry.values(standing.parameters).get("stage_headroom_v")
        self.advised.emit(Advice(
            reach_line(standing.reach), tuple(dead_line(part) for part in standing.reach.dead),
            staging_lines(gain_staging(source_v, setup.drive_db, headroom, output_v, setup.output_limit_v,
                                       document.tolerances.rail_v)),
            tuple(setup.not_neutral(standing.resonance_percent)),
        ))

    def _sound(self, standing: Standing) -> tuple[float, float]:
        """Shows the source in and out; returns the peak volts of both."""
        try:
            self._sounding.take(standing.setup)
        except JiyuuError as error:
            self.message.emit(str(error), True)
            return 0.0, 0.0
        gains = complex_gain(standing.network, GRID_HZ, cutoff_hz=standing.standing_hz, gain=standing.gain,
                             modes=[standing.mode])
        sounded = self._sounding.sounded([standing.mode], GRID_HZ, gains, drive_db=standing.setup.drive_db)
        self.sounded.emit(sounded)
        return float(np.abs(sounded.source_v).max()), float(np.abs(sounded.output_v).max())

    def heading(self) -> str:
        return "Measured. Choose one, K keeps it." if self.logged else \
            "Nothing measured yet: M plays the source and listens."

    # What the person does

    def try_cutoff(self, standing_hz: float) -> None:
        """Here the line is the knob itself."""
        self._try(cutoff_hz=standing_hz)

    def set_cutoff(self, standing_hz: float) -> None:
        self.set_knob(standing_hz)

    def change(self, **changes: object) -> None:
        """Something of the set-up; what cannot be is said and not taken."""
        if self.shelved is None:
            return
        try:
            self._session.change_setup(**changes)
        except JiyuuError as error:
            self.message.emit(str(error), True)
            self._changed()

    def change_input(self, index: int, **changes: object) -> None:
        """One source of the mix."""
        inputs = self._inputs()
        inputs[index].update(changes)
        self.change(inputs=inputs)

    def add_input(self) -> None:
        """Another source into the mix, of up to eight."""
        inputs = self._inputs()
        if len(inputs) < MOST_SOURCES:
            self.change(inputs=[*inputs, {"kind": "sine", "pitch_hz": 55.0, "level_v": 2.5}])

    def remove_input(self, index: int) -> None:
        """One of the sources out of the mix; the last one stays."""
        inputs = self._inputs()
        if len(inputs) > 1:
            del inputs[index]
            self.change(inputs=inputs)

    def _inputs(self) -> list[dict[str, object]]:
        return [setting.model_dump(mode="json") for setting in self._session.standing().setup.inputs]

    def change_cv(self, index: int, **changes: object) -> None:
        """One of the control voltages."""
        cvs = [cv.model_dump(mode="json") for cv in self._session.standing().setup.cvs]
        cvs[index].update(changes)
        self.change(cvs=cvs)

    def set_neutral(self) -> None:
        """Resonance and everything that moves the cutoff or drives the filter to nothing, as one act."""
        self._session.set_neutral()
        self.message.emit("Neutral: nothing but the knob moves the cutoff. Ctrl+Z takes it back.", False)
