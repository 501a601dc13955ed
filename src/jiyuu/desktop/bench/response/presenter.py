"""State of the Response step: predicted curves as the controls move, measured ones from the book, jobs, findings."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from jiyuu.book.keeping import keep_run, keep_table
from jiyuu.book.store import LoggedFinding, Shelved, StoredCurve
from jiyuu.book.walk import moved_since
from jiyuu.circuits.components import error_cents, preferred, shown
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.linear import (
    complex_gain,
    growth_rate,
    level_db,
    onset,
)
from jiyuu.circuits.network import Network
from jiyuu.circuits.trims import Trims
from jiyuu.desktop.bench.measuring import Measuring, compiled
from jiyuu.desktop.bench.response.prediction import GRID_HZ, Predicted, pole_map, predicted, read_prediction
from jiyuu.desktop.bench.response.previews import Beside, PreviewRequest, Previews
from jiyuu.desktop.bench.sounding import Sounded, Sounding
from jiyuu.desktop.bench.step_presenter import within_cutoffs, within_travel
from jiyuu.desktop.session import Session
from jiyuu.errors import JiyuuError
from jiyuu.measurement.finding import Finding
from jiyuu.quantities import shown_hz, signed


@dataclass(frozen=True, slots=True, eq=False)
class Measured:
    """The newest measured curve of the chosen mode; why it is out of date, or None."""

    curve: StoredCurve
    stale_why: str | None


class ResponsePresenter(QObject):
    """The view asks with methods; signals carry finished values."""

    predicted = pyqtSignal(object)  # Predicted
    measured = pyqtSignal(object)  # Measured or None
    others_measured = pyqtSignal(object)  # dict: name of every other run with a curve -> its id in the book
    predicted_findings = pyqtSignal(object)  # tuple[Finding, ...]
    findings = pyqtSignal(object)  # list[LoggedFinding]
    settings = pyqtSignal(object)  # dict
    progress = pyqtSignal(str, float)
    busy = pyqtSignal(bool)
    message = pyqtSignal(str, bool)  # text, is an error
    poles_traced = pyqtSignal(object)  # PoleMap
    beside = pyqtSignal(object, object)  # Beside and its level in dB over GRID_HZ, or None twice
    components = pyqtSignal(object)  # Components

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._network: Network | None = None
        self._settled: dict[str, Any] = {}  # what the book holds; read once, not at every step of a drag
        self._trial: dict[str, Any] = {}
        self._sounding = Sounding()
        self.measuring = Measuring(session, self)
        self.jobs = self.measuring.jobs
        self.measuring.busy.connect(self.busy)
        self.measuring.progress.connect(self.progress)
        self.measuring.message.connect(self.message)
        self.measuring.kept.connect(self._on_kept)
        self._document: Filter = Filter.model_construct()
        self.onset_gain: float | None = None
        self._onset_share: float | None = None
        self.band_shown = False
        self._beside_now: Beside | None = None
        self._beside_network: Network | None = None
        self.previews = Previews(self)
        self.previews.failed.connect(lambda text: self.message.emit(text, True))
        # Reading a curve takes milliseconds: while a control is dragged it waits until the hand slows down.
        self._reading = QTimer(self)
        self._reading.setSingleShot(True)
        self._reading.setInterval(40)
        self._reading.timeout.connect(self._read_prediction)
        session.filter_changed.connect(self.refresh)
        session.settings_changed.connect(self.refresh)

    # What is set

    @property
    def shelved(self) -> Shelved | None:
        return self._session.in_hand

    def others(self) -> list[Shelved]:
        """The filters that can stand beside the one in hand."""
        return [s for s in self._session.shelf if self.shelved is None or s.id != self.shelved.id]

    @property
    def document(self) -> Filter:
        """The filter in hand as it stands, with what was changed since its file."""
        return self._document

    def current(self) -> dict[str, Any]:
        """Settings in the book with what is being dragged on top."""
        return {**self._settled, **self._trial}

    def refresh(self) -> None:
        """Everything anew: another filter, other settings."""
        self._trial = {}
        shelved = self.shelved
        if shelved is None:
            return
        self._settled = self._session.settings()
        self._document = self._session.document()
        self._network = self._document.network()
        found = onset(self._network, cutoff_hz=self.current()["cutoff_hz"])
        self.onset_gain = None if found is None else found.gain
        self._onset_share = None if found is None else found.frequency_hz / self.current()["cutoff_hz"]
        self.settings.emit(self.current())
        self.components.emit(self._session.components())
        self._beside_now = self._beside()
        self._beside_network = None if self._beside_now is None else self._beside_now.document.network()
        self._predict()
        self._trace_poles()
        self._read_prediction()
        self.show_measured()
        self._preview()

    def try_cutoff(self, cutoff_hz: float) -> None:
        """While the line is dragged: the figure follows, the book waits."""
        self._trial["cutoff_hz"] = within_cutoffs(cutoff_hz)
        self._follow()

    def try_resonance(self, percent: float) -> None:
        self._trial["resonance_percent"] = within_travel(percent)
        self._follow()

    def set_cutoff(self, cutoff_hz: float) -> None:
        self._session.change({"cutoff_hz": round(within_cutoffs(cutoff_hz), 3)})

    def set_resonance(self, percent: float) -> None:
        self._session.change({"resonance_percent": round(within_travel(percent), 2)})

    def set_mode(self, mode: str) -> None:
        self._session.change({"mode": mode})

    def name_cutoff(self, named: str) -> None:
        """Which of the four cutoffs labels the figure."""
        self._session.change({"cutoff_named": named})

    def cutoff_said(self, predicted: Sequence[Finding]) -> str:
        """The cutoff line's label, by the definition chosen; the pole beside it, for that is what the line moves."""
        now = self.current()
        pole, named = shown_hz(now["cutoff_hz"]), now["cutoff_named"]
        if named == "pole":
            return f"cutoff (pole) {pole}"
        values = {finding.quantity: finding.value for finding in predicted}
        if self._onset_share is not None:
            values["oscillation"] = self._onset_share * now["cutoff_hz"]
        value = values.get({"−3 dB": "cutoff_3db_hz", "peak": "peak_hz"}.get(named, named))
        return f"no {named} here, pole {pole}" if value is None else f"{named} {shown_hz(value)}, pole {pole}"

    def reset(self, name: str) -> None:
        self._session.reset(name)

    def set_parameter(self, name: str, value: float) -> None:
        """One parameter of the circuit. A combination the circuit cannot have is said and not taken."""
        if self.shelved is None:
            return
        try:
            self._document.entry.network({**self._document.parameters, name: value})
        except JiyuuError as error:
            self.message.emit(str(error), True)
            return
        self._session.set_parameter(name, value)

    def reset_parameter(self, name: str) -> None:
        self._session.set_parameter(name, None)

    def set_component(self, name: str, value: float) -> None:
        """One value on the board; cutoff and headroom follow."""
        if self.shelved is None:
            return
        try:
            self._session.set_component(name, value)
        except JiyuuError as error:
            self.message.emit(str(error), True)

    def prefer_capacitor(self, series: str) -> None:
        """The nearest capacitor one can buy for the cutoff as it stands, and what it costs in cents."""
        if self.shelved is None:
            return
        values = self._session.components()
        exact = values.capacitor_f  # what stands there is what gives the cutoff that is set
        chosen = preferred(exact, series)
        self.set_component("capacitor_f", chosen)
        self.message.emit(
            f"{shown(chosen, 'F')} ({series}) instead of {shown(exact, 'F')}: "
            f"{signed(error_cents(exact, chosen))} cents of cutoff at the same control voltage.", False,
        )

    def set_level(self, level_v: float) -> None:
        """Drive of the curve at level, volts peak; 0 takes it away."""
        self._session.change({"level_v": level_v or None})

    def show_band(self, shown: bool) -> None:
        """The tolerance band of a thousand builds, on or off."""
        self.band_shown = shown
        self._preview()

    def _follow(self) -> None:
        if self.shelved is None:
            return
        self.previews.drop()
        self.settings.emit(self.current())
        self._predict()
        self._reading.start()

    # Prediction

    def sound(self, found: Predicted) -> Sounded | None:
        """The source of the set-up through every mode; None, and said why, where it cannot be played."""
        setup = self._session.setup()
        try:
            self._sounding.take(setup)
        except JiyuuError as error:
            self.message.emit(str(error), True)
            return None
        return self._sounding.sounded(found.modes, GRID_HZ, found.gain, drive_db=setup.drive_db)

    def _predict(self) -> None:
        assert self._network is not None
        now = self.current()
        self.predicted.emit(predicted(self._network, now["mode"], cutoff_hz=now["cutoff_hz"], gain=self._gain()))
        self._predict_beside()

    def _gain(self) -> float:
        return self._document.gain_at(self.current()["resonance_percent"])

    def _trace_poles(self) -> None:
        assert self._network is not None
        now = self.current()
        self.poles_traced.emit(pole_map(
            self._network, now["mode"], cutoff_hz=now["cutoff_hz"], gain=self._gain(),
            full_gain=self._document.gain_at(100.0),
        ))

    def _preview(self) -> None:
        if self.shelved is None:
            return
        now = self.current()
        self.previews.ask(PreviewRequest(
            self._document, now["mode"], now["cutoff_hz"], now["resonance_percent"], now["level_v"], self.band_shown,
            GRID_HZ, self._beside(),
        ))

    def _beside(self) -> Beside | None:
        """The filter chosen to stand beside the one in hand, or None."""
        now = self.current()
        other = next((s for s in self._session.shelf if s.id == now["beside"]), None)
        if other is None or self.shelved is None or other.id == self.shelved.id:
            return None
        document, mode = self._session.document(other), self._session.settings(other)["mode"]
        gain = self._document.gain_at(now["resonance_percent"])
        own = onset(document.network(), cutoff_hz=now["cutoff_hz"])
        if own is not None and self.onset_gain:
            gain *= own.gain / self.onset_gain
        return Beside(other.letter, document, mode, gain)

    def set_beside(self, filter_id: int | None) -> None:
        """Put another filter's curve into the figure; None takes it away."""
        self._session.change({"beside": filter_id})

    def _predict_beside(self) -> None:
        other = self._beside_now
        curve = None
        if other is not None:
            at = {"cutoff_hz": self.current()["cutoff_hz"], "gain": other.gain}
            gains = complex_gain(self._beside_network, GRID_HZ, **at, modes=[other.mode])  # type: ignore[arg-type]
            curve = level_db(gains)[0]
        if other is not None or not self._trial:  # while dragging only what moves
            self.beside.emit(other, curve)

    def _read_prediction(self) -> None:
        if self.shelved is not None and self._network is not None:
            self.predicted_findings.emit(read_prediction(self._network, self.current(), self._gain()))

    # Measurement

    def measure(self) -> None:
        """Play the sweep through the simulated unit of the filter in hand."""
        if not self.measuring.may_begin(needs_unit=True):
            return
        shelved = self.shelved
        assert shelved is not None
        assert shelved.seed is not None
        now, seed, document = self.current(), shelved.seed, self._document
        if growth_rate(
            document.network(), cutoff_hz=now["cutoff_hz"], gain=document.gain_at(now["resonance_percent"])
        ) >= 0:
            self.message.emit(
                "At this resonance the filter oscillates by itself, and a sweep would measure the whistle: "
                "turn resonance down first.", True,
            )
            return

        def steps() -> Iterator[Any]:
            from jiyuu.rig.response_run import ResponseRequest, expected_tolerances, run_response
            from jiyuu.rig.simulated import SimulatedRig

            yield from compiled(document)
            request = ResponseRequest(
                document, now["cutoff_hz"], now["resonance_percent"], (now["mode"],),
                tolerances=expected_tolerances(now["cutoff_hz"]), trims=Trims(**now["trims"]),
            )
            yield from run_response(request, SimulatedRig(document, seed=seed))

        self._begin(shelved, steps, "simulated rig")

    def measure_files(self, first: Path, second: Path) -> None:
        """Evaluate a stimulus and its recording, in whichever order they were dropped."""
        if not self.measuring.may_begin(needs_unit=False):
            return
        shelved = self.shelved
        assert shelved is not None
        now, document = self.current(), self._document

        def steps() -> Iterator[Any]:
            from jiyuu.rig.files import read_pair, tell_apart
            from jiyuu.rig.response_run import Progress, evaluate, expected_tolerances

            yield Progress("Reading the files", 0.1)
            stimulus, recording = tell_apart(first, second)
            pair = read_pair(stimulus, recording)
            yield Progress("Measuring", 0.3)
            yield evaluate(
                document, now["mode"], pair.stimulus_v, pair.recording_v, pair.sample_rate_hz,
                cutoff_hz=now["cutoff_hz"], resonance_percent=now["resonance_percent"],
                tolerances=expected_tolerances(now["cutoff_hz"]),
            )

        self._begin(shelved, steps, f"{first.name}, {second.name}")

    def read_table(self, path: Path) -> None:
        """Another instrument's curve as the measured one of the chosen mode. Raises JiyuuError where it is none."""
        if not self.measuring.may_begin(needs_unit=False):
            return
        shelved, now, document = self.shelved, self.current(), self._document
        assert shelved is not None
        keep_table(self._session.book, shelved.id, path, {
            "circuit": document.circuit, "mode": now["mode"], "cutoff_hz": now["cutoff_hz"],
            "parameters": dict(document.parameters), "resonance_percent": now["resonance_percent"],
        })
        self._session.book_changed.emit()
        self.show_measured()

    def cancel(self) -> None:
        self.measuring.cancel()

    def _begin(self, shelved: Shelved, steps: Any, source: str) -> None:
        book = self._session.book
        self.measuring.begin(shelved.id, steps, lambda run: keep_run(book, shelved.id, run, source=source))

    def _on_kept(self, filter_id: int) -> None:
        if self.shelved is not None and self.shelved.id == filter_id:
            self.show_measured()

    # What the book holds

    def show_measured(self) -> None:
        """The newest run of the chosen mode, with its findings."""
        shelved = self.shelved
        if shelved is None:
            return
        now, book = self.current(), self._session.book
        every = book.runs(shelved.id, "Response")
        runs = [run for run in every if run.settings.get("mode") == now["mode"]]
        self.others_measured.emit({
            f"{letter} {run.title}".lstrip(): run.id
            for letter, made in [("", every), *((s.letter, book.runs(s.id, "Response")) for s in self.others())]
            for run in made if not runs or run.id != runs[0].id
        })
        if not runs:
            self.measured.emit(None)
            self.findings.emit([])
            return
        curve = book.curve(runs[0].id)
        if curve is not None:
            self.measured.emit(Measured(curve, moved_since(now, runs[0].settings)))
        self.findings.emit(book.findings_of_run(runs[0].id))

    def curve_of(self, run_id: int) -> StoredCurve | None:
        return self._session.book.curve(run_id)

    def toggle_kept(self, logged: LoggedFinding) -> None:
        self._session.book.keep(logged.id, kept=not logged.kept)
        self._session.book_changed.emit()
        self.show_measured()
