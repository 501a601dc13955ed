"""A finding: one quantity with its number, unit, uncertainty, tolerance, and where it came from.

Screens, reports, the command line and the logbook all show this value through `sentence`; none formats its own.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any


class Verdict(StrEnum):
    """A stamp. UNJUDGED where no tolerance was set; UNCERTAIN where the uncertainty reaches across its edge."""

    UNJUDGED = "noted"
    INSIDE = "in tolerance"
    UNCERTAIN = "too close to say"
    OUTSIDE = "out of tolerance"


@dataclass(frozen=True, slots=True)
class Tolerance:
    low: float
    high: float


@dataclass(frozen=True, slots=True)
class Finding:
    """quantity: one of QUANTITIES. uncertainty: 95 %, same unit. settings: what the filter and rig were set to."""

    quantity: str
    value: float
    unit: str
    uncertainty: float | None = None
    tolerance: Tolerance | None = None
    settings: Mapping[str, Any] = field(default_factory=dict)
    measured: bool = True

    @property
    def verdict(self) -> Verdict:
        if self.tolerance is None:
            return Verdict.UNJUDGED
        doubt = self.uncertainty or 0.0
        low, high = self.tolerance.low, self.tolerance.high
        if low <= self.value - doubt and self.value + doubt <= high:
            return Verdict.INSIDE
        if self.value + doubt < low or self.value - doubt > high:
            return Verdict.OUTSIDE
        return Verdict.UNCERTAIN


@dataclass(frozen=True, slots=True)
class Quantity:
    """How a quantity is named, said, and measured (its help in place)."""

    title: str
    says: Callable[[Finding], str]
    meaning: str
    how: str
