"""State of the Resonance step: the map as the controls move, the curves against the control, loudness by simulation."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from PyQt6.QtCore import QTimer, pyqtSignal

from jiyuu.book.keeping import keep_resonance
from jiyuu.book.store import LoggedFinding, StoredRun
from jiyuu.book.walk import moved_since
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.network import FloatArray, Network
from jiyuu.circuits.trims import Trims
from jiyuu.desktop.bench.measuring import compiled
from jiyuu.desktop.bench.step_presenter import StepPresenter, within_cutoffs, within_travel
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.session import Session
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.resonance_curves import bass_loss_sentence, output_level_db, overload
from jiyuu.measurement.resonance_findings import control_findings, output_findings, position_findings
from jiyuu.measurement.resonance_prediction import (
    MAP_HZ,
    ResonanceStudy,
    onset_percent_of,
    resonance_map,
    study_resonance,
)
from jiyuu.signals.source import mixed_lines, mixed_record

SIMULATED_S = 0.3  # of source at each position
SIMULATED_POSITIONS = 21
COARSE_POSITIONS, COARSE_STEP = 45, 3  # of the small maps
AUDITION_PERCENT = {"none": 0.0, "¼": 25.0, "½": 50.0, "¾": 75.0, "full": 100.0}


@dataclass(frozen=True, slots=True, eq=False)
class OutputCurve:
    """Level of the source behind the filter against position_percent (p,): output_db (p,) re the source, peak_v (p,).
    simulated: with saturation and whistle; else by the small-signal curves, below the onset."""

    position_percent: FloatArray
    output_db: FloatArray
    peak_v: FloatArray
    simulated: bool


@dataclass(frozen=True, slots=True, eq=False)
class Studied:
    """A finished study with the output curve that is known by now, and the same study at the other end of the
    compensation, where the circuit has one."""

    study: ResonanceStudy
    output: OutputCurve
    other: ResonanceStudy | None
    other_name: str


@dataclass(frozen=True, slots=True, eq=False)
class Said:
    """A heading, the findings from the book, and predicted ones."""

    heading: str
    logged: list[LoggedFinding]
    predicted: tuple[Finding, ...]


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
    studied = pyqtSignal(object)  # Studied, or None while it is out of date
    settings = pyqtSignal(object)  # dict
    findings = pyqtSignal(object)  # Said
    measured = pyqtSignal(object)  # MeasuredResonance or None

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._network: Network | None = None
        self._settled: dict[str, Any] = {}
        self._trial: dict[str, Any] = {}
        self._onset_of: tuple[Any, ...] = ()
        self._modes_at_hz = 0.0
        self._studied: Studied | None = None
        self._logged: list[LoggedFinding] = []
        self.onset_percent: float | None = None
        self.measuring.kept.connect(lambda _: self.show_measured())
        self.jobs = Jobs(self)
        self.jobs.stepped.connect(self._on_studied)
        self.jobs.failed.connect(lambda text: self.message.emit(text, True))
        # The study takes a tenth of a second: it waits until the hand slows down.
        self._pause = QTimer(self)
        self._pause.setSingleShot(True)
        self._pause.setInterval(80)
        self._pause.timeout.connect(self._study)

    def current(self) -> dict[str, Any]:
        return {**self._settled, **self._trial}

    def sleep(self) -> None:
        super().sleep()
        self._pause.stop()

    def refresh(self) -> None:
        """Everything anew."""
        if self._session.in_hand is None:
            return
        self._fresh = True
        self._trial = {}
        self._settled = self._session.settings()
        self._document = self._session.document()
        self._network = self._document.network()
        self._draw_map()
        self._draw_modes()
        self.show_measured()
        self._pause.start()

    # What the person does

    def try_cutoff(self, cutoff_hz: float) -> None:
        self._trial["cutoff_hz"] = within_cutoffs(cutoff_hz)
        self._follow()

    def try_resonance(self, percent: float) -> None:
        self._trial["resonance_percent"] = within_travel(percent)
        self._follow()

    def set_taper(self, taper: str | list[list[float]] | None) -> None:
        """Another law of the resonance control; None is the filter file's."""
        self._session.change({"resonance_taper": taper})

    def try_proposal(self) -> None:
        """Put the most even taper into the drawing."""
        studied = self._studied
        if studied is None or not studied.study.proposals:
            self.message.emit("There is no taper to propose here; a notch has no peak to judge by.", False)
            return
        best = studied.study.proposals[0]
        self.set_taper([list(pair) for pair in best.table])
        self.message.emit(f"In the drawing now: {best.name}. Ctrl+Z takes it back.", False)

    def measure(self) -> None:
        """Sweep the simulated unit at 21 positions and narrow down its onset."""
        if not self.measuring.may_begin(needs_unit=True):
            return
        shelved, now, document, book = self.shelved, self.current(), self._document, self._session.book
        assert shelved is not None
        assert shelved.seed is not None
        seed = shelved.seed

        def steps() -> Iterator[Any]:
            from jiyuu.rig.resonance_run import ResonanceRequest, run_resonance
            from jiyuu.rig.simulated import SimulatedRig

            yield from compiled(document)
            request = ResonanceRequest(document, now["cutoff_hz"], now["mode"], trims=Trims(**now["trims"]))
            yield from run_resonance(request, SimulatedRig(document, seed=seed),
                                     resonance_percent=now["resonance_percent"])

        self.measuring.begin(
            shelved.id, steps, lambda run: keep_resonance(book, shelved.id, run, source="simulated rig")
        )

    def toggle_kept(self, logged: LoggedFinding) -> None:
        super().toggle_kept(logged)
        self.show_measured()

    def show_measured(self) -> None:
        """The newest run of the chosen mode, with its findings."""
        shelved = self.shelved
        if shelved is None:
            return
        now, book = self.current(), self._session.book
        runs = [run for run in book.runs(shelved.id, "Resonance") if run.settings.get("mode") == now["mode"]]
        self._logged = book.findings_of_run(runs[0].id) if runs else []
        self.measured.emit(_measured(runs[0], now) if runs else None)
        self._say()

    def _follow(self) -> None:
        self._draw_map()
        self._pause.start()

    # What is computed

    def _draw_map(self) -> None:
        assert self._network is not None
        now = self.current()
        key = (self._document.circuit, tuple(sorted(self._document.parameters.items())), now["cutoff_hz"],
               self._document.resonance_taper, self._document.full_gain)
        if key != self._onset_of:
            self._onset_of = key
            self.onset_percent = onset_percent_of(self._document, self._network, now["cutoff_hz"])
        self.settings.emit(now)
        self.mapped.emit(resonance_map(
            self._document, self._network, [now["mode"]], cutoff_hz=now["cutoff_hz"], onset_percent=self.onset_percent,
        ))
        self._say()

    def _draw_modes(self) -> None:
        """Not while a line is dragged: nobody looks there then."""
        assert self._network is not None
        self._modes_at_hz = self.current()["cutoff_hz"]
        self.every_mode.emit(resonance_map(
            self._document, self._network, self._document.entry.modes, cutoff_hz=self.current()["cutoff_hz"],
            onset_percent=self.onset_percent, positions=COARSE_POSITIONS, frequency_hz=MAP_HZ[::COARSE_STEP],
        ))

    def _study(self) -> None:
        if self._network is None:
            return
        document, network, now, setup = self._document, self._network, self.current(), self._session.setup()
        if now["cutoff_hz"] != self._modes_at_hz:  # a line was dragged since
            self._draw_modes()

        def steps() -> Iterator[Studied | None]:
            study = study_resonance(document, network, now["mode"], cutoff_hz=now["cutoff_hz"])
            yield None
            hertz, volts = mixed_lines(setup.sources())
            drive = 10 ** (setup.drive_db / 20)
            levels = output_level_db(hertz, volts**2, study.frequency_hz, study.level_db)
            record = mixed_record(setup.sources(), duration_s=SIMULATED_S) * drive
            loudest = np.abs(record).max()
            linear = OutputCurve(study.curves.position_percent, levels, loudest * 10 ** (levels / 20), simulated=False)
            other, name = _other_compensation(document, now)
            found = Studied(study, linear, other, name)
            yield found
            yield from _simulated(document, network, now, record, found)

        self.jobs.start(steps)

    def _on_studied(self, found: Studied | None) -> None:
        if found is None:
            return
        self._studied = found
        self.studied.emit(found)
        self._say()

    def _say(self) -> None:
        """What is measured, and under it what the drawing says of the rest."""
        found, now = self._studied, self.current()
        if found is None or found.study.mode != now["mode"]:
            self.findings.emit(Said("Reading the curves …", self._logged, ()))
            return
        setup = self._session.setup()
        percent = min(now["resonance_percent"], float(found.study.curves.position_percent[-1]))
        settings = {"mode": now["mode"], "cutoff_hz": now["cutoff_hz"]}
        output = found.output
        over = overload(output.position_percent, output.peak_v, setup.next_limit_v)
        names = " + ".join(source.kind.value for source in setup.sources())
        out = output_findings(output.position_percent, output.output_db, over, now["resonance_percent"], settings,
                              source=f"the {names}", limit_v=setup.next_limit_v, measured=False)
        control = control_findings(found.study.taper, found.study.proposals, found.study.onset_percent, settings,
                                   measured=False)
        if self._logged:
            measured = {logged.finding.quantity for logged in self._logged}
            rest = (*out, *(finding for finding in control if finding.quantity not in measured))
            self.findings.emit(Said("Measured; ± is 95 %, K keeps one. Quiet: predicted.", self._logged, rest))
            return
        here: list[Finding] = position_findings(found.study.curves, percent, settings, measured=False)
        head = bass_loss_sentence(found.study.curves, percent)
        self.findings.emit(Said(f"Predicted. {head}", [], (*here, *out, *control)))


def _measured(run: StoredRun, now: dict[str, Any]) -> MeasuredResonance:
    """A stored run as curves; out of date where cutoff or parameters have moved on (the position is its axis)."""
    settings = run.settings
    body = np.array(settings["body_db"])
    peaks = settings["peak_db"]
    bandpass = all(peak is None for peak in peaks)
    highest = np.array(settings["highest_db"])
    amount = highest - highest[0] if bandpass else np.array([0.0 if peak is None else peak for peak in peaks])
    why = moved_since({**now, "resonance_percent": settings.get("resonance_percent")}, settings)
    return MeasuredResonance(np.array(settings["position_percent"]), amount, body, why)


def _other_compensation(document: Filter, now: dict[str, Any]) -> tuple[ResonanceStudy | None, str]:
    """The study with the compensation at its other end; (None, '') for a circuit without one."""
    values = document.entry.values(document.parameters)
    if "compensation" not in values:
        return None, ""
    other = 0.0 if values["compensation"] > 0.5 else 1.0
    changed = document.model_copy(update={"parameters": {**document.parameters, "compensation": other}})
    study = study_resonance(changed, changed.network(), now["mode"], cutoff_hz=now["cutoff_hz"], with_proposals=False)
    return study, f"compensation {other:g}"


def _simulated(
    document: Filter, network: Network, now: dict[str, Any], record: FloatArray, found: Studied
) -> Iterator[Studied | None]:
    """The output curve again by simulation, over the whole travel; a None now and then, so that a cancel is heard."""
    from jiyuu.simulation.kernels import compile_apart, is_compiled
    from jiyuu.simulation.source_levels import source_levels

    if not is_compiled(network):
        compile_apart(document.circuit, document.parameters)
    percent = np.linspace(0.0, 100.0, SIMULATED_POSITIONS)
    settled = record[record.size // 2 :]
    source_rms = float(np.sqrt(np.mean(settled**2)))
    levels = []
    for level in source_levels(
        network, record, 48_000.0, now["mode"], cutoff_hz=now["cutoff_hz"], gains=document.gains_at(percent),
        rail_v=document.tolerances.rail_v,
    ):
        levels.append(level)
        yield None
    rms = np.array([level.rms_v for level in levels])
    if source_rms > 0:
        output_db = 20 * np.log10(np.maximum(rms, 1e-9) / source_rms)
        peaks = np.array([level.peak_v for level in levels])
        yield replace(found, output=OutputCurve(percent, output_db, peaks, simulated=True))
