"""Self-oscillation: onset, purity, level and pitch of the whistle, its balance point beside a source."""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum
from fractions import Fraction
from math import log2
from typing import TYPE_CHECKING, Annotated

from pydantic import Field, field_validator

from jiyuu.bench.run import Run
from jiyuu.bench.setting import Setting
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.book.table import Table
from jiyuu.field_words import asked
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.tuner import BELLS, INTERVALS
from jiyuu.progress import Progress
from jiyuu.quantities import A4_HZ
from jiyuu.rig.protocol import Rig
from jiyuu.wording.notices import notices_json

if TYPE_CHECKING:
    from jiyuu.rig.oscillation_run import OscillationRequest

USUAL_ONSET = (70.0, 95.0)  # of the travel: lower and much of it whistles, higher and a warm day may silence it


class Target(StrEnum):
    """What the whistle is tuned to."""

    NOTE = "nearest note"
    PITCH = "a pitch"
    INTERVAL = "an interval"


class WhistleSetting(Setting):
    """What the whistle is to be tuned to, and set against."""

    target: Annotated[Target, Field(title="Tune to")] = Target.NOTE
    concert_a_hz: Annotated[float, asked("A4", unit="Hz", low=380, high=500, tip="Concert pitch.")] = A4_HZ
    pitch_hz: Annotated[float, asked("Pitch", unit="Hz", low=5, high=20_000,
                                     tip="Pitch aimed at: 440, A4, A4+10 (cents).")] = A4_HZ
    oscillator_hz: Annotated[float, asked("Oscillator", unit="Hz", low=5, high=20_000,
                                          tip="Pitch of the oscillator that the interval stands on.")] = 220.0
    ratio: Annotated[str, Field(title="Interval", description="Above the oscillator: a name, or a free ratio such as "
                                "7:4.")] = "octave"
    balance_db: Annotated[float, asked("Balance at", unit="dB", low=-60, high=20,
                                       tip="Level at which the whistle should sit re what is played.")] = -6.0
    bell: Annotated[str, Field(title="Bell", description="The set of partials that the bell's table shows.")
                    ] = "minor-third bell"

    @field_validator("ratio")
    @classmethod
    def _is_a_ratio(cls, text: str) -> str:
        ratio_of(text)
        return text

    @field_validator("bell")
    @classmethod
    def _is_a_bell(cls, name: str) -> str:
        if name not in BELLS:
            raise ValueError(f"there is no set '{name}'; choose one of {', '.join(BELLS)}")
        return name

    def target_hz(self, tone_hz: float) -> float:
        """The pitch aimed at from a tone."""
        if self.target is Target.PITCH:
            return self.pitch_hz
        if self.target is Target.INTERVAL:
            return self.oscillator_hz * float(ratio_of(self.ratio))
        return float(self.concert_a_hz * 2 ** (round(12 * log2(tone_hz / self.concert_a_hz)) / 12))


def ratio_of(text: str) -> Fraction:
    """'fifth', '3:2', '1.5' -> ratio. Raises ValueError with examples."""
    if text in INTERVALS:
        return INTERVALS[text]
    try:
        above, _, below = text.partition(":")
        found = Fraction(above.strip()) / Fraction(below.strip() or "1")
    except (ValueError, ZeroDivisionError):
        found = Fraction(0)
    if not Fraction(1, 64) <= found <= 64:
        raise ValueError(f"'{text}' is no interval; choose one of {', '.join(INTERVALS)}, or type a ratio such as 3:2")
    return found


class SelfOscillationStep(Step[WhistleSetting, "OscillationRequest"]):
    """The whole travel past the onset is looked at, so that the position of the control puts nothing out of date."""

    number, key, name = 4, "self_oscillation", "Self-oscillation"
    purpose = "purity, level and tuning of the whistle"
    tip = "Narrows down the onset, counts the whistle over the control and over its range, sets it against the source."
    setting = WhistleSetting
    takes = 2.5
    depends_on = ("standing_hz", "path", "parameters", "control", "trims", "sources")

    def request(self, standing: Standing, setting: WhistleSetting) -> OscillationRequest:
        from jiyuu.rig.oscillation_run import OscillationRequest

        return OscillationRequest(standing.panel, standing.mode, standing.setup.sources()[0], setting.balance_db,
                                  setting.concert_a_hz)

    def run(
        self, standing: Standing, setting: WhistleSetting, request: OscillationRequest, rig: Rig
    ) -> Iterator[Progress | Run]:
        from jiyuu.measurement.oscillation_findings import oscillation_findings
        from jiyuu.rig.oscillation_run import run_oscillation

        for step in run_oscillation(request, rig):
            if isinstance(step, Progress):
                yield step
                continue
            findings = oscillation_findings(
                step.onset_percent, step.tone, step.start_up_s, step.pull_cents, step.range_v, step.balance,
                source=request.source.kind.value, concert_a_hz=setting.concert_a_hz)
            findings[1:1] = _onset_trim(standing, step.onset_percent.value)
            tables = (
                Table.of("pull", ("position_percent", "%", step.position_percent), ("frequency_hz", "Hz", step.pull_hz),
                         ("cents", "cents", step.pull_cents), ("amplitude_v", "V", step.pull_v)),
                Table.of("range", ("frequency_hz", "Hz", step.range_hz), ("amplitude_v", "V", step.range_v)),
                Table.of("harmonics", ("harmonics_db", "dB", step.tone.harmonics_db)),
            )
            onset = step.onset_percent
            facts = {"onset_percent": {"value": onset.value, "uncertainty": onset.uncertainty},
                     "tone_percent": step.tone_percent, "source": request.source.kind.value,
                     "warnings": notices_json(step.notices)}
            yield Run(self.key, standing, setting, tuple(findings), tables,
                      {"recording": (step.recording_v, step.sample_rate_hz)}, facts)


def _onset_trim(standing: Standing, onset_percent: float) -> list[Finding]:
    """The resonance trim, where the whistle begins at an unusual place of the control."""
    from jiyuu.prediction.trim_advice import resonance_turn

    low, high = USUAL_ONSET
    if low <= onset_percent <= high:
        return []
    aimed, document = 0.5 * (low + high), standing.filter
    turn = resonance_turn(document.gain_at(onset_percent), document.gain_at(aimed), standing.trims, aimed_percent=aimed)
    return [] if turn is None else [Finding("resonance_turn", turn.amount, "", context=turn)]


STEP = SelfOscillationStep()
