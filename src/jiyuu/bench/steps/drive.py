"""Drive: clean to saturated, and what that does to resonance, to the whistle and to loudness."""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import numpy as np
from pydantic import Field

from jiyuu.arrays import FloatArray
from jiyuu.bench.heard import FULL_SCALE_V
from jiyuu.bench.run import Run
from jiyuu.bench.setting import Setting
from jiyuu.bench.setup import NOMINAL_V
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.book.table import Table
from jiyuu.field_words import asked
from jiyuu.progress import Progress
from jiyuu.rig.protocol import Rig
from jiyuu.signals.recordings import FULL_SCALE_V as FILES_FULL_SCALE_V
from jiyuu.wording.notices import notices_json

if TYPE_CHECKING:
    from jiyuu.measurement.drive import MeasuredDrive
    from jiyuu.prediction.drive_study import Asked, DriveStudy
    from jiyuu.rig.drive_run import DriveRequest, DriveRun
    from jiyuu.signals.two_tones import TwoTones


class Bend(StrEnum):
    """A curve where one can be put: in the feedback, behind the filter."""

    NONE = "none"
    SOFT = "soft"
    HARD = "hard"
    FOLD = "folding"


HIGHEST_PLAYED_V = 10.0
KINDS = {Bend.SOFT: "tanh", Bend.HARD: "clip", Bend.FOLD: "fold"}


class DriveSetting(Setting):
    """The tone and its nominal level, the lamp, and what is patched round the filter or behind it."""

    level_v: Annotated[float, asked("Nominal level", unit="V", step=0.5, low=0.01, high=31.0,
                                    tip="Peak volts that the source usually brings: 5 V, 1 V.")] = NOMINAL_V
    frequency_hz: Annotated[float | None, asked("Tone", unit="Hz", low=10, high=10_000,
                                                tip="Of the tone that drives it; an eighth of the cutoff, at least "
                                                "40 Hz, when left alone (double-click).")] = None
    lamp_percent: Annotated[float, asked("Lamp at", unit="%", step=0.5, low=0.1, high=50,
                                         tip="THD at which a panel's drive lamp would light.")] = 3.0
    feedback: Annotated[float, asked("Output back by", step=0.1, low=-50, high=50,
                                     tip="How much of the output is added to the input, signed; 0 for none. Past the "
                                     "amount at which it rings a loop can jump to full level: listen low.")] = 0.0
    through: Annotated[Bend, Field(title="Through", description="A curve of the nominal level's headroom in the "
                                   "feedback, or a wire.")] = Bend.NONE
    behind: Annotated[Bend, Field(title="Bent behind", description="A curve behind the filter that makes the same "
                                  "distortion as driving it: what driving does that this does not.")] = Bend.SOFT
    dry_percent: Annotated[float, asked("Dry", unit="%", step=10, low=0, high=100,
                                        tip="Share of dry signal mixed in: where phase takes some of it away.")] = 50.0

    def tone_hz(self, standing_hz: float) -> float:
        """Of the tone that drives it."""
        from jiyuu.prediction.drive import usual_frequency_hz

        return usual_frequency_hz(standing_hz) if self.frequency_hz is None else self.frequency_hz


class DriveStep(Step[DriveSetting, "DriveRequest"]):
    """The level is its axis, so that the nominal one puts nothing out of date but what is said of it."""

    number, key, name = 6, "drive", "Drive"
    purpose = "clean to saturated, and what that does to resonance and loudness"
    tip = "Plays a tone at rising levels through the simulated unit and measures what bends."
    setting = DriveSetting
    takes = 2.0
    depends_on = ("standing_hz", "resonance_percent", "path", "parameters", "control", "trims", "setting.frequency_hz",
                  "setting.level_v", "setting.lamp_percent")

    def refuse(self, standing: Standing, setting: DriveSetting) -> str | None:
        if standing.self_oscillates:
            return ("At this resonance the filter oscillates by itself, so what it does to a tone is not defined: turn "
                    "resonance down first.")
        return None

    def request(self, standing: Standing, setting: DriveSetting) -> DriveRequest:
        from jiyuu.rig.drive_run import DriveRequest

        return DriveRequest(standing.panel, standing.mode, setting.tone_hz(standing.standing_hz), setting.level_v,
                            setting.lamp_percent, _pair(standing, setting))

    def run(
        self, standing: Standing, setting: DriveSetting, request: DriveRequest, rig: Rig
    ) -> Iterator[Progress | Run]:
        from jiyuu.rig.drive_run import run_drive

        for step in run_drive(request, rig):
            yield step if isinstance(step, Progress) else made(standing, setting, step)

    def predict(self, standing: Standing, setting: DriveSetting) -> Iterator[DriveStudy]:
        from jiyuu.prediction.drive_study import drive_studies

        setup = standing.setup
        yield from drive_studies(
            standing.filter, standing.network, standing.mode, setup.sources(), study_of(standing, setting),
            cutoff_hz=standing.standing_hz, gain=standing.gain, drive=standing.drive, limit_v=setup.next_limit_v,
            full_scale_v=FULL_SCALE_V,
        )


def _pair(standing: Standing, setting: DriveSetting) -> TwoTones | None:
    """As loud as an interface plays both at most; None for so low a cutoff that two cannot be told apart under it."""
    from jiyuu.errors import SignalError
    from jiyuu.prediction.drive import usual_two_tones

    try:
        return usual_two_tones(standing.standing_hz, min(setting.level_v, HIGHEST_PLAYED_V / 2))
    except SignalError:
        return None


def made(standing: Standing, setting: DriveSetting, run: DriveRun) -> Run:
    """A measured ladder with its findings."""
    from jiyuu.measurement.drive_findings import drive_findings

    findings = drive_findings(run.found, level_v=setting.level_v, lamp_percent=setting.lamp_percent)
    rate = run.sample_rate_hz
    records = {"stimulus": (run.stimulus_v, rate), "recording": (run.recording_v, rate)}
    facts = {"frequency_hz": run.found.frequency_hz, "warnings": notices_json(run.found.notices)}
    if run.found.why_no_products:
        facts["not_told"] = [run.found.why_no_products]
    return Run("drive", standing, setting, tuple(findings), _tables(run.found), records, facts)


def from_files(
    standing: Standing, setting: DriveSetting, first: Path, second: Path, *, channel: str | None = None,
    full_scale_v: float = FILES_FULL_SCALE_V,
) -> Iterator[Progress | Run]:
    """A ladder of levels and its recording, in whichever order they were given; what was played is read from the file
    that was. channel: left or right, told by the stimulus when not given; full_scale_v: volts of a full sample. Raises
    JiyuuError where they are no pair."""
    from dataclasses import replace

    from jiyuu.measurement.drive import measure_drive
    from jiyuu.rig.drive_run import DriveRun
    from jiyuu.rig.files import read_pair, tell_apart
    from jiyuu.signals.drive_steps import steps_in

    yield Progress("Reading the files", 0.1)
    stimulus, recording = tell_apart(first, second)
    pair = read_pair(stimulus, recording, channel=channel, full_scale_v=full_scale_v)
    steps = steps_in(pair.stimulus_v, pair.sample_rate_hz)
    yield Progress(f"Measuring {len(steps.levels_v)} levels", 0.3)
    found = measure_drive(pair.recording_v, pair.sample_rate_hz, steps, full_scale_v=full_scale_v,
                          lamp_percent=setting.lamp_percent)
    found = replace(found, notices=pair.of_whole(found.notices))
    run = DriveRun(pair.stimulus_v, pair.recording_v, pair.sample_rate_hz, found)
    yield made(standing, setting, run).taken_from(
        f"{stimulus.name}, {recording.name}{pair.which}")


def study_of(standing: Standing, setting: DriveSetting) -> Asked:
    """What the drawing is asked."""
    from jiyuu.circuits.network import BranchKind
    from jiyuu.patch.document import Curve
    from jiyuu.prediction.drive_study import Asked

    through, behind = KINDS.get(setting.through), KINDS.get(setting.behind)
    curve = None if through is None else Curve.model_validate({"kind": through, "headroom_v": setting.level_v})
    return Asked(setting.level_v, setting.tone_hz(standing.standing_hz), setting.lamp_percent, setting.feedback, curve,
                 None if behind is None else BranchKind(behind), setting.dry_percent / 100)


def _tables(found: MeasuredDrive) -> tuple[Table, Table]:
    """Levels, and their harmonics re the first."""
    levels = found.levels
    volts = np.array([level.input_peak_v for level in levels])
    columns: list[tuple[str, str, FloatArray]] = [("input_peak_v", "V", volts)]
    for name, unit in (("fundamental_peak_v", "V"), ("gain_db", "dB"), ("thd_percent", "%"), ("even_percent", "%"),
                       ("odd_percent", "%"), ("thd_n_percent", "%")):
        stated = [getattr(level, name) for level in levels]
        columns.append((name, unit, np.array([one.value for one in stated])))
        columns.append((f"{name.rsplit('_', 1)[0]}_uncertainty_{name.rsplit('_', 1)[1]}", unit,
                        np.array([one.uncertainty for one in stated])))
    harmonics = np.array([[one.value for one in level.harmonics_db] for level in levels])
    orders = [(f"harmonic_{i + 1}_db", "dB", harmonics[:, i]) for i in range(1, harmonics.shape[1])]
    return Table.of("drive", *columns), Table.of("drive-harmonics", ("input_peak_v", "V", volts), *orders)


STEP = DriveStep()
