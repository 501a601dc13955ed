"""State of the Self-oscillation step: what the drawing's whistle does, the newest run, the tuner, the cusp."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from PyQt6.QtCore import QTimer, pyqtSignal

from jiyuu.book.store import LoggedFinding
from jiyuu.book.walk import moved_since
from jiyuu.book.whistle_setting import Target, WhistleSetting
from jiyuu.circuits.network import FloatArray, Network
from jiyuu.circuits.trims import Trims
from jiyuu.desktop.bench.measuring import compiled
from jiyuu.desktop.bench.oscillation.prediction import Whistle, begun, cusp, predicted, variants
from jiyuu.desktop.bench.resonance.presenter import Said
from jiyuu.desktop.bench.step_presenter import StepPresenter, within_travel
from jiyuu.desktop.figures.tuner_figure import TunedTone
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.session import Session
from jiyuu.errors import CircuitError, MeasurementError
from jiyuu.measurement.tuner import beating, tune
from jiyuu.quantities import shown_hz, signed, volts_of
from jiyuu.signals.source import Source

if TYPE_CHECKING:
    from jiyuu.measurement.whistle_prediction import SelfModulated

SWINGS = (0.0, 0.25, 0.5, 1.0, 1.5, 2.0)  # octaves each way
MEASURED_HEADING = "Measured; ± is 95 %, K keeps one. Quiet: predicted."
NO_WHISTLE = "By its drawing this filter does not whistle within the travel of its control."
CAUTION = ("Self-oscillation can jump to full level: start low, mind ears and loudspeakers. Near 3 kHz the ear is at "
           "its sharpest, and what is above hearing still heats a tweeter.")


@dataclass(frozen=True, slots=True, eq=False)
class MeasuredWhistle:
    """The newest run: the onset; pull_hz (p,) and pull_v (p,) over position_percent (p,); the tone's hertz and its
    harmonics in dB; range_v (q,) over range_hz (q,); why it is out of date, or None."""

    onset_percent: float
    position_percent: FloatArray
    pull_hz: FloatArray
    pull_v: FloatArray
    harmonics_db: FloatArray
    tone_hz: float
    range_hz: FloatArray
    range_v: FloatArray
    stale_why: str | None


class OscillationPresenter(StepPresenter):
    """The view asks with methods; signals carry finished values."""

    settings = pyqtSignal(object, object)  # dict, WhistleSetting
    whistled = pyqtSignal(object)  # Whistle or None
    measured = pyqtSignal(object)  # MeasuredWhistle or None
    findings = pyqtSignal(object)  # Said
    tuned = pyqtSignal(object, str)  # TunedTone or None, and what to do when None
    patched = pyqtSignal(object)  # list[SelfModulated] so far, or a text saying why not

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._settled: dict[str, Any] = {}
        self._trial: dict[str, Any] = {}
        self._network: Network | None = None
        self._whistle: Whistle | None = None
        self._measured: MeasuredWhistle | None = None
        self._logged: list[LoggedFinding] = []
        self.measuring.kept.connect(lambda _: self.show_measured())
        self.jobs, self.patch_jobs = Jobs(self), Jobs(self)
        self.jobs.stepped.connect(self._on_whistle)
        self.jobs.failed.connect(lambda text: self.message.emit(text, True))
        self.patch_jobs.stepped.connect(self.patched)
        self.patch_jobs.failed.connect(lambda text: self.patched.emit(text))
        self._pause = QTimer(self)
        self._pause.setSingleShot(True)
        self._pause.setInterval(80)
        self._pause.timeout.connect(self._compute)

    # What is set

    def current(self) -> dict[str, Any]:
        return {**self._settled, **self._trial}

    @property
    def setting(self) -> WhistleSetting:
        chosen = self._session.in_hand
        assert chosen is not None
        return WhistleSetting.model_validate(self._session.book.setting(chosen.id, "whistle", {}))

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
        self.settings.emit(self.current(), self.setting)
        self.show_measured()
        self._pause.start()

    def try_resonance(self, percent: float) -> None:
        """While the line is dragged."""
        self._trial["resonance_percent"] = within_travel(percent)
        self.settings.emit(self.current(), self.setting)
        self._pause.start()

    def change(self, **changes: Any) -> None:
        """Another target or cusp level, as one undoable act; what is out of range is said and not taken."""
        self._change_kept("whistle", lambda: self.setting.changed(**changes))

    def go_to_target(self) -> None:
        """Move the cutoff so that the tone meets its target."""
        tone_hz = self._tone_hz()
        if tone_hz is None:
            self.message.emit("There is no tone to tune yet; turn resonance past the onset, or measure (M).", False)
            return
        self.set_cutoff(self.current()["cutoff_hz"] * self.setting.target_hz(tone_hz) / tone_hz)

    # Measuring

    def measure(self) -> None:
        """Find onset, tone, pull, flatness and cusp of the simulated unit."""
        if not self.measuring.may_begin(needs_unit=True):
            return
        shelved, now, document = self.shelved, self.current(), self._session.document()
        assert shelved is not None
        assert shelved.seed is not None
        seed, setting, source = shelved.seed, self.setting, self._source()
        book = self._session.book

        def steps() -> Iterator[Any]:
            from jiyuu.rig.oscillation_run import OscillationRequest, run_oscillation
            from jiyuu.rig.simulated import SimulatedRig

            yield from compiled(document)
            request = OscillationRequest(
                document, now["cutoff_hz"], now["mode"], now["resonance_percent"], source, setting.cusp_db,
                Trims(**now["trims"]), setting.concert_a_hz,
            )
            yield from run_oscillation(request, SimulatedRig(document, seed=seed))

        def keep(run: Any) -> object:
            from jiyuu.book.keeping import keep_oscillation

            return keep_oscillation(book, shelved.id, run, source="simulated rig")

        self.measuring.begin(shelved.id, steps, keep)

    def toggle_kept(self, logged: LoggedFinding) -> None:
        super().toggle_kept(logged)
        self.show_measured()

    def show_measured(self) -> None:
        """The newest run of the chosen mode, with its findings."""
        shelved = self.shelved
        if shelved is None:
            return
        now, book = self.current(), self._session.book
        runs = [run for run in book.runs(shelved.id, "Self-oscillation") if run.settings.get("mode") == now["mode"]]
        self._logged = book.findings_of_run(runs[0].id) if runs else []
        self._measured = None
        if runs:
            made = runs[0].settings
            known = {logged.finding.quantity: logged.finding.value for logged in self._logged}
            why = moved_since({**now, "resonance_percent": made.get("resonance_percent")}, made)
            self._measured = MeasuredWhistle(
                known["onset_percent"], np.array(made["position_percent"]), np.array(made["pull_hz"]),
                np.array(made["pull_v"]), np.array(made["harmonics_db"]), known["tone_hz"],
                np.array(made["range_hz"]), np.array(made["range_v"]), why,
            )
        self.measured.emit(self._measured)
        self._say()

    # What is computed

    def _source(self) -> Source:
        setup = self._session.setup()
        return setup.sources()[0]

    def _compute(self) -> None:
        if self._network is None:
            return
        document, network, now = self._document, self._network, self.current()
        source, cusp_db = self._source(), self.setting.cusp_db

        def steps() -> Iterator[Any]:
            from jiyuu.simulation.kernels import compile_apart, is_compiled

            found = begun(document, network, now)
            yield found
            if found is None:
                return
            if not is_compiled(network):
                compile_apart(document.circuit, document.parameters)
            at, why = cusp(document, network, now, source, cusp_db, found)
            found = replace(found, cusp=at, why_no_cusp=why)
            yield found
            yield replace(found, variants=variants(document, network, now, found))

        self.jobs.start(steps)

    def patch(self) -> None:
        """The whistle patched into its own cutoff, swing by swing."""
        whistle, network, now = self._whistle, self._network, self.current()
        if whistle is None or network is None:
            self.patched.emit(NO_WHISTLE)
            return
        gain = self._document.gain_at(whistle.percent)
        modes = self._document.entry.modes
        patched = next((mode for mode in modes if mode.startswith("bandpass")), now["mode"])

        def steps() -> Iterator[Any]:
            from jiyuu.measurement.whistle_prediction import patched_into_cutoff

            found: list[SelfModulated] = []
            try:
                for one in patched_into_cutoff(network, now["mode"], patched, cutoff_hz=now["cutoff_hz"], gain=gain,
                                               swings=np.array(SWINGS)):
                    found.append(one)
                    yield list(found)
            except CircuitError as error:
                yield str(error)

        self.patch_jobs.start(steps)

    def _on_whistle(self, found: Whistle | None) -> None:
        self._whistle = found
        self.whistled.emit(found)
        self._say()

    def _tone_hz(self) -> float | None:
        if self._measured is not None and self._measured.stale_why is None:
            return self._measured.tone_hz
        if self._whistle is not None and self._whistle.tone is not None:
            return self._whistle.tone.frequency_hz
        return None

    def _say(self) -> None:
        self._tune()
        found = self._whistle
        heading = MEASURED_HEADING if self._logged else "Predicted from the circuit."
        if found is None:
            self.findings.emit(Said(heading if self._logged else NO_WHISTLE, self._logged, ()))
            return
        now = self.current()
        settings = {"mode": now["mode"], "cutoff_hz": now["cutoff_hz"], "source": self._source().kind.value,
                    "concert_a_hz": self.setting.concert_a_hz}
        known = {logged.finding.quantity for logged in self._logged}
        rest = [f for f in predicted(found, settings) if f.quantity not in known]
        self.findings.emit(Said(heading, self._logged, tuple(rest)))

    def _tune(self) -> None:
        tone_hz, setting = self._tone_hz(), self.setting
        if tone_hz is None:
            why = NO_WHISTLE if self._whistle is None else "No settled tone was found here."
            self.tuned.emit(None, why)
            return
        try:
            tuning = tune(tone_hz, setting.target_hz(tone_hz))
        except MeasurementError as error:
            self.tuned.emit(None, str(error))
            return
        then_v = volts_of(self.current()["cutoff_hz"]) + tuning.volts
        lines = [tuning.sentence, f"The cutoff then stands at {signed(then_v, 3)} V (0 V is middle C)."]
        if setting.target is Target.INTERVAL:
            beats = beating(tone_hz, setting.oscillator_hz)
            if beats is not None:
                lines.append(beats.sentence)
            else:
                lines.append(f"No slow beating with {shown_hz(setting.oscillator_hz)}.")
        fresh = self._measured is not None and self._measured.stale_why is None
        tone = TunedTone(tone_hz, tuning.target_hz, tuning.cents, setting.concert_a_hz, fresh, tuple(lines))
        self.tuned.emit(tone, "")
