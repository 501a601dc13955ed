"""The Drive step on a rig: a tone at rising levels through the unit, and what is recorded of it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.measurement.drive import MeasuredDrive, measure_drive
from jiyuu.progress import Progress
from jiyuu.rig.protocol import PanelSettings, Rig
from jiyuu.signals.drive_steps import DriveSteps
from jiyuu.signals.two_tones import TwoTones

LEVELS_DB = np.arange(-30.0, 21.0, 2.0)  # up to 10 V: what an interface plays
SHORTEST_S = 0.5  # of a tone: a rig is quiet enough for it


@dataclass(frozen=True, slots=True)
class DriveRequest:
    """Everything a run needs."""

    panel: PanelSettings
    mode: str
    frequency_hz: float
    level_v: float
    lamp_percent: float
    pair: TwoTones | None = None  # behind the levels


@dataclass(frozen=True, slots=True, eq=False)
class DriveRun:
    """What was played and recorded (n,), (m,), and what was found."""

    stimulus_v: FloatArray
    recording_v: FloatArray
    sample_rate_hz: float
    found: MeasuredDrive


def run_drive(request: DriveRequest, rig: Rig) -> Iterator[Progress | DriveRun]:
    """Yields progress, then the run; the nominal level is one of those played where it lies among them. Raises
    MeasurementError where the tones are not in the recording."""
    nominal_db = 20 * np.log10(request.level_v)
    levels_db = LEVELS_DB[np.abs(LEVELS_DB - nominal_db) > 0.5]
    levels_db = np.sort(np.append(levels_db, nominal_db)) if nominal_db <= LEVELS_DB[-1] else LEVELS_DB
    steps = DriveSteps(request.frequency_hz, tuple((10 ** (levels_db / 20)).tolist()), SHORTEST_S,
                       pair=request.pair)
    yield Progress(f"Playing {len(steps.levels_v)} levels", 0.05)
    rate = rig.sample_rate_hz
    stimulus = steps.record_v(rate)
    recording = rig.play(stimulus, request.panel, [request.mode])[0]
    yield Progress("Measuring", 0.6)
    found = measure_drive(recording, rate, steps, lamp_percent=request.lamp_percent)
    yield DriveRun(stimulus, recording, rate, found)
