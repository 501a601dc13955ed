"""Comparison: side by side by one definition of the cutoff, at equal loudness, with the judgement in numbers."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Annotated, Literal

import numpy as np
from pydantic import Field

from jiyuu.arrays import FloatArray
from jiyuu.bench.run import Run
from jiyuu.bench.setting import Setting
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.book.table import Table
from jiyuu.field_words import asked
from jiyuu.measurement.finding import Finding
from jiyuu.progress import Progress
from jiyuu.rig.protocol import Rig
from jiyuu.wording.blind import QUANTITIES as BLIND
from jiyuu.wording.character import QUANTITIES
from jiyuu.wording.identity import QUANTITIES as IDENTITY
from jiyuu.wording.notices import notices_json

if TYPE_CHECKING:
    from jiyuu.character.descriptors import Descriptor
    from jiyuu.character.sound import Listening
    from jiyuu.measurement.response import MeasuredResponse
    from jiyuu.rig.character_run import CharacterRequest, CharacterRun
    from jiyuu.signals.source import Source



class ComparisonSetting(Setting):
    """By what the cutoffs are the same, how loud, and what is played."""

    same: Annotated[Literal["pole", "3db", "peak", "pitch", "knob"], Field(
        title="Same cutoff by", description="All filters are brought to the cutoff of the one in hand: by their poles, "
        "−3 dB points, peaks or whistles; knob leaves each as it is set.")] = "pole"
    loudness: Annotated[Literal["equal", "as they are"], Field(
        title="Loudness", description="Each at the same loudness (ITU-R BS.1770), or each as it comes out.")] = "equal"
    source: Annotated[Literal["saw", "square", "pulse", "triangle", "sine", "chord"], Field(
        title="Source", description="What is played through all of them.")] = "saw"
    pitch_hz: Annotated[float, asked("Pitch", unit="Hz", step=1, low=20, high=10_000,
                                     tip="Of the source: 110, A2, 1k2.")] = 110.0
    level_v: Annotated[float, asked("Level", unit="V", step=0.5, low=0.001, high=100,
                                    tip="Of the source, volts peak.")] = 5.0
    beside: Annotated[str, Field(max_length=1, title="Beside", description="The other filter that the sentences are "
                                                                           "about.")] = ""


    @property
    def played(self) -> Source:
        from jiyuu.signals.source import Source, SourceKind

        return Source(SourceKind(self.source), self.pitch_hz, self.level_v)

    @property
    def listening(self) -> Listening:
        from jiyuu.character.sound import Listening

        return Listening(self.loudness == "equal")


class ComparisonStep(Step[ComparisonSetting, "CharacterRequest"]):
    """What is compared are the filters of the shelf as they stand: drawings at one cutoff, and units whose character
    was measured where they stand."""

    number, key, name = 9, "comparison", "Comparison"
    purpose = "side by side at equal loudness, with the judgement in numbers"
    tip = "Plays the source, sweeps and a tone through the simulated unit and measures its character as it stands."
    setting = ComparisonSetting
    quantities = QUANTITIES | BLIND | IDENTITY
    kept_as = "character"  # series of blind listening and other runs are kept under the step's own key
    takes = 12.0
    depends_on = ("standing_hz", "resonance_percent", "path", "parameters", "control", "trims", "drive_db",
                  "setting.source", "setting.pitch_hz", "setting.level_v", "setting.loudness")

    def request(self, standing: Standing, setting: ComparisonSetting) -> CharacterRequest:
        from dataclasses import replace

        from jiyuu.character.descriptors import CALM_V
        from jiyuu.character.drawn import NOMINAL_V
        from jiyuu.prediction.drive import usual_frequency_hz
        from jiyuu.rig.character_run import CharacterRequest
        from jiyuu.rig.response_run import ResponseRequest, soft_level_v

        drive = standing.drive
        soft_v = soft_level_v(ResponseRequest(standing.panel, standing.network, standing.gain, (standing.mode,)))
        source = replace(setting.played, level_v=setting.level_v * drive)
        return CharacterRequest(standing.panel, standing.mode, source, soft_v, tuple((drive * CALM_V).tolist()),
                                usual_frequency_hz(standing.standing_hz), drive * NOMINAL_V)

    def run(
        self, standing: Standing, setting: ComparisonSetting, request: CharacterRequest, rig: Rig
    ) -> Iterator[Progress | Run]:
        from jiyuu.rig.character_run import run_character

        for step in run_character(request, rig):
            yield step if isinstance(step, Progress) else made(standing, setting, step)


def made(standing: Standing, setting: ComparisonSetting, run: CharacterRun) -> Run:
    """A measured character with its findings; the facts say why what is missing is."""
    from jiyuu.character.measured import measured_character

    found = measured_character(run, setting.played, cutoff_hz=standing.standing_hz, listening=setting.listening)
    findings = tuple(Finding(name, one.value, one.scale.unit, one.uncertainty) for name, one in found.items()
                     if one.value is not None)
    records = {"stimulus": (run.sound.stimulus_v, run.sample_rate_hz),
               "recording": (run.sound.recording_v, run.sample_rate_hz)}
    facts = {"why_none": {name: one.why_none for name, one in found.items() if one.value is None},
             "warnings": notices_json(run.notices)}
    return Run(STEP.run_key, standing, setting, findings, _tables(run), records, facts)


def _tables(run: CharacterRun) -> tuple[Table, ...]:
    """The responses that were read: as set, without resonance, and at every level."""
    if run.rest is None or run.open is None:
        return ()
    first, every = run.rest, slice(None, None, 4)

    def level(response: MeasuredResponse) -> FloatArray:
        return np.interp(first.frequency_hz[every], response.frequency_hz, response.level_db)

    louder = [(f"loud_{i + 1}_db", "dB", level(response)) for i, response in enumerate(run.loud)]
    return (Table.of("character", ("frequency_hz", "Hz", first.frequency_hz[every]),
                     ("magnitude_db", "dB", first.level_db[every]), ("open_db", "dB", level(run.open)), *louder),)


def known_character(findings: list[Finding], why_none: dict[str, str]) -> dict[str, Descriptor]:
    """What a run says, as a drawing says it."""
    from jiyuu.character.descriptors import Descriptor
    from jiyuu.character.scales import ALL

    values = {finding.quantity: finding for finding in findings}
    return {scale.name: Descriptor(scale, values[scale.name].value, values[scale.name].uncertainty)
            if scale.name in values else Descriptor(scale, None, None, why_none.get(scale.name, "it was not measured"))
            for scale in ALL}


STEP = ComparisonStep()
