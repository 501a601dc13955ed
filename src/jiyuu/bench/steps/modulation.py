"""Modulation: what moves, between which bounds, and what becomes of it: struck, stepped, played."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Any

from jiyuu.bench.run import Run
from jiyuu.bench.setting import Setting
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.book.table import Table
from jiyuu.field_words import asked
from jiyuu.progress import Progress
from jiyuu.rig.protocol import Rig
from jiyuu.wording.modulation import QUANTITIES
from jiyuu.wording.notices import notices_json


class ModulationSetting(Setting):
    """How much is looked at, where, and with what it is struck."""

    seconds: Annotated[float, asked("Length", unit="s", step=0.5, low=0.5, high=16,
                                    tip="How much of what moves is shown and played.")] = 4.0
    moment_s: Annotated[float, asked("Moment", unit="s", step=0.05, low=0, high=16,
                                     tip="The moment at which the response is looked at.")] = 0.5
    pulse_ms: Annotated[float, asked("Pulse", unit="ms", step=0.5, low=0.05, high=50,
                                     tip="Length of the pulse that strikes it.")] = 1.0
    strike_v: Annotated[float, asked("Strike", unit="V", step=0.5, low=-10, high=10,
                                     tip="Volts of that pulse.")] = 1.0


class ModulationStep(Step):
    """What moves is part of the filter as it stands; here it is set, looked at and measured."""

    number, key, name = 7, "modulation", "Modulation"
    purpose = "what moves the cutoff and how far, how it rings when struck, how it follows a step"
    tip = "Strikes the simulated unit where it stands, and steps its whistle: ring, settling, overshoot, feedthrough."
    setting = ModulationSetting
    quantities = QUANTITIES
    depends_on = ("standing_hz", "resonance_percent", "path", "parameters", "control", "trims", "setting.pulse_ms",
                  "setting.strike_v")

    def refuse(self, standing: Standing, setting: Any) -> str | None:
        if standing.self_oscillates and not self._can_whistle(standing):
            return "It oscillates by itself and cannot be struck; turn resonance down."
        return None

    @staticmethod
    def _can_whistle(standing: Standing) -> bool:
        return standing.onset is not None and standing.onset.gain < 0.97 * standing.full_gain

    def request(self, standing: Standing, setting: ModulationSetting) -> Any:
        from jiyuu.rig.modulation_run import ModulationRequest

        return ModulationRequest(
            standing.panel, standing.mode, setting.pulse_ms / 1000, setting.strike_v or 1.0,
            not standing.self_oscillates, self._can_whistle(standing))

    def run(self, standing: Standing, setting: ModulationSetting, request: Any, rig: Rig) -> Iterator[Progress | Run]:
        from jiyuu.measurement.contexts import Struck
        from jiyuu.measurement.modulation_findings import ping_findings, settling_findings
        from jiyuu.rig.modulation_run import run_modulation

        for step in run_modulation(request, rig):
            if isinstance(step, Progress):
                yield step
                continue
            struck = Struck(setting.pulse_ms, request.level_v, standing.resonance_percent)
            findings = [] if step.pings is None else ping_findings(step.pings.pings, struck)
            findings += [] if step.steps is None else settling_findings(step.steps)
            rate = step.sample_rate_hz
            yield Run(
                self.key, standing, setting, tuple(findings), _tables(step),
                {name: (record, rate) for name, record in step.records.items()},
                {"warnings": [] if step.pings is None else notices_json(step.pings.notices)})

    def predict(self, standing: Standing, setting: ModulationSetting) -> Iterator[Any]:
        from jiyuu.bench.patched import patch_of
        from jiyuu.prediction.moving import moves_of, spectrogram_of

        patch = patch_of(standing, standing.document.name)
        yield moves_of(patch, setting.seconds)
        yield spectrogram_of(patch, setting.seconds)


def _tables(found: Any) -> tuple[Table, ...]:
    """Pings and steps, a row each."""
    import numpy as np

    tables = []
    if found.pings is not None:
        pings = found.pings.pings

        def column(name: str) -> Any:
            return np.array([np.nan if getattr(ping, name) is None else getattr(ping, name).value for ping in pings])

        tables.append(Table.of(
            "pings", ("at_s", "s", np.array([ping.at_s for ping in pings])), ("frequency_hz", "Hz",
                                                                              column("frequency_hz")),
            ("t60_s", "s", column("t60_s")), ("q", "", column("q")), ("first_peak_v", "V", column("first_peak_v"))))
    if found.steps:
        tables.append(Table.of("settling", *(
            (name, unit, np.array([getattr(step, name) for step in found.steps])) for name, unit in (
                ("at_s", "s"), ("from_hz", "Hz"), ("to_hz", "Hz"), ("settling_s", "s"), ("resolution_s", "s"),
                ("overshoot_cents", "cents"), ("feedthrough_v", "V")))))
    return tuple(tables)


STEP = ModulationStep()
