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
from jiyuu.circuits.components import error_cents, preferred, shown
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.linear import (
    ComplexArray,
    complex_gain,
    growth_rate,
    level_db,
    onset,
    phase_deg,
    poles,
    zeros,
)
from jiyuu.circuits.network import FloatArray, Network
from jiyuu.desktop.bench.response.previews import PreviewRequest, Previews
from jiyuu.desktop.figures.pole_map import PoleMap
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.session import Session
from jiyuu.errors import JiyuuError, MeasurementError
from jiyuu.measurement.curve_reading import CurveReading, read_curve
from jiyuu.measurement.findings import READ_FROM_CURVE, Finding
from jiyuu.quantities import signed

GRID_HZ = np.geomspace(16.0, 21_000.0, 481)
READING_HZ = 10.0 * 2 ** (np.arange(192 * 11 + 1) / 192)


@dataclass(frozen=True, slots=True, eq=False)
class Predicted:
    """Over GRID_HZ: level of every mode (r, n) in dB; phase (n,) in degrees, local slope and group delay (n,) of the
    chosen one; the poles in units of the cutoff."""

    modes: tuple[str, ...]
    level_db: FloatArray
    phase_deg: FloatArray
    slope_db_per_octave: FloatArray
    group_delay_ms: FloatArray
    poles: ComplexArray
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
    poles_traced = pyqtSignal(object)  # PoleMap
    components = pyqtSignal(object)  # Components

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
        self._document: Filter = Filter.model_construct()
        self.onset_gain: float | None = None
        self.band_shown = False
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

    def current(self) -> dict[str, Any]:
        """Settings in the book with what is being dragged on top."""
        return {**self._session.settings(), **self._trial}

    def refresh(self) -> None:
        """Everything anew: another filter, other settings."""
        self._trial = {}
        shelved = self.shelved
        if shelved is None:
            return
        self._document = self._session.document()
        self._network = self._document.network()
        found = onset(self._network, cutoff_hz=self.current()["cutoff_hz"])
        self.onset_gain = None if found is None else found.gain
        self.settings.emit(self.current())
        self.components.emit(self._session.components())
        self._predict()
        self._trace_poles()
        self._read_prediction()
        self.show_measured()
        self._preview()

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

    def set_parameter(self, name: str, value: float) -> None:
        """One parameter of the circuit. A combination the circuit cannot have is said and not taken."""
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
        try:
            self._session.set_component(name, value)
        except JiyuuError as error:
            self.message.emit(str(error), True)

    def prefer_capacitor(self, series: str) -> None:
        """The nearest capacitor one can buy for the cutoff as it stands, and what it costs in cents."""
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
        self.previews.drop()
        self.settings.emit(self.current())
        self._predict()
        self._reading.start()

    # Prediction

    def _predict(self) -> None:
        network = self._network
        assert network is not None
        now = self.current()
        gain = self._document.gain_at(now["resonance_percent"])
        at = {"cutoff_hz": now["cutoff_hz"], "gain": gain}
        gains = complex_gain(network, GRID_HZ, **at)
        level = level_db(gains)
        chosen = network.outputs.index(now["mode"])
        phase = phase_deg(network, GRID_HZ, gains[chosen], now["mode"], **at)
        slope = np.gradient(level[chosen], np.log2(GRID_HZ))
        oscillates = growth_rate(network, cutoff_hz=now["cutoff_hz"], gain=gain) >= 0
        delay_ms = 1e3 * -np.gradient(np.deg2rad(phase), 2 * np.pi * GRID_HZ)
        found = poles(network, **at) / (2 * np.pi * now["cutoff_hz"])
        self.predicted.emit(Predicted(network.outputs, level, phase, slope, delay_ms, found, chosen, oscillates))

    def _trace_poles(self) -> None:
        """Zeros of the chosen mode and the path of the poles from no resonance to the end of the control."""
        network, now = self._network, self.current()
        assert network is not None
        unit = 2 * np.pi * now["cutoff_hz"]
        gains = np.linspace(0.0, self._document.gain_at(100.0), 120)
        locus = np.array([poles(network, cutoff_hz=now["cutoff_hz"], gain=float(k)) for k in gains]) / unit
        at = {"cutoff_hz": now["cutoff_hz"], "gain": self._document.gain_at(now["resonance_percent"])}
        self.poles_traced.emit(
            PoleMap(poles(network, **at) / unit, zeros(network, now["mode"], **at) / unit, locus, gains,
                    now["cutoff_hz"])
        )

    def _preview(self) -> None:
        now = self.current()
        self.previews.ask(PreviewRequest(
            self._document, now["mode"], now["cutoff_hz"], now["resonance_percent"], now["level_v"], self.band_shown,
            GRID_HZ,
        ))

    def _read_prediction(self) -> None:
        shelved, network = self.shelved, self._network
        if shelved is None or network is None:
            return
        now = self.current()
        gain = self._document.gain_at(now["resonance_percent"])
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
            from jiyuu.rig.response_run import Progress, ResponseRequest, expected_tolerances, run_response
            from jiyuu.rig.simulated import SimulatedRig
            from jiyuu.simulation.kernels import compile_apart, is_compiled

            if not is_compiled(document.network()):
                # In a process of its own: compiling in this one would hold the window.
                yield Progress("Compiling this circuit (once, some seconds)", 0.01)
                compile_apart(document.circuit, document.parameters)
            request = ResponseRequest(
                document, now["cutoff_hz"], now["resonance_percent"], (now["mode"],),
                tolerances=expected_tolerances(now["cutoff_hz"]),
            )
            yield from run_response(request, SimulatedRig(document, seed=seed))

        self._begin(shelved, steps, "simulated rig")

    def measure_files(self, first: Path, second: Path) -> None:
        """Evaluate a stimulus and its recording, in whichever order they were dropped."""
        shelved = self.shelved
        if shelved is None:
            return
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
