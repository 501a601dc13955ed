"""A number with its uncertainty."""

from __future__ import annotations

from dataclasses import dataclass

COVERAGE = 2.0  # standard deviations in a stated uncertainty: 95 % for a normal error
UNSURE = 1.04  # re what evened draws scatter by: their noise is itself an estimate
FEW_DRAWS = 1.08  # the same of a hundred that scatter as they like


@dataclass(frozen=True, slots=True)
class Uncertain:
    """value ± uncertainty (95 %), both in the unit that the holder's name states."""

    value: float
    uncertainty: float
