"""The trims of a board: where they stand, which way they go and what a turn of them is worth by the drawing.

Multi-turn trimmers, counted in turns clockwise from where the drawing has them: the middle, for the high-frequency trim
the end at which it adds nothing. Clockwise raises: pitch, octaves per volt, what is added back at the top, loop gain.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum

from jiyuu.errors import CircuitError


class Trim(StrEnum):
    SCALE = "scale"
    OFFSET = "offset"
    HIGH_FREQUENCY = "hf"
    RESONANCE = "resonance"


@dataclass(frozen=True, slots=True)
class TrimRange:
    """title as a board has it; per_turn in the unit; turns the trim has below and above where it starts."""

    title: str
    per_turn: float
    unit: str
    least: float
    most: float


RANGES = {
    Trim.SCALE: TrimRange("Scale trim", 0.25, "% of an octave per volt", -10.0, 10.0),
    Trim.OFFSET: TrimRange("Offset trim", 15.0, "cents", -10.0, 10.0),
    Trim.HIGH_FREQUENCY: TrimRange("High-frequency trim", 2.0, "cents at 10 kHz", 0.0, 20.0),
    Trim.RESONANCE: TrimRange("Resonance trim", 2.0, "% of loop gain", -10.0, 10.0),
}


@dataclass(frozen=True, slots=True)
class Trims:
    """Turns from where the drawing has each trim. Raises CircuitError past the end of one."""

    scale: float = 0.0
    offset: float = 0.0
    hf: float = 0.0
    resonance: float = 0.0

    def __post_init__(self) -> None:
        for trim, allowed in RANGES.items():
            if not allowed.least <= self[trim] <= allowed.most:
                raise CircuitError(f"{allowed.title} at {self[trim]:g} turns is past its end; it goes from "
                                   f"{allowed.least:g} to {allowed.most:g}.")

    def __getitem__(self, trim: Trim) -> float:
        return float(getattr(self, trim.value))

    def turned(self, trim: Trim, turns: float) -> Trims:
        """Turned further by so many turns, as far as it goes."""
        allowed = RANGES[trim]
        place = min(max(self[trim] + turns, allowed.least), allowed.most)
        return replace(self, **{trim.value: place})

    def as_json(self) -> dict[str, float]:
        return {trim.value: self[trim] for trim in Trim}


def turns_for(trim: Trim, amount: float) -> float:
    """Turns that by the drawing move a trim by an amount in its unit."""
    return amount / RANGES[trim].per_turn
