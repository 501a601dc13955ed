"""Tracking: volts per octave, usable span, drift, what to trim."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import numpy as np
from pydantic import Field, model_validator

from jiyuu.bench.run import Run
from jiyuu.bench.setting import Setting
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.book.table import Table
from jiyuu.circuits.filter_file import Filter
from jiyuu.errors import JiyuuError
from jiyuu.field_words import asked
from jiyuu.measurement.finding import Tolerance
from jiyuu.progress import Progress
from jiyuu.quantities import parse_scale, volts_between
from jiyuu.rig.protocol import Rig
from jiyuu.rig.tracking_request import START_HZ, SWEPT_FROM_HZ, TrackingRequest, whistle_percent
from jiyuu.signals.recordings import FULL_SCALE_V

if TYPE_CHECKING:
    from jiyuu.measurement.tracking import Readings
    from jiyuu.rig.tracking_run import TrackingRun

MOST_STEPS = 200
FARTHEST_V = 12.0


class TrackingSetting(Setting):
    """by_sweeps None: wherever the drawing does not whistle. resonance_percent None: a little past the onset. start_hz
    None: C1, for sweeps C3. target: whether the offset trim is to bring 0 V to start_hz."""

    start_hz: Annotated[float | None, asked("0 V is", unit="Hz", low=8, high=8000, tip="Where the cutoff knob stands "
                                            "while 0 V is applied: 32.7, C1.")] = None
    from_v: Annotated[float, asked("From", unit="V", low=-10, high=10, tip="First control voltage.")] = 0.0
    to_v: Annotated[float, asked("To", unit="V", low=-10, high=10, tip="Last control voltage.")] = 8.0
    step_v: Annotated[float, asked("Step", unit="V", step=0.25, low=0.01, high=10,
                                   tip="Volts between steps; 1/12 V is a semitone.")] = 1.0
    scale: Annotated[str, Field(max_length=2000, title="Scale", description="Notes played instead of the range, in any "
                                "tuning: names, hertz, or ratios and cents over the first (over '0 V is' when there is "
                                "no other). Enter; empty for the range.")] = ""
    key_follow_percent: Annotated[float, asked("Key follow", unit="%", step=10, low=5, high=200, tip="How much of the "
                                               "keys' volts the filter is given while a scale is played.")] = 100.0
    resonance_percent: Annotated[float | None, asked("Resonance", unit="%", low=0, high=100, tip="Where the resonance "
                                                     "control stands while it is tracked: past the onset to count a "
                                                     "tone.")] = None
    by_sweeps: bool | None = None
    tolerance_cents: Annotated[float, asked("Tolerance", unit="cents", above=0, high=1200, tip="Cents that count as in "
                                            "tune: 2 in unison, 5 usual, 20 for a charming wander.")] = 5.0
    reference_v: Annotated[float | None, asked("Reference", unit="V", low=-10, high=10,
                                               tip="The step that the errors are against.")] = None
    temperature_c: Annotated[float, asked("Temperature", unit="°C", low=-20, high=80,
                                          tip="Of the unit; goes into the record.")] = 25.0
    tune_offset: bool = False
    hold_s: Annotated[float, asked("Hold", unit="s", step=5, low=0, high=120,
                                   tip="Seconds of the first step held afterwards, for drift.")] = 0.0
    note: Annotated[str, Field(max_length=500, title="Noted")] = ""

    @model_validator(mode="after")
    def _leads_somewhere(self) -> TrackingSetting:
        if self.to_v <= self.from_v:
            raise ValueError(f"the last volts ({self.to_v:g}) must lie above the first ({self.from_v:g})")
        if (self.to_v - self.from_v) / self.step_v > MOST_STEPS:
            raise ValueError(f"steps of {self.step_v:g} V make more than {MOST_STEPS}; take larger ones")
        if self.scale.strip():
            volts = self.volts()
            if not 2 <= len(volts) <= MOST_STEPS or len(set(volts)) < 2:
                raise ValueError(f"a scale needs at least two different notes and at most {MOST_STEPS}")
            if max(abs(v) for v in volts) > FARTHEST_V:
                raise ValueError(f"the scale leads more than {FARTHEST_V:g} V from 0 V; bring '0 V is' nearer")
        return self

    def volts(self, *, swept: bool = False) -> tuple[float, ...]:
        """What the filter is given at every step: the notes typed, or the range with both ends among it. Sweeps see no
        higher than some ten kilohertz. Raises ValueError for notes that are no scale."""
        if self.scale.strip():
            zero_hz = self.start_hz or (SWEPT_FROM_HZ if swept else START_HZ)
            try:
                played_hz = parse_scale(self.scale, one_hz=zero_hz)
            except JiyuuError as error:
                raise ValueError(str(error).rstrip(".")) from error
            return tuple(round(self.key_follow_percent / 100 * volts_between(zero_hz, hz), 9) for hz in played_hz)
        to_v = min(self.to_v, self.from_v + 6.0) if swept else self.to_v
        count = int((to_v - self.from_v) / self.step_v + 1e-6) + 1
        return tuple(float(v) for v in np.round(self.from_v + self.step_v * np.arange(count), 9))

    def sweeps(self, document: Filter) -> bool:
        """Whether the filter is tracked by sweeps."""
        return whistle_percent(document) is None if self.by_sweeps is None else self.by_sweeps

    def first_hz(self, document: Filter) -> float:
        """Pitch meant at 0 V."""
        if self.start_hz is not None:
            return self.start_hz
        return SWEPT_FROM_HZ if self.sweeps(document) else START_HZ

    def whistles_at(self, document: Filter) -> float:
        """Position of the resonance control while it is tracked."""
        if self.resonance_percent is not None:
            return self.resonance_percent
        return 0.0 if self.sweeps(document) else whistle_percent(document) or 100.0


class TrackingStep(Step[TrackingSetting, TrackingRequest]):
    """Tracked at pitches and a resonance of its own, so that the knobs put nothing out of date."""

    number, key, name = 5, "tracking", "Tracking"
    purpose = "volts per octave, usable span, trims"
    tip = "Steps the control volts of the simulated unit and counts its whistle at every one."
    setting = TrackingSetting
    depends_on = ("path", "parameters", "control", "trims", "setting.temperature_c")

    def request(self, standing: Standing, setting: TrackingSetting) -> TrackingRequest:
        document = standing.filter
        swept, start_hz = setting.sweeps(document), setting.first_hz(document)
        volts = setting.volts(swept=swept)
        reference = setting.reference_v if setting.reference_v in volts else None
        at = volts[0] if reference is None else reference
        return TrackingRequest(
            standing.mode, setting.whistles_at(document), start_hz=start_hz, volts=volts, by_sweeps=swept,
            trims=standing.trims, temperature_c=setting.temperature_c, tolerance_cents=setting.tolerance_cents,
            reference_v=reference, hold_s=0.0 if swept else setting.hold_s,
            key_follow_percent=setting.key_follow_percent if setting.scale.strip() else None,
            target_hz=start_hz * 2.0**at if setting.tune_offset else None,
        )

    def run(
        self, standing: Standing, setting: TrackingSetting, request: TrackingRequest, rig: Rig
    ) -> Iterator[Progress | Run]:
        from jiyuu.rig.tracking_run import possible_request, run_tracking

        # A build may not whistle although its drawing does; whoever asked for its tone by name is told so.
        wanted = possible_request(request, rig) if setting.by_sweeps is None else request
        for step in run_tracking(wanted, rig):
            yield step if isinstance(step, Progress) else made(standing, setting, step)


def made(standing: Standing, setting: TrackingSetting, run: TrackingRun) -> Run:
    """The table judged, with its findings, what is advised, and what it takes to judge it again."""
    from jiyuu.measurement.tracking_findings import tracking_findings
    from jiyuu.wording.notices import notices_json
    from jiyuu.wording.tracking import advice_lines

    request, tracking, advice = run.request, run.tracking, run.advice
    limits = Tolerance(-request.tolerance_cents, request.tolerance_cents)
    findings = tracking_findings(tracking, advice.fit, advice.turns, run.held, worst=limits,
                                 key_follow_percent=request.key_follow_percent)
    readings = tracking.readings
    table = Table.of(
        "tracking", ("volts", "V", readings.volts), ("frequency_hz", "Hz", readings.frequency_hz),
        ("uncertainty_cents", "cents", readings.uncertainty_cents), ("error_cents", "cents", tracking.error_cents),
        ("residual_cents", "cents", tracking.residual_cents), ("amplitude_peak_v", "V", readings.level_v),
        ("settled_s", "s", readings.settled_s), of_mode=False,
    )
    facts = {
        "tracked_at_percent": request.resonance_percent, "start_hz": request.start_hz, "by_sweeps": request.by_sweeps,
        "tolerance_cents": request.tolerance_cents, "reference_v": tracking.reference_v, "unread": list(run.unread),
        "temperature_c": request.temperature_c, "pitch_ratio": run.pitch_ratio,
        "key_follow_percent": request.key_follow_percent, "note": setting.note, "advice": list(advice_lines(advice)),
        "warnings": notices_json(run.notices),
    }
    rate = run.sample_rate_hz
    return Run("tracking", standing, setting, tuple(findings), (table,),
               {"control volts": (run.cv_v, rate), "recording": (run.recording_v, rate)}, facts)


def readings_of(table: Table) -> Readings:
    """The readings that a kept table stands for, in the order of a run."""
    from jiyuu.measurement.tracking import Readings

    hertz = table["frequency_hz"]
    # Books of the first version kept the uncertainty in hertz.
    doubt_hz = table["uncertainty_hz"] if "uncertainty_hz" in table else (
        hertz * table["uncertainty_cents"] * np.log(2) / 1200)
    return Readings(table["volts"], hertz, doubt_hz, table["amplitude_peak_v"], table["settled_s"])


def from_recording(
    standing: Standing, setting: TrackingSetting, path: Path, *, channel: str | None = None,
    harmonic: int | None = None, full_scale_v: float = FULL_SCALE_V,
) -> Iterator[Progress | Run]:
    """A staircase recorded by hand: its steps in the order of the volts set. channel: left or right; harmonic: which
    one sounds loudest; both found when not given. Raises JiyuuError where that cannot be."""
    from jiyuu.rig.channels import channel_of
    from jiyuu.rig.tracking_run import evaluate_recording
    from jiyuu.signals.recordings import read_to_measure

    yield Progress("Finding the steps", 0.2)
    record = read_to_measure(path, full_scale_v=full_scale_v)
    request = STEP.request(standing, setting)
    record_v, chosen = channel_of(record, None, channel)
    run = evaluate_recording(replace(request, by_sweeps=False), record_v, float(record.sample_rate_hz),
                             harmonic=harmonic)
    if chosen is not None:
        run = replace(run, notices=(chosen, *run.notices))
    yield made(standing, setting, run).taken_from(path.name)


STEP = TrackingStep()
