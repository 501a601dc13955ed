"""A finding: one quantity with its number, unit, uncertainty, tolerance, and where it came from.

Screens, reports, the command line and the logbook all show this value through `sentence`; none formats its own.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from jiyuu.measurement.context import Context


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
    """quantity: a name that wording knows. uncertainty: 95 %, same unit. context: what its sentence needs besides. The
    settings that gave it stand with the run it came from."""

    quantity: str
    value: float
    unit: str
    uncertainty: float | None = None
    tolerance: Tolerance | None = None
    context: Context | None = None
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
