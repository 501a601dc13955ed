"""What the whistle of a filter is to be tuned to, and set against."""

from __future__ import annotations

from enum import StrEnum
from fractions import Fraction
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field, field_validator

from jiyuu.measurement.tuner import INTERVALS
from jiyuu.quantities import A4_HZ


class Target(StrEnum):
    NOTE = "nearest note"
    PITCH = "a pitch"
    INTERVAL = "an interval"


class WhistleSetting(BaseModel):
    """concert_a_hz: A4. pitch_hz: for a target pitch. oscillator_hz and ratio: for an interval above an oscillator, the
    ratio a name of INTERVALS or 'p:q'. cusp_db: where the whistle should sit re what is played. bell: a set's name."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    target: Target = Target.NOTE
    concert_a_hz: Annotated[float, Field(ge=380, le=500, allow_inf_nan=False)] = A4_HZ
    pitch_hz: Annotated[float, Field(ge=5, le=20_000, allow_inf_nan=False)] = A4_HZ
    oscillator_hz: Annotated[float, Field(ge=5, le=20_000, allow_inf_nan=False)] = 220.0
    ratio: str = "octave"
    cusp_db: Annotated[float, Field(ge=-60, le=20, allow_inf_nan=False)] = -6.0
    bell: str = "minor-third bell"

    @field_validator("ratio")
    @classmethod
    def _is_a_ratio(cls, text: str) -> str:
        ratio_of(text)
        return text

    def target_hz(self, tone_hz: float) -> float:
        """The pitch aimed at from a tone."""
        if self.target is Target.PITCH:
            return self.pitch_hz
        if self.target is Target.INTERVAL:
            return self.oscillator_hz * float(ratio_of(self.ratio))
        from math import log2

        return float(self.concert_a_hz * 2 ** (round(12 * log2(tone_hz / self.concert_a_hz)) / 12))

    def changed(self, **changes: Any) -> WhistleSetting:
        """With some of it changed. Raises pydantic's ValidationError for what is out of range."""
        return WhistleSetting.model_validate({**self.model_dump(), **changes})


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
