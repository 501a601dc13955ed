"""The Response step: predicted curves as the controls move, measured ones from the book, what builds may do."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtCore import pyqtSignal

from jiyuu.arrays import FloatArray
from jiyuu.bench.run import keep
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.bench.steps.response import ResponseSetting, from_files, from_table
from jiyuu.book.stored import Shelved, StoredRun
from jiyuu.book.table import Table
from jiyuu.circuits.components import error_cents, preferred, shown
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.linear import complex_gain, level_db
from jiyuu.circuits.network import Network
from jiyuu.desktop.measuring import EMPTY_SHELF, Measuring
from jiyuu.desktop.session import Session
from jiyuu.desktop.sounding import Sounded, Sounding
from jiyuu.desktop.steps.presenter import StepPresenter
from jiyuu.errors import JiyuuError
from jiyuu.measurement.finding import Finding
from jiyuu.prediction.response import GRID_HZ, PoleMap, Predicted, pole_map, predicted, read_prediction
from jiyuu.progress import Progress
from jiyuu.quantities import shown_hz, signed

if TYPE_CHECKING:
    from jiyuu.prediction.tolerance import ToleranceStudy
    from jiyuu.signals.table_layout import Layout
from jiyuu.signals.recordings import FULL_SCALE_V
from jiyuu.simulation.level_response import LevelResponse

POINTS = (61, 241)  # of the curve at level: a first look, then the whole
OSCILLATION = "oscillation"


@dataclass(frozen=True, slots=True, eq=False)
class Measured:
    """The newest measured curve of the chosen mode; why it is out of date, or None."""

    curve: Table
    stale_why: str | None


@dataclass(frozen=True, slots=True, eq=False)
class Beside:
    """Another filter's curve in the same figure: at the same cutoff, as far from its own onset."""

    letter: str
    document: Filter
    network: Network
    mode: str
    gain: float

    @property
    def name(self) -> str:
        return f"{self.letter} {self.mode}"


@dataclass(frozen=True, slots=True, eq=False)
class AtLevel:
    """A response at level and whose it is: the letter of the filter beside, None for the one in hand."""

    letter: str | None
    response: LevelResponse


@dataclass(frozen=True, slots=True, eq=False)
class Read:
    """What is read from the drawing's curve, and the path of its poles."""

    findings: tuple[Finding, ...]
    poles: PoleMap


class ResponsePresenter(StepPresenter):
    """The view asks with methods; signals carry finished values."""

    predicted = pyqtSignal(object)  # Predicted
    read = pyqtSignal(object)  # Read
    measured = pyqtSignal(object)  # Measured or None
    others_measured = pyqtSignal(object)  # dict: name of every other run with a curve -> its id in the book
    beside = pyqtSignal(object, object)  # Beside and its level in dB over GRID_HZ, or None twice
    preview = pyqtSignal(object)  # AtLevel, ToleranceStudy or Progress
    preview_gone = pyqtSignal()  # what was previewed is asked for no more

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self._sounding = Sounding()
        self._read: Read | None = None
        self._read_holds = False
        self._beside_now: Beside | None = None
        self.band_shown = False

    # What is set

    def others(self) -> list[Shelved]:
        """The filters that can stand beside the one in hand."""
        return [s for s in self._session.shelf if self.shelved is None or s.id != self.shelved.id]

    def cutoff_said(self) -> str:
        """The cutoff line's label, by the definition chosen; the pole beside it, for that is what the line moves."""
        standing, named = self.now(), self.setting.cutoff_named
        pole = shown_hz(standing.standing_hz)
        moved = "" if standing.standing_hz == standing.cutoff_hz else f", knob {shown_hz(standing.cutoff_hz)}"
        if named == "pole":
            return f"cutoff (pole) {pole}{moved}"
        values = {finding.quantity: finding.value for finding in self._read.findings} if self._read else {}
        onset = self._session.standing().onset
        if onset is not None:
            share = onset.frequency_hz / self._session.standing().standing_hz
            values[OSCILLATION] = share * standing.standing_hz
        value = values.get({"−3 dB": "cutoff_3db_hz", "peak": "peak_hz"}.get(named, named))
        if not (self._read_holds or named == OSCILLATION):
            stands = f"{named} …"
        else:
            stands = f"no {named} here" if value is None else f"{named} {shown_hz(value)}"
        return f"{stands}, pole {pole}{moved}"

    def set_parameter(self, name: str, value: float | None) -> None:
        """One parameter of the circuit; None takes it back. What the circuit cannot have is said and not taken."""
        self._try_act(lambda: self._session.set_parameter(name, value))

    def set_component(self, name: str, value: float) -> None:
        """One value on the board; cutoff and headroom follow."""
        self._try_act(lambda: self._session.set_component(name, value))

    def _try_act(self, act: Callable[[], object]) -> bool:
        if self.shelved is None:
            return False
        try:
            act()
        except JiyuuError as error:
            self.message.emit(str(error), True)
            return False
        return True

    def prefer_capacitor(self, series: str) -> None:
        """The nearest capacitor one can buy for the cutoff as it stands, and what it costs in cents."""
        if self.shelved is None:
            return
        exact = self._session.standing().component_values.capacitor_f  # what gives the cutoff that is set
        chosen = preferred(exact, series)
        if self._try_act(lambda: self._session.set_component("capacitor_f", chosen)):
            self.message.emit(
                f"{shown(chosen, 'F')} ({series}) instead of {shown(exact, 'F')}: "
                f"{signed(error_cents(exact, chosen))} cents of cutoff at the same control voltage.", False,
            )

    def show_band(self, shown: bool) -> None:
        """The tolerance band of a thousand builds, on or off."""
        self.band_shown = shown
        self.preview_gone.emit()
        self.follow()

    # Prediction

    def show_standing(self) -> None:
        standing = self.now()
        self._read_holds = False
        self.preview_gone.emit()  # never beside a curve it does not belong to
        self.predicted.emit(predicted(standing.network, standing.mode, cutoff_hz=standing.standing_hz,
                                      gain=standing.gain))
        if not self.dragging:
            self._beside_now = self._find_beside(standing)
            self._offer_runs()
        other, curve = self._beside_now, None
        if other is not None:
            gains = complex_gain(other.network, GRID_HZ, cutoff_hz=standing.standing_hz, gain=other.gain,
                                 modes=[other.mode])
            curve = level_db(gains)[0]
        if other is not None or not self.dragging:  # while dragging only what moves
            self.beside.emit(other, curve)

    def _find_beside(self, standing: Standing) -> Beside | None:
        """The filter chosen to stand beside the one in hand, or None."""
        other = next((s for s in self.others() if s.id == self.setting.beside), None)
        if other is None:
            return None
        stands = self._session.standing(other)
        gain, own = standing.gain, stands.onset
        if own is not None and standing.onset is not None and standing.onset.gain:
            gain *= own.gain / standing.onset.gain
        return Beside(other.letter, stands.filter, stands.network, stands.mode, gain)

    def compute(self, standing: Standing, setting: ResponseSetting) -> Iterator[object]:
        at = {"cutoff_hz": standing.standing_hz, "gain": standing.gain}
        yield Read(read_prediction(standing.network, standing.mode, **at),
                   pole_map(standing.network, standing.mode, **at, full_gain=standing.full_gain))
        if setting.curve_level_v is not None:
            yield from self._at_level(standing, setting.curve_level_v, self._beside_now)
        if self.band_shown:
            from jiyuu.prediction.tolerance import study

            yield from study(standing.filter, standing.mode, GRID_HZ, cutoff_hz=standing.standing_hz,
                             resonance_percent=standing.resonance_percent)

    @staticmethod
    def _at_level(standing: Standing, level_v: float, other: Beside | None) -> Iterator[AtLevel]:
        from jiyuu.simulation.level_response import level_response

        wanted: list[tuple[str | None, Network, str, float]] = [
            (None, standing.network, standing.mode, standing.gain)]
        if other is not None:
            wanted.append((other.letter, other.network, other.mode, other.gain))
        for points in POINTS:
            for letter, network, mode, gain in wanted:
                grid = np.geomspace(GRID_HZ[0], GRID_HZ[-1], points)
                yield AtLevel(letter, level_response(network, grid, cutoff_hz=standing.standing_hz, gain=gain,
                                                     level_v=level_v, modes=[mode]))

    def on_computed(self, found: Read | AtLevel | ToleranceStudy | Progress) -> None:
        if isinstance(found, Read):
            self._read, self._read_holds = found, True
            self.read.emit(found)
            self.say()
        else:
            self.preview.emit(found)

    def predicted_findings(self) -> tuple[Finding, ...]:
        if self._read is None or self.logged:
            return ()
        return self._read.findings

    def sound(self, found: Predicted) -> Sounded | None:
        """The source of the set-up through every mode; None, and said why, where it cannot be played."""
        setup = self._session.standing().setup
        try:
            self._sounding.take(setup)
        except JiyuuError as error:
            self.message.emit(str(error), True)
            return None
        return self._sounding.sounded(found.modes, GRID_HZ, found.gain, drive_db=setup.drive_db)

    # What is measured

    def show_run(self, runs: list[StoredRun]) -> None:
        curve = self.tables.get("response")
        self.measured.emit(None if curve is None else Measured(curve, self.stale_why))
        self._offer_runs()

    def _offer_runs(self) -> None:
        """Every run with a curve but the newest of the filter and mode in hand, named by filter and run."""
        letters = {shelved.id: shelved.letter for shelved in self._session.shelf}
        own = self.shelved
        found = {}
        for run in self._session.book.all_runs():
            if run.step == self.step.key and run.filter_id in letters and (self.run is None or run.id != self.run.id):
                whose = "" if own is not None and run.filter_id == own.id else f"{letters[run.filter_id]} "
                found[f"{whose}{run.title}"] = run.id
        self.others_measured.emit(found)

    def curve_of(self, run_id: int) -> tuple[FloatArray, FloatArray, FloatArray] | None:
        """Hertz, dB and SNR of a run in the book; None where it has no curve."""
        table = self._session.book.tables(run_id).get("response")
        return None if table is None else (table["frequency_hz"], table["magnitude_db"], table["snr_db"])

    def measure_files(
        self, first: Path, second: Path, *, interface: Path | None = None, channel: str | None = None,
        full_scale_v: float = FULL_SCALE_V,
    ) -> None:
        """Evaluate a stimulus and its recording, in whichever order they were dropped; see from_files."""
        if self.shelved is None:
            return
        setting = self.setting
        self._measuring.read(f"{first.name} and {second.name}",
                             lambda standing: from_files(standing, setting, first, second, interface=interface,
                                                         channel=channel, full_scale_v=full_scale_v))

    def read_table(self, path: Path, layout: Layout) -> None:
        """Another instrument's curve as the measured one of the chosen mode. Raises JiyuuError where it is none."""
        if self.shelved is None:
            raise JiyuuError(EMPTY_SHELF)
        run = from_table(self._session.standing(), self.setting, path, layout)
        keep(self._session.book, self.shelved.id, run)
        self._session.runs_changed()
        self.message.emit(f"{path.name} stands as the measured curve of {run.mode}; read as {layout.said}.", False)
