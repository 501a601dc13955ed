"""State of the Response step: predicted curves as the controls move, measured ones from the book, jobs, findings."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from jiyuu.book.keeping import keep_run
from jiyuu.book.store import LoggedFinding, Shelved, StoredCurve
from jiyuu.book.walk import moved_since
from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ, CUTOFF_MINIMUM_HZ
from jiyuu.circuits.linear import complex_gain, growth_rate, level_db, phase_deg
from jiyuu.circuits.network import FloatArray, Network
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.session import Session
from jiyuu.errors import MeasurementError
from jiyuu.measurement.curve_reading import CurveReading, read_curve
from jiyuu.measurement.findings import READ_FROM_CURVE, Finding

GRID_HZ = np.geomspace(16.0, 21_000.0, 481)
READING_HZ = 10.0 * 2 ** (np.arange(192 * 11 + 1) / 192)


@dataclass(frozen=True, slots=True, eq=False)
class Predicted:
    """Over GRID_HZ: level of every mode (r, n) in dB, phase (n,) in degrees and local slope (n,) of the chosen one."""

    modes: tuple[str, ...]
    level_db: FloatArray
    phase_deg: FloatArray
    slope_db_per_octave: FloatArray
    chosen: int
    oscillates: bool  # the rest state is unstable: the curves hold only for what is too small to notice


@dataclass(frozen=True, slots=True, eq=False)
class Measured:
    """The newest measured curve of the chosen mode; why it is out of date, or None."""

    curve: StoredCurve
    stale_why: str | None


class ResponsePresenter(QObject):
    """The view asks with methods; signals carry finished values."""

    predicted = pyqtSignal(object)  # Predicted
    measured = pyqtSignal(object)  # Measured or None
    predicted_findings = pyqtSignal(object)  # tuple[Finding, ...]
    findings = pyqtSignal(object)  # list[LoggedFinding]
    settings = pyqtSignal(object)  # dict
    progress = pyqtSignal(str, float)
    busy = pyqtSignal(bool)
    message = pyqtSignal(str, bool)  # text, is an error

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._network: Network | None = None
        self._trial: dict[str, Any] = {}
        self._job_filter: int | None = None
        self.jobs = Jobs(self)
        self.jobs.stepped.connect(self._on_step)
        self.jobs.finished.connect(lambda: self.busy.emit(False))
        self.jobs.cancelled.connect(self._on_cancelled)
        self.jobs.failed.connect(self._on_failed)
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

    def current(self) -> dict[str, Any]:
        """Settings in the book with what is being dragged on top."""
        return {**self._session.settings(), **self._trial}

    def refresh(self) -> None:
        """Everything anew: another filter, other settings."""
        self._trial = {}
        shelved = self.shelved
        if shelved is None:
            return
        self._network = shelved.document.network()
        self.settings.emit(self.current())
        self._predict()
        self._read_prediction()
        self.show_measured()

    def try_cutoff(self, cutoff_hz: float) -> None:
        """While the line is dragged: the figure follows, the book waits."""
        self._trial["cutoff_hz"] = _within(cutoff_hz)
        self._follow()

    def try_resonance(self, percent: float) -> None:
        self._trial["resonance_percent"] = min(max(percent, 0.0), 100.0)
        self._follow()

    def set_cutoff(self, cutoff_hz: float) -> None:
        self._session.change({"cutoff_hz": round(_within(cutoff_hz), 3)})

    def set_resonance(self, percent: float) -> None:
        self._session.change({"resonance_percent": round(min(max(percent, 0.0), 100.0), 2)})

    def set_mode(self, mode: str) -> None:
        self._session.change({"mode": mode})

    def reset(self, name: str) -> None:
        self._session.reset(name)

    def _follow(self) -> None:
        self.settings.emit(self.current())
        self._predict()
        self._reading.start()

    # Prediction

    def _predict(self) -> None:
        shelved, network = self.shelved, self._network
        assert shelved is not None
        assert network is not None
        now = self.current()
        gain = shelved.document.gain_at(now["resonance_percent"])
        at = {"cutoff_hz": now["cutoff_hz"], "gain": gain}
        gains = complex_gain(network, GRID_HZ, **at)
        level = level_db(gains)
        chosen = network.outputs.index(now["mode"])
        phase = phase_deg(network, GRID_HZ, gains[chosen], now["mode"], **at)
        slope = np.gradient(level[chosen], np.log2(GRID_HZ))
        oscillates = growth_rate(network, cutoff_hz=now["cutoff_hz"], gain=gain) >= 0
        self.predicted.emit(Predicted(network.outputs, level, phase, slope, chosen, oscillates))

    def _read_prediction(self) -> None:
        shelved, network = self.shelved, self._network
        if shelved is None or network is None:
            return
        now = self.current()
        gain = shelved.document.gain_at(now["resonance_percent"])
        settings = {"cutoff_hz": now["cutoff_hz"], "resonance_percent": now["resonance_percent"], "mode": now["mode"]}
        found: list[Finding] = []
        if growth_rate(network, cutoff_hz=now["cutoff_hz"], gain=gain) < 0:
            gains = complex_gain(network, READING_HZ, cutoff_hz=now["cutoff_hz"], gain=gain, modes=[now["mode"]])[0]
            try:
                reading = read_curve(READING_HZ, 20 * np.log10(np.maximum(np.abs(gains), 1e-20)))
                found = predicted_findings(reading, settings)
            except MeasurementError:
                found = []
        self.predicted_findings.emit(tuple(found))

    # Measurement

    def measure(self) -> None:
        """Play the sweep through the simulated unit of the filter in hand."""
        shelved = self.shelved
        if shelved is None or self.jobs.busy:
            return
        if shelved.seed is None:
            self.message.emit("This filter has no simulated unit: drop a stimulus and its recording instead.", True)
            return
        now, seed = self.current(), shelved.seed
        if growth_rate(
            shelved.document.network(), cutoff_hz=now["cutoff_hz"],
            gain=shelved.document.gain_at(now["resonance_percent"]),
        ) >= 0:
            self.message.emit(
                "At this resonance the filter oscillates by itself, and a sweep would measure the whistle: "
                "turn resonance down first.", True,
            )
            return

        def steps() -> Iterator[Any]:
            from jiyuu.rig.response_run import Progress, ResponseRequest, expected_tolerances, run_response
            from jiyuu.rig.simulated import SimulatedRig
            from jiyuu.simulation.kernels import compile_apart, is_compiled

            if not is_compiled(shelved.document.network()):
                # In a process of its own: compiling in this one would hold the window.
                yield Progress("Compiling this circuit (once, some seconds)", 0.01)
                compile_apart(shelved.document.circuit, shelved.document.parameters)
            request = ResponseRequest(
                shelved.document, now["cutoff_hz"], now["resonance_percent"], (now["mode"],),
                tolerances=expected_tolerances(now["cutoff_hz"]),
            )
            yield from run_response(request, SimulatedRig(shelved.document, seed=seed))

        self._begin(shelved, steps, "simulated rig")

    def measure_files(self, first: Path, second: Path) -> None:
        """Evaluate a stimulus and its recording, in whichever order they were dropped."""
        shelved = self.shelved
        if shelved is None:
            return
        now = self.current()

        def steps() -> Iterator[Any]:
            from jiyuu.rig.files import read_pair, tell_apart
            from jiyuu.rig.response_run import Progress, evaluate, expected_tolerances

            yield Progress("Reading the files", 0.1)
            stimulus, recording = tell_apart(first, second)
            pair = read_pair(stimulus, recording)
            yield Progress("Measuring", 0.3)
            yield evaluate(
                shelved.document, now["mode"], pair.stimulus_v, pair.recording_v, pair.sample_rate_hz,
                cutoff_hz=now["cutoff_hz"], resonance_percent=now["resonance_percent"],
                tolerances=expected_tolerances(now["cutoff_hz"]),
            )

        self._begin(shelved, steps, f"{first.name}, {second.name}")

    def cancel(self) -> None:
        self.jobs.cancel()

    def _begin(self, shelved: Shelved, steps: Any, source: str) -> None:
        book = self._session.book

        def kept() -> Iterator[Any]:
            from jiyuu.rig.response_run import ResponseRun

            for step in steps():
                if isinstance(step, ResponseRun):
                    keep_run(book, shelved.id, step, source=source)  # on this thread: it writes megabytes
                yield step

        self._job_filter = shelved.id
        self.busy.emit(True)
        self.progress.emit("Starting", 0.0)
        self.jobs.start(kept)

    def _on_step(self, step: object) -> None:
        from jiyuu.rig.response_run import Progress

        if isinstance(step, Progress):
            self.progress.emit(step.text, step.share)
            return
        self._session.book_changed.emit()
        if self.shelved is not None and self.shelved.id == self._job_filter:
            self.show_measured()

    def _on_cancelled(self) -> None:
        self.busy.emit(False)
        self.message.emit("Measurement cancelled; nothing was kept of it.", False)

    def _on_failed(self, text: str) -> None:
        self.busy.emit(False)
        self.message.emit(text, True)

    # What the book holds

    def show_measured(self) -> None:
        """The newest run of the chosen mode, with its findings."""
        shelved = self.shelved
        if shelved is None:
            return
        now, book = self.current(), self._session.book
        runs = [run for run in book.runs(shelved.id, "Response") if run.settings.get("mode") == now["mode"]]
        if not runs:
            self.measured.emit(None)
            self.findings.emit([])
            return
        curve = book.curve(runs[0].id)
        if curve is not None:
            self.measured.emit(Measured(curve, moved_since(now, runs[0].settings)))
        self.findings.emit(book.findings_of_run(runs[0].id))

    def toggle_kept(self, logged: LoggedFinding) -> None:
        self._session.book.keep(logged.id, kept=not logged.kept)
        self._session.book_changed.emit()
        self.show_measured()


def _within(cutoff_hz: float) -> float:
    return float(min(max(cutoff_hz, CUTOFF_MINIMUM_HZ), CUTOFF_MAXIMUM_HZ))


def predicted_findings(reading: CurveReading, settings: dict[str, Any]) -> list[Finding]:
    """The same findings as a measurement's, from the curve of the drawing."""
    found = [Finding("pole_hz", settings["cutoff_hz"], "Hz", settings=settings, measured=False)]
    edge = reading.cutoff_3db_hz is not None
    for name, unit in READ_FROM_CURVE:
        value = getattr(reading, name)
        if value is not None and not (edge and name in ("low_3db_hz", "high_3db_hz")):
            found.append(Finding(name, value, unit, settings=settings, measured=False))
    return found
