"""State of the Tracking step: what is asked, what builds may do, the newest table, the trims and what to turn."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from PyQt6.QtCore import pyqtSignal

from jiyuu.book.store import LoggedFinding, StoredRun
from jiyuu.book.tracking_setting import TrackingSetting
from jiyuu.book.walk import moved_since
from jiyuu.circuits.network import FloatArray
from jiyuu.circuits.trims import Trim, Trims
from jiyuu.desktop.bench.measuring import compiled
from jiyuu.desktop.bench.step_presenter import StepPresenter
from jiyuu.desktop.session import Session
from jiyuu.errors import CircuitError, JiyuuError
from jiyuu.rig.tracking_request import START_HZ
from jiyuu.whole_file import write_text

if TYPE_CHECKING:
    from jiyuu.measurement.tracking import Readings, Tracking
    from jiyuu.measurement.tracking_advice import Advice

BUILDS, LIKELY = 200, (2.5, 97.5)


@dataclass(frozen=True, slots=True, eq=False)
class Table:
    """A stored run judged again by the tolerance in force; why it is out of date, or None; before: the run before it
    over the same kind of range, or None."""

    tracking: Tracking
    advice: Advice
    standing: Trims
    stale_why: str | None
    before: Tracking | None
    asked_hz: FloatArray  # (m,) the notes that the steps stand for
    fitted_v: FloatArray
    fitted_cents: FloatArray
    unread: tuple[str, ...]
    cents_per_c: float | None  # between this run and the one before, where they were not equally warm


@dataclass(frozen=True, slots=True, eq=False)
class Builds:
    """What 95 % of builds of the drawing do, in cents over volts (n,), before anything is turned."""

    volts: FloatArray
    low_cents: FloatArray
    high_cents: FloatArray


class TrackingPresenter(StepPresenter):
    """The view asks with methods; signals carry finished values."""

    settings = pyqtSignal(object, object)  # dict, TrackingSetting
    builds = pyqtSignal(object)  # Builds
    table = pyqtSignal(object)  # Table or None
    findings = pyqtSignal(object)  # list[LoggedFinding]

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._table: Table | None = None
        self._builds_of: tuple[Any, Builds] | None = None  # a tenth of a second: not at every refresh
        self.measuring.kept.connect(lambda _: self.show_table())

    # What is set

    @property
    def setting(self) -> TrackingSetting:
        chosen = self._session.in_hand
        assert chosen is not None
        return TrackingSetting.model_validate(self._session.book.setting(chosen.id, "tracking", {}))

    @property
    def trims(self) -> Trims:
        return Trims(**self._session.settings()["trims"])

    def refresh(self) -> None:
        """Everything anew."""
        if self._session.in_hand is None:
            return
        self._fresh = True
        self._document = self._session.document()
        self.settings.emit(self._session.settings(), self.setting)
        self.builds.emit(self._builds())
        self.show_table()

    def change(self, **changes: Any) -> None:
        """Ask for something else, as one undoable act; what is out of range is said and not taken."""
        self._change_kept("tracking", lambda: self.setting.changed(**changes))

    def turn(self, trim: Trim, turns: float) -> None:
        """Put a trim of the simulated unit to so many turns."""
        if self._session.in_hand is None:
            return
        try:
            after = Trims(**{**self.trims.as_json(), trim.value: round(turns, 3)})
        except CircuitError as error:
            self.message.emit(str(error), True)
            return
        self._session.change({"trims": after.as_json()})

    def turn_as_advised(self) -> None:
        """Turn the trims by what the table advises, and read again."""
        found = self._table
        if found is None:
            self.message.emit("Measure first (M): then there is something to advise.", False)
        elif found.stale_why is not None:
            self.message.emit("The table is out of date; measure again (M) before turning anything.", True)
        elif not found.advice.turns:
            self.message.emit(found.advice.remarks[0], False)
        else:
            after = found.advice.turned(found.standing)
            self._session.change({"trims": {name: round(turns, 3) for name, turns in after.as_json().items()}})
            self.measure()

    # What is measured

    def measure(self) -> None:
        """Step the control volts of the simulated unit and count."""
        if not self.measuring.may_begin(needs_unit=True):
            return
        shelved, document = self.shelved, self._session.document()
        assert shelved is not None
        assert shelved.seed is not None
        seed, setting = shelved.seed, self.setting
        request = setting.request(document, self._session.settings()["mode"], self.trims)

        def steps() -> Iterator[Any]:
            from jiyuu.rig.response_run import Progress
            from jiyuu.rig.simulated import SimulatedRig
            from jiyuu.rig.tracking_run import run_tracking

            yield from compiled(document)
            for step in run_tracking(request, SimulatedRig(document, seed=seed)):
                yield step if isinstance(step, Progress) else replace(
                    step, settings={**step.settings, "note": setting.note}
                )

        self._begin(shelved.id, steps, "simulated rig")

    def read_recording(self, path: Path) -> None:
        """A staircase recorded by hand: its steps in the order of the volts set here."""
        if not self.measuring.may_begin(needs_unit=False):
            return
        shelved, document = self.shelved, self._session.document()
        assert shelved is not None
        setting = self.setting
        request = setting.request(document, self._session.settings()["mode"], self.trims)

        def steps() -> Iterator[Any]:
            from jiyuu.rig.response_run import Progress
            from jiyuu.rig.tracking_run import evaluate_recording
            from jiyuu.signals.recordings import read_recording

            yield Progress("Finding the steps", 0.2)
            record = read_recording(path)
            run = evaluate_recording(request, record.loudest_v, float(record.sample_rate_hz))
            yield replace(run, settings={**run.settings, "note": setting.note})

        self._begin(shelved.id, steps, path.name)

    def _begin(self, filter_id: int, steps: Any, source: str) -> None:
        from jiyuu.book.keeping import keep_tracking

        book = self._session.book
        self.measuring.begin(filter_id, steps, lambda run: keep_tracking(book, filter_id, run, source=source))

    def toggle_kept(self, logged: LoggedFinding) -> None:
        super().toggle_kept(logged)
        self.show_table()

    # What is shown

    def show_table(self) -> None:
        """The newest run of the chosen mode, judged by the tolerance in force."""
        shelved = self.shelved
        if shelved is None:
            return
        now, book = self._session.settings(), self._session.book
        runs = [run for run in book.runs(shelved.id, "Tracking") if run.settings.get("mode") == now["mode"]]
        self._table = self._judged(runs, now) if runs else None
        self.table.emit(self._table)
        self.findings.emit(book.findings_of_run(runs[0].id) if runs else [])

    def _judged(self, runs: list[StoredRun], now: dict[str, Any]) -> Table | None:
        from jiyuu.measurement.tracking_advice import advise
        from jiyuu.rig.tracking_run import table_of

        run, setting = runs[0], self.setting
        readings = table_of(run.settings)
        try:
            tracking = self._read(readings, setting)
            before = self._read(table_of(runs[1].settings), setting) if len(runs) > 1 else None
        except JiyuuError as error:
            self.message.emit(str(error), True)
            return None
        standing = Trims(**run.settings.get("trims", {}))
        start_hz = run.settings.get("start_hz", 0.0)
        target = start_hz * 2.0**tracking.reference_v if setting.tune_offset and start_hz else None
        advice = advise(tracking, target_hz=target, trims=standing, pitch_ratio=run.settings.get("pitch_ratio", 1.0))
        volts = np.linspace(float(readings.volts.min()), float(readings.volts.max()), 161)
        at = int(np.flatnonzero(np.abs(readings.volts - tracking.reference_v) < 1e-9)[0])
        cents = advice.fit.cents(volts) - 1200 * np.log2(readings.frequency_hz[at])
        stands = {**now, "resonance_percent": run.settings.get("resonance_percent")}
        why = moved_since(stands, run.settings)
        if why is None and abs(run.settings.get("temperature_c", setting.temperature_c) - setting.temperature_c) > 1.5:
            why = f"it was {run.settings['temperature_c']:.0f} °C, is {setting.temperature_c:.0f} °C"
        follow = (run.settings.get("key_follow_percent") or 100.0) / 100
        asked_hz = run.settings.get("start_hz", START_HZ) * 2.0 ** (readings.volts / follow)
        return Table(
            tracking, advice, standing, why, before, asked_hz, volts,
            np.asarray(cents - 1200 * (volts - tracking.reference_v)), tuple(run.settings.get("unread", ())),
            None if len(runs) < 2 else _cents_per_c(run, runs[1]),
        )

    @staticmethod
    def _read(readings: Readings, setting: TrackingSetting) -> Tracking:
        from jiyuu.measurement.tracking import read_tracking

        there = setting.reference_v is not None and bool(np.any(np.abs(readings.volts - setting.reference_v) < 1e-9))
        return read_tracking(readings, reference_v=setting.reference_v if there else None,
                             tolerance_cents=setting.tolerance_cents)

    def _builds(self) -> Builds:
        """From the drawing's tolerances: converters of many builds over the volts asked for."""
        from jiyuu.quantities import volts_of
        from jiyuu.rig.simulated import draw_numbers

        setting, document = self.setting, self._document
        start_hz = setting.first_hz(document)
        steps = setting.volts(swept=setting.sweeps(document))
        asked = (document.tolerances, document.circuit, start_hz, steps, setting.reference_v)
        if self._builds_of is not None and self._builds_of[0] == asked:
            return self._builds_of[1]
        network = document.network()
        volts = np.linspace(min(steps), max(steps), 41)
        reference = steps[0] if setting.reference_v is None else setting.reference_v
        cents = np.empty((BUILDS, volts.size))
        for seed in range(BUILDS):
            converter = draw_numbers(document.tolerances, network, seed).converter
            octaves = converter.octaves(np.append(volts, reference) + volts_of(start_hz))
            cents[seed] = 1200 * (octaves[:-1] - octaves[-1] - (volts - reference))
        low, high = np.percentile(cents, LIKELY, axis=0)
        self._builds_of = asked, Builds(volts, low, high)
        return self._builds_of[1]

    # The record

    def record_text(self, ending: str) -> str:
        """The calibration record: date, temperature, readings, trims, what was advised. Raises JiyuuError where
        nothing is measured, or for another ending than .json or .csv."""
        from jiyuu.rig.tracking_run import table_json

        found, shelved = self._table, self.shelved
        if found is None or shelved is None:
            raise JiyuuError("Nothing is measured yet, so there is no record to write; measure first (M).")
        runs = [run for run in self._session.book.runs(shelved.id, "Tracking")
                if run.settings.get("mode") == self._session.settings()["mode"]]
        kept = runs[0].settings
        head = {
            "filter": f"{shelved.letter} {shelved.document.name}", "circuit": kept["circuit"], "mode": kept["mode"],
            "made_at": runs[0].made_at, "source": runs[0].source, "temperature_c": kept.get("temperature_c"),
            "zero_volt_hz": kept.get("start_hz"), "trims_turns": kept.get("trims", {}),
            "trims_noted": kept.get("note", ""), "tolerance_cents": found.tracking.tolerance_cents,
            "scale_v_per_octave": found.tracking.scale_v_per_octave.value,
            "usable_span_v": 0.0 if found.tracking.usable is None else found.tracking.usable.volts,
            "advice": list(found.advice.sentences),
        }
        if ending == ".json":
            errors = found.tracking.error_cents.tolist()
            return json.dumps({**head, **table_json(found.tracking.readings), "error_cents": errors}, indent=2,
                              ensure_ascii=False) + "\n"
        if ending != ".csv":
            raise JiyuuError("A calibration record is a .csv or a .json file; choose one of the two endings.")
        rows = [f"# {name}: {value}" for name, value in head.items() if name != "advice"]
        rows += [f"# {line}" for line in head["advice"]]
        rows.append("volts,frequency_hz,error_cents,amplitude_peak_v")
        table = found.tracking.readings
        rows += [f"{v:g},{hz:.7g},{cents:.4f},{'' if np.isnan(level) else f'{level:.5g}'}" for v, hz, cents, level in
                 zip(table.volts, table.frequency_hz, found.tracking.error_cents, table.level_v, strict=True)]
        return "\n".join(rows) + "\n"

    def write_record(self, path: Path) -> None:
        """Whole or not at all. Raises JiyuuError."""
        write_text(path, self.record_text(path.suffix.lower()))
        self.message.emit(f"Calibration record written: {path.name}.", False)


def _cents_per_c(now: StoredRun, before: StoredRun) -> float | None:
    """Cents by which the steps they share have moved for a degree; None where warmth or trims say nothing."""
    from jiyuu.rig.tracking_run import table_of

    one, other = now.settings, before.settings
    apart_c = one.get("temperature_c", 25.0) - other.get("temperature_c", 25.0)
    same = all(one.get(name) == other.get(name) for name in ("trims", "start_hz", "tracked_at_percent", "mode"))
    if abs(apart_c) < 1.0 or not same:
        return None
    first, second = table_of(one), table_of(other)
    shared, i, j = np.intersect1d(first.volts, second.volts, return_indices=True)
    if not shared.size:
        return None
    return float(np.mean(1200 * np.log2(first.frequency_hz[i] / second.frequency_hz[j])) / apart_c)
