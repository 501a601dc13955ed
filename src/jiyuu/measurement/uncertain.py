"""A number with its uncertainty."""

from __future__ import annotations

from dataclasses import dataclass

COVERAGE = 2.0  # standard deviations in a stated uncertainty: 95 % for a normal error


@dataclass(frozen=True, slots=True)
class Uncertain:
    """value ± uncertainty (95 %), both in the unit that the holder's name states."""

    value: float
    uncertainty: float
