"""Setup: the source as set through the filter, the volts at every joint."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from jiyuu.bench.run import Run
from jiyuu.bench.setup import Setup
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.measurement.contexts import Played
from jiyuu.measurement.finding import Finding, Tolerance
from jiyuu.progress import Progress
from jiyuu.rig.protocol import Rig

if TYPE_CHECKING:
    from jiyuu.rig.level_run import LevelRequest


class SetupStep(Step[Setup, "LevelRequest"]):
    """What is set here is part of the filter as it stands: every other step hears the same source."""

    number, key, name = 1, "setup", "Setup"
    purpose = "source and levels, where the cutoff can go"
    tip = "Plays the source through the simulated unit and measures what comes out."
    depends_on = ("standing_hz", "resonance_percent", "path", "sources", "drive_db", "next_limit_v", "parameters",
                  "control", "trims")
    setting = Setup

    def request(self, standing: Standing, setting: Setup) -> LevelRequest:
        from jiyuu.rig.level_run import LevelRequest

        setup = standing.setup
        return LevelRequest(standing.panel, standing.mode, setup.sources(), setup.drive_db, setup.output_limit_v)

    def run(self, standing: Standing, setting: Setup, request: LevelRequest, rig: Rig) -> Iterator[Progress | Run]:
        from jiyuu.rig.level_run import FULL_SCALE_V, run_levels

        for step in run_levels(request, rig):
            if isinstance(step, Progress):
                yield step
                continue
            levels, limit_v = step.levels, request.limit_v
            played = Played(standing.setup.source_names, limit_v, FULL_SCALE_V)
            findings = [
                Finding("output_peak_v", levels.peak_v, "V", tolerance=Tolerance(0.0, limit_v), context=played),
                Finding("output_margin_db", levels.headroom_db, "dB", context=played),
            ]
            if levels.loudness_lufs is not None:
                findings.append(Finding("output_loudness_lufs", levels.loudness_lufs, "LUFS", context=played))
            records = {"source": (step.source_v, step.sample_rate_hz),
                       "recording": (step.recording_v, step.sample_rate_hz)}
            yield Run(self.key, standing, setting, tuple(findings), records=records)


STEP = SetupStep()
