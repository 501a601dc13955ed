"""State of the Tracking step: what is asked, what builds may do, the newest table, the trims and what to turn."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtCore import pyqtSignal

from jiyuu.arrays import FloatArray
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.bench.steps.tracking import TrackingSetting, from_recording, readings_of
from jiyuu.book.stored import StoredRun
from jiyuu.circuits.trims import Trim, Trims
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.presenter import StepPresenter
from jiyuu.errors import CircuitError, JiyuuError
from jiyuu.rig.tracking_request import START_HZ
from jiyuu.signals.recordings import FULL_SCALE_V
from jiyuu.whole_file import write_text
from jiyuu.wording.tracking import remark_lines

if TYPE_CHECKING:
    from jiyuu.measurement.tracking import Readings, Tracking
    from jiyuu.prediction.trim_advice import Advice


@dataclass(frozen=True, slots=True, eq=False)
class Judged:
    """A stored run judged again by the tolerance in force; why it is out of date, or None; before: the run before it
    over the same kind of range, or None."""

    tracking: Tracking
    advice: Advice
    remarks: tuple[str, ...]
    standing: Trims
    stale_why: str | None
    before: Tracking | None
    asked_hz: FloatArray  # (m,) the notes that the steps stand for
    fitted_v: FloatArray
    fitted_cents: FloatArray
    unread: tuple[str, ...]
    cents_per_c: float | None  # between this run and the one before, where they were not equally warm


class TrackingPresenter(StepPresenter):
    """The view asks with methods; signals carry finished values."""

    builds = pyqtSignal(object)  # Builds
    table = pyqtSignal(object)  # Judged or None
    remembers = True

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self.judged: Judged | None = None

    # What is set

    @property
    def trims(self) -> Trims:
        return self._session.standing().trims

    def turn(self, trim: Trim, turns: float) -> None:
        """Put a trim of the simulated unit to so many turns."""
        if self.shelved is None:
            return
        try:
            after = Trims(**{**self.trims.as_json(), trim.value: round(turns, 3)})
        except CircuitError as error:
            self.message.emit(str(error), True)
            return
        self._session.change({"trims": after.as_json()})

    def turn_as_advised(self) -> None:
        """Turn the trims by what the table advises, and read again."""
        found = self.judged
        if found is None:
            self.message.emit("Measure first (M): then there is something to advise.", False)
        elif found.stale_why is not None:
            self.message.emit("The table is out of date; measure again (M) before turning anything.", True)
        elif not found.advice.turns:
            self.message.emit(found.remarks[0], False)
        else:
            after = found.advice.turned(found.standing)
            self._session.change({"trims": {name: round(turns, 3) for name, turns in after.as_json().items()}})
            self.measure()

    def read_recording(
        self, path: Path, *, channel: str | None = None, harmonic: int | None = None,
        full_scale_v: float = FULL_SCALE_V,
    ) -> None:
        """A staircase recorded by hand: its steps in the order of the volts set here."""
        if self.shelved is None:
            return
        setting = self.setting
        self._measuring.read(path.name, lambda standing: from_recording(standing, setting, path, channel=channel,
                                                                        harmonic=harmonic,
                                                                        full_scale_v=full_scale_v))

    # What is computed

    def compute(self, standing: Standing, setting: TrackingSetting) -> Iterator[object]:
        from jiyuu.prediction.tracking_builds import converter_builds

        steps = setting.volts(swept=setting.sweeps(standing.filter))
        yield converter_builds(standing.filter, standing.network, start_hz=setting.first_hz(standing.filter),
                               volts=steps, reference_v=setting.reference_v)

    def on_computed(self, found: object) -> None:
        self.builds.emit(found)

    # What is shown

    def heading(self) -> str:
        from jiyuu.wording.findings import QUANTITIES

        if self.logged:
            return "Measured. ± is 95 %. Choose one, K keeps it."
        return ("Nothing measured yet. M steps the volts and counts; or drop one recording of a staircase on the "
                f"window. {QUANTITIES['tracking_error_cents'].how}")

    def show_run(self, runs: list[StoredRun]) -> None:
        self.judged = None
        if self.run is not None and "tracking" in self.tables:
            try:
                self.judged = self._judge(runs)
            except JiyuuError as error:
                self.message.emit(str(error), True)
        self.table.emit(self.judged)

    def _judge(self, runs: list[StoredRun]) -> Judged:
        """By the tolerance in force. Raises JiyuuError where the table cannot be read."""
        from jiyuu.prediction.trim_advice import advise

        run, setting = runs[0], self.setting
        facts, readings = run.facts, readings_of(self.tables["tracking"])
        tracking = self._read(readings, setting)
        earlier = self._session.book.tables(runs[1].id).get("tracking") if len(runs) > 1 else None
        was = None if earlier is None else readings_of(earlier)
        standing = Trims(**run.standing.get("trims", {}))
        start_hz = facts.get("start_hz") or 0.0
        target = start_hz * 2.0**tracking.reference_v if setting.tune_offset and start_hz else None
        advice = advise(tracking, target_hz=target, trims=standing, pitch_ratio=facts.get("pitch_ratio", 1.0))
        volts = np.linspace(float(readings.volts.min()), float(readings.volts.max()), 161)
        at = int(np.flatnonzero(np.abs(readings.volts - tracking.reference_v) < 1e-9)[0])
        cents = advice.fit.cents(volts) - 1200 * np.log2(readings.frequency_hz[at])
        follow = (facts.get("key_follow_percent") or 100.0) / 100
        return Judged(
            tracking, advice, remark_lines(advice), standing, self.stale_why,
            None if was is None else self._read(was, setting),
            facts.get("start_hz", START_HZ) * 2.0 ** (readings.volts / follow), volts,
            np.asarray(cents - 1200 * (volts - tracking.reference_v)), tuple(facts.get("unread", ())),
            None if was is None else _cents_per_c(run, readings, runs[1], was),
        )

    @staticmethod
    def _read(readings: Readings, setting: TrackingSetting) -> Tracking:
        from jiyuu.measurement.tracking import read_tracking

        there = setting.reference_v is not None and bool(np.any(np.abs(readings.volts - setting.reference_v) < 1e-9))
        return read_tracking(readings, reference_v=setting.reference_v if there else None,
                             tolerance_cents=setting.tolerance_cents)

    # The record

    def write_record(self, path: Path) -> None:
        """The calibration record, as CSV or JSON by the ending, whole or not at all. Raises JiyuuError."""
        from jiyuu.bench.calibration import calibration_record

        found, shelved, run = self.judged, self.shelved, self.run
        if found is None or shelved is None or run is None:
            raise JiyuuError("Nothing is measured yet, so there is no record to write; measure first (M).")
        write_text(path, calibration_record(shelved, run, found.tracking, found.advice, ending=path.suffix.lower()))
        self.message.emit(f"Calibration record written: {path.name}.", False)


def _cents_per_c(now: StoredRun, readings: Readings, before: StoredRun, was: Readings) -> float | None:
    """Cents by which the steps they share have moved for a degree; None where warmth or trims say nothing."""
    apart_c = now.facts.get("temperature_c", 25.0) - before.facts.get("temperature_c", 25.0)
    same = now.standing.get("trims") == before.standing.get("trims") and all(
        now.facts.get(name) == before.facts.get(name) for name in ("start_hz", "tracked_at_percent"))
    shared, i, j = np.intersect1d(readings.volts, was.volts, return_indices=True)
    if abs(apart_c) < 1.0 or not same or not shared.size:
        return None
    return float(np.mean(1200 * np.log2(readings.frequency_hz[i] / was.frequency_hz[j])) / apart_c)
