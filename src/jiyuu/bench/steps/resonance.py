"""Resonance: positions of the control, the onset, how even the control is."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Annotated

from jiyuu.bench.run import Run
from jiyuu.bench.setting import Setting
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.book.table import Table
from jiyuu.field_words import asked
from jiyuu.progress import Progress
from jiyuu.rig.protocol import Rig

if TYPE_CHECKING:
    from jiyuu.rig.resonance_run import ResonanceRequest


class ResonanceSetting(Setting):
    """How finely the control is looked at."""

    positions: Annotated[int, asked("Positions", step=5, low=5, high=101, tip="Of the control, evenly over its travel, "
                                    "at which it is swept; between two of them the curves are drawn straight.")] = 21


class ResonanceStep(Step[ResonanceSetting, "ResonanceRequest"]):
    """The position of the control is its axis, so that its move puts nothing out of date."""

    number, key, name = 3, "resonance", "Resonance"
    purpose = "peak and bass over the control, onset, taper"
    tip = "Sweeps the unit at positions all over its control and narrows down the onset."
    setting = ResonanceSetting
    takes = 16.0
    depends_on = ("standing_hz", "path", "parameters", "control", "trims")

    def request(self, standing: Standing, setting: ResonanceSetting) -> ResonanceRequest:
        from jiyuu.rig.resonance_run import ResonanceRequest, evenly

        return ResonanceRequest(standing.panel, standing.mode, evenly(setting.positions))

    def run(
        self, standing: Standing, setting: ResonanceSetting, request: ResonanceRequest, rig: Rig
    ) -> Iterator[Progress | Run]:
        from jiyuu.measurement.resonance_findings import control_findings, position_findings
        from jiyuu.rig.resonance_run import run_resonance

        for step in run_resonance(request, rig):
            if isinstance(step, Progress):
                yield step
                continue
            curves = step.curves
            at = min(standing.resonance_percent, float(curves.position_percent[-1]))
            findings = position_findings(curves, at, measured=True) + control_findings(
                step.taper, step.onset_percent, measured=True, onset_uncertainty=step.onset_uncertainty)
            table = Table.of(
                "resonance", ("position_percent", "%", curves.position_percent), ("body_db", "dB", curves.body_db),
                ("peak_db", "dB", curves.peak_db), ("peak_hz", "Hz", curves.peak_hz), ("q", "", curves.q),
                ("highest_db", "dB", curves.highest_db),
            )
            rate = step.sample_rate_hz
            records = {"stimulus": (step.stimulus_v, rate),
                       **{f"recording {percent:.4g} %": (recording, rate) for percent, recording in
                          zip(curves.position_percent, step.recordings_v, strict=True)}}
            onset = None if step.onset_percent is None else {"value": step.onset_percent,
                                                             "uncertainty": step.onset_uncertainty}
            facts = {"onset_percent": onset, "why_no_taper": step.why_no_taper or None,
                     "level_v": request.plan.level_v}
            yield Run(self.key, standing, setting, tuple(findings), (table,), records, facts)


STEP = ResonanceStep()
