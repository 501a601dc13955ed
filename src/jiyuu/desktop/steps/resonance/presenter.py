"""State of the Resonance step: the map as the controls move, the curves against the control, loudness by simulation."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import pyqtSignal

from jiyuu.arrays import FloatArray
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.book.stored import StoredRun
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.presenter import StepPresenter
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.resonance_curves import overload
from jiyuu.measurement.resonance_findings import control_findings, output_findings, position_findings
from jiyuu.prediction.resonance import MAP_HZ, MAP_POSITIONS, onset_percent_of, resonance_map
from jiyuu.prediction.resonance_levels import Studied, studied
from jiyuu.wording.resonance import bass_loss

COARSE_POSITIONS, COARSE_STEP = 45, 3  # of the small maps
DRAGGED_POSITIONS = 81  # of the large one while a hand moves; whole again as soon as it stops
AUDITION_PERCENT = {"none": 0.0, "¼": 25.0, "½": 50.0, "¾": 75.0, "full": 100.0}


@dataclass(frozen=True, slots=True, eq=False)
class MeasuredResonance:
    """The newest run: amount_db and body_db (p,) over position_percent (p,); why it is out of date, or None."""

    position_percent: FloatArray
    amount_db: FloatArray
    body_db: FloatArray
    stale_why: str | None


class ResonancePresenter(StepPresenter):
    """The view asks with methods; signals carry finished values."""

    mapped = pyqtSignal(object)  # ResonanceMap
    every_mode = pyqtSignal(object)  # ResonanceMap, coarse, of all modes
    studied = pyqtSignal(object)  # Studied
    measured = pyqtSignal(object)  # MeasuredResonance or None
    remembers = True

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self._onset: tuple[object, float | None] = (None, None)
        self._modes_of: object = None
        self.latest: Studied | None = None

    @property
    def onset_percent(self) -> float | None:
        """By the drawing; it takes milliseconds, so it is searched anew only when the circuit has changed. Where parts
        of the circuit stand fixed (a coupling capacitor) a drag of the cutoff shows it a moment late."""
        standing = self._session.standing()
        key = (standing.built, standing.standing_hz,
               standing.filter.resonance_taper, standing.full_gain)
        if key != self._onset[0]:
            self._onset = key, onset_percent_of(standing.filter, standing.network, standing.standing_hz)
        return self._onset[1]

    # What the person does

    def set_taper(self, taper: str | list[list[float]] | None) -> None:
        """Another law of the resonance control; None is the filter file's."""
        self._session.change({"resonance_taper": taper})

    def try_proposal(self) -> None:
        """Put the most even taper into the drawing."""
        found = self.latest
        if found is None or not found.study.proposals:
            self.message.emit("There is no taper to propose here; a notch has no peak to judge by.", False)
            return
        best = found.study.proposals[0]
        self.set_taper([list(pair) for pair in best.table])
        self.message.emit(f"In the drawing now: {best.name}. Ctrl+Z takes it back.", False)

    # What is shown

    def show_standing(self) -> None:
        self._show_map(DRAGGED_POSITIONS if self.dragging else MAP_POSITIONS)

    def _show_map(self, positions: int) -> None:
        standing = self.now()
        self.mapped.emit(resonance_map(
            standing.filter, standing.network, [standing.mode], cutoff_hz=standing.standing_hz,
            onset_percent=self.onset_percent, positions=positions,
        ))

    def begin_computing(self) -> None:
        """The whole map, and the small ones: not while a line is dragged, nobody looks there then."""
        if self.dragging:
            self._show_map(MAP_POSITIONS)
        standing = self.now()
        key = (standing.standing_hz, standing.built, standing.filter.control)
        if key != self._modes_of:
            self._modes_of = key
            self.every_mode.emit(resonance_map(
                standing.filter, standing.network, standing.outputs, cutoff_hz=standing.standing_hz,
                onset_percent=self.onset_percent, positions=COARSE_POSITIONS, frequency_hz=MAP_HZ[::COARSE_STEP],
            ))

    def compute(self, standing: Standing, setting: object) -> Iterator[Studied]:
        yield from studied(
            standing.filter, standing.network, standing.mode, standing.setup.sources(),
            cutoff_hz=standing.standing_hz, drive=standing.drive,
        )

    def on_computed(self, found: Studied) -> None:
        self.latest = found
        self.studied.emit(found)
        self.say()

    def show_run(self, runs: list[StoredRun]) -> None:
        table = self.tables.get("resonance")
        if table is None:
            self.measured.emit(None)
            return
        peaks, highest = table["peak_db"], table["highest_db"]
        amount = highest - highest[0] if np.isnan(peaks).all() else np.nan_to_num(peaks)
        self.measured.emit(MeasuredResonance(table["position_percent"], amount, table["body_db"], self.stale_why))

    def _current(self) -> Studied | None:
        """The study, while it is of the mode that stands."""
        found = self.latest
        return found if found is not None and found.study.mode == self.now().mode else None

    def heading(self) -> str:
        found = self._current()
        if found is None:
            return "Reading the curves …"
        if self.logged:
            return super().heading()
        return f"Predicted. {bass_loss(found.study.curves, self._percent(found))}"

    def _percent(self, found: Studied) -> float:
        return min(self.now().resonance_percent, float(found.study.curves.position_percent[-1]))

    def predicted_findings(self) -> tuple[Finding, ...]:
        found = self._current()
        if found is None:
            return ()
        setup, output = self._session.standing().setup, found.output
        out = output_findings(
            output.position_percent, output.output_db, overload(output.position_percent, output.peak_v,
                                                                setup.output_limit_v),
            self.now().resonance_percent, source=setup.source_names, limit_v=setup.output_limit_v, measured=False)
        best = found.study.proposals[0] if found.study.proposals else None
        control = control_findings(found.study.taper, found.study.onset_percent, measured=False,
                                   proposed=None if best is None else (best.name, best.evenness))
        if self.logged:  # a run says what resonance does at its own position
            return (*out, *control)
        return (*position_findings(found.study.curves, self._percent(found), measured=False), *out, *control)

