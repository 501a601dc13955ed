"""Comparison: side by side by one definition of the cutoff, at equal loudness, with the judgement in numbers."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from jiyuu.bench.setting import Setting
from jiyuu.bench.step import Unmeasured
from jiyuu.field_words import asked
from jiyuu.wording.blind import QUANTITIES as BLIND
from jiyuu.wording.character import QUANTITIES
from jiyuu.wording.identity import QUANTITIES as IDENTITY


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


class ComparisonStep(Unmeasured):
    """What is compared are the filters of the shelf as they stand; nothing is measured."""

    number, key, name = 9, "comparison", "Comparison"
    purpose = "side by side at equal loudness, with the judgement in numbers"
    setting = ComparisonSetting
    quantities = QUANTITIES | BLIND | IDENTITY


STEP = ComparisonStep()
