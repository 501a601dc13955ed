"""State of the Self-oscillation step: what the drawing's whistle does, the newest run, the tuner, the balance point."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtCore import pyqtSignal

from jiyuu.arrays import FloatArray
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.bench.steps.self_oscillation import Target, WhistleSetting
from jiyuu.book.stored import StoredRun
from jiyuu.desktop.figures.tuner_figure import TunedTone
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.presenter import StepPresenter
from jiyuu.errors import CircuitError, MeasurementError
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.tuner import beating, tune
from jiyuu.prediction.self_oscillation import Whistle, balance, begun, predicted, variants
from jiyuu.quantities import shown_hz, signed, volts_of
from jiyuu.wording.whistle import beating_line, tuning_line

if TYPE_CHECKING:
    from jiyuu.prediction.whistle import SelfModulated

SWINGS = (0.0, 0.25, 0.5, 0.75, 1.0, 1.25, 1.5, 1.75, 2.0, 2.5, 3.0)  # octaves each way
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

    whistled = pyqtSignal(object)  # Whistle or None
    measured = pyqtSignal(object)  # MeasuredWhistle or None
    tuned = pyqtSignal(object, str)  # TunedTone or None, and what to do when None
    patched = pyqtSignal(object)  # list[SelfModulated] so far, or a text saying why not
    remembers = True

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self._whistle: Whistle | None = None
        self._computed = False
        self._measured: MeasuredWhistle | None = None
        self.patch_jobs = Jobs(session.crew, "patching the whistle", self)
        self.patch_jobs.stepped.connect(self.patched)
        self.patch_jobs.failed.connect(lambda text: self.patched.emit(text))

    # What is set

    def go_to_target(self) -> None:
        """Move the cutoff so that the whistle meets its target."""
        tone_hz = self.tone_hz()
        if tone_hz is None:
            self.message.emit("There is no tone to tune yet; turn resonance past the onset, or measure (M).", False)
            return
        self.set_cutoff(self.now().standing_hz * self.setting.target_hz(tone_hz) / tone_hz)

    # What is computed

    def show_standing(self) -> None:
        self._computed = False

    def compute(self, standing: Standing, setting: WhistleSetting) -> Iterator[Whistle | None]:
        document, network, mode, at_hz = standing.filter, standing.network, standing.mode, standing.standing_hz
        found = begun(document, network, mode, cutoff_hz=at_hz, resonance_percent=standing.resonance_percent)
        yield found
        if found is None:
            return
        at, why = balance(document, network, mode, standing.setup.sources()[0], found, cutoff_hz=at_hz,
                          target_db=setting.balance_db)
        found = replace(found, balance=at, why_no_balance=why)
        yield found
        yield replace(found, variants=variants(document, network, mode, found, cutoff_hz=at_hz))

    def on_computed(self, found: Whistle | None) -> None:
        self._whistle, self._computed = found, True
        self.whistled.emit(found)
        self.say()

    def sleep(self) -> None:
        super().sleep()
        self.patch_jobs.drop()

    def patch(self) -> None:
        """The whistle patched into its own cutoff, swing by swing."""
        whistle = self._whistle
        if whistle is None or self.shelved is None:
            self.patched.emit(NO_WHISTLE)
            return
        standing, gain = self.now(), self.now().filter.gain_at(whistle.percent)
        through = next((mode for mode in standing.outputs if mode.startswith("bandpass")), standing.mode)

        def steps() -> Iterator[object]:
            from jiyuu.prediction.whistle import patched_into_cutoff

            found: list[SelfModulated] = []
            try:
                for one in patched_into_cutoff(standing.network, standing.mode, through,
                                               cutoff_hz=standing.standing_hz, gain=gain, swings=np.array(SWINGS)):
                    found.append(one)
                    yield list(found)
            except CircuitError as error:
                yield str(error)

        self.patch_jobs.start(steps)

    # What is measured

    def show_run(self, runs: list[StoredRun]) -> None:
        self._measured = None
        known = {logged.finding.quantity: logged.finding.value for logged in self.logged}
        if self.run is not None and "pull" in self.tables and {"onset_percent", "tone_hz"} <= set(known):
            pull, span, harmonics = (self.tables[name] for name in ("pull", "range", "harmonics"))
            self._measured = MeasuredWhistle(
                known["onset_percent"], pull["position_percent"], pull["frequency_hz"], pull["amplitude_v"],
                harmonics["harmonics_db"], known["tone_hz"], span["frequency_hz"], span["amplitude_v"], self.stale_why,
            )
        self.measured.emit(self._measured)

    def heading(self) -> str:
        if self.logged:
            return super().heading()
        if not self._computed:
            return "Computing the whistle …"
        return NO_WHISTLE if self._whistle is None else super().heading()

    def predicted_findings(self) -> tuple[Finding, ...]:
        if self._whistle is None or not self._computed:
            return ()
        source = self._session.standing().setup.sources()[0].kind.value
        return tuple(predicted(self._whistle, source=source, concert_a_hz=self.setting.concert_a_hz))

    # The tuner

    def say(self) -> None:
        self._tune()
        super().say()

    def _fresh_run(self) -> MeasuredWhistle | None:
        return self._measured if self._measured is not None and self._measured.stale_why is None else None

    def tone_hz(self) -> float | None:
        """Of the newest run, or of the drawing where that is out of date; None where it does not whistle."""
        fresh = self._fresh_run()
        if fresh is not None:
            return fresh.tone_hz
        tone = None if self._whistle is None else self._whistle.tone
        return None if tone is None else tone.frequency_hz

    def _tune(self) -> None:
        tone_hz, setting = self.tone_hz(), self.setting
        if tone_hz is None:
            waiting = "" if self._computed else "Computing the whistle …"
            self.tuned.emit(None, waiting or (NO_WHISTLE if self._whistle is None else
                                              "No settled tone was found here."))
            return
        try:
            tuning = tune(tone_hz, setting.target_hz(tone_hz))
        except MeasurementError as error:
            self.tuned.emit(None, str(error))
            return
        then_v = volts_of(self.now().standing_hz) + tuning.volts
        lines = [tuning_line(tuning), f"The cutoff then stands at {signed(then_v, 3)} V (0 V is middle C)."]
        if setting.target is Target.INTERVAL:
            beats = beating(tone_hz, setting.oscillator_hz)
            lines.append(f"No slow beating with {shown_hz(setting.oscillator_hz)}." if beats is None else
                         beating_line(beats))
        self.tuned.emit(TunedTone(tone_hz, tuning.target_hz, tuning.cents, setting.concert_a_hz,
                                  self._fresh_run() is not None, tuple(lines)), "")
