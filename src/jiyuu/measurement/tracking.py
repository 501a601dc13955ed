"""How a filter's pitch follows its control volts: error, line, usable span, key follow, drift."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.staircase import Staircase
from jiyuu.measurement.uncertain import COVERAGE, Uncertain
from jiyuu.quantities import C4_HZ

STEP_FLOOR_CENTS = 0.02  # what two readings of one step differ by at best
TOLERANCES_CENTS = (2.0, 5.0, 20.0)


@dataclass(frozen=True, slots=True, eq=False)
class Readings:
    """A table of tracking: volts, frequency_hz and its 95 % uncertainty, level, each (m,) in the order played.
    settled_s: NaN where it is not known; level_v: NaN where what was tracked is not a tone."""

    volts: FloatArray
    frequency_hz: FloatArray
    uncertainty_hz: FloatArray
    level_v: FloatArray
    settled_s: FloatArray

    @property
    def uncertainty_cents(self) -> FloatArray:
        return np.asarray(1200 / np.log(2) * self.uncertainty_hz / self.frequency_hz)


@dataclass(frozen=True, slots=True)
class Span:
    """The longest run of neighbouring steps inside a tolerance."""

    from_v: float
    to_v: float
    octaves: float

    @property
    def volts(self) -> float:
        return self.to_v - self.from_v


@dataclass(frozen=True, slots=True, eq=False)
class Tracking:
    """error_cents (m,) against exact 1 V/octave through the step at reference_v; residual_cents (m,) against the
    fitted line. scale_v_per_octave: volts an octave takes; offset_cents: the line at 0 V re zero_hz. Spans None where
    no step is inside."""

    readings: Readings
    reference_v: float
    error_cents: FloatArray
    residual_cents: FloatArray
    scale_v_per_octave: Uncertain
    offset_cents: Uncertain
    tolerance_cents: float
    usable: Span | None
    usable_after_trim: Span | None

    @property
    def worst_cents(self) -> float:
        return float(np.abs(self.error_cents).max())


def readings_of(staircase: Staircase) -> Readings:
    """The table of the steps found in a recording."""
    tones = staircase.tones
    return Readings(
        np.array(staircase.volts), np.array([t.frequency_hz.value for t in tones]),
        np.array([t.frequency_hz.uncertainty for t in tones]), np.array([t.amplitude_peak_v for t in tones]),
        np.array([np.nan if t.settled_s is None else t.settled_s for t in tones]),
    )


def read_tracking(
    readings: Readings, *, reference_v: float | None = None, tolerance_cents: float = 5.0, zero_hz: float = C4_HZ
) -> Tracking:
    """Judges a table. Raises MeasurementError where the reference is none of its steps, or they do not rise."""
    volts, octaves = readings.volts, np.log2(readings.frequency_hz)
    reference = float(volts[0]) if reference_v is None else reference_v
    at = np.flatnonzero(np.abs(volts - reference) < 1e-9)
    if not at.size:
        there = ", ".join(f"{v:g}" for v in volts)
        raise MeasurementError(f"No step was measured at the reference of {reference:g} V; choose one of {there}.")
    error = 1200 * (octaves - octaves[at[0]] - (volts - volts[at[0]]))
    slope, start, slope_doubt, start_doubt = _line(volts, octaves, readings.uncertainty_cents / 1200)
    if slope <= 0.01:
        raise MeasurementError("The pitch does not rise with the volts given; check the order of the steps, or whether "
                               "the control voltage reached the filter.")
    residual = 1200 * (octaves - start - slope * volts)
    return Tracking(
        readings, reference, np.asarray(error), np.asarray(residual),
        Uncertain(1 / slope, slope_doubt / slope**2),
        Uncertain(1200 * (start - float(np.log2(zero_hz))), 1200 * start_doubt),
        tolerance_cents, longest_span(volts, octaves, np.abs(error) <= tolerance_cents),
        longest_span(volts, octaves, np.abs(residual) <= tolerance_cents),
    )


def _line(volts: FloatArray, octaves: FloatArray, doubt: FloatArray) -> tuple[float, float, float, float]:
    """Least squares: slope in octaves per volt, octaves at 0 V, and their 95 % uncertainties: from the readings' own
    or from what they leave off the line, whichever is larger."""
    middle = float(volts.mean())
    away = volts - middle
    spread = float(away @ away)
    slope = float(away @ octaves) / spread
    mean = float(octaves.mean())
    left = octaves - mean - slope * away
    own = float(np.sqrt(np.mean((doubt / COVERAGE) ** 2 + (STEP_FLOOR_CENTS / 1200) ** 2)))
    off = float(np.sqrt(left @ left / (volts.size - 2))) if volts.size > 2 else 0.0
    deviation = max(own, off)
    slope_doubt = COVERAGE * deviation / np.sqrt(spread)
    start_doubt = float(np.hypot(COVERAGE * deviation / np.sqrt(volts.size), slope_doubt * middle))
    return slope, mean - slope * middle, float(slope_doubt), start_doubt


def longest_span(volts: FloatArray, octaves: FloatArray, inside: NDArray[np.bool_]) -> Span | None:
    """The longest run of steps, neighbours by volts, that are all inside; None where none is."""
    order = np.argsort(volts, kind="stable")
    best: Span | None = None
    start: int | None = None
    for place, i in enumerate(order):
        if not inside[i]:
            start = None
            continue
        start = place if start is None else start
        first = order[start]
        found = Span(float(volts[first]), float(volts[i]), float(octaves[i] - octaves[first]))
        if best is None or found.volts > best.volts:
            best = found
    return best


def longest_spans_v(volts: FloatArray, inside: NDArray[np.bool_]) -> FloatArray:
    """(m,) V of the longest span of each row of inside (m, n), over rising volts (n,); −1 where none is."""
    longest, begun = np.full(len(inside), -1.0), np.full(len(inside), np.nan)
    for at_v, is_inside in zip(volts, inside.T, strict=True):
        begun = np.where(is_inside, np.where(np.isnan(begun), at_v, begun), np.nan)
        longest = np.fmax(longest, at_v - begun)
    return longest


@dataclass(frozen=True, slots=True)
class Drift:
    """How pitch moves with time or temperature: cents per unit of it, and the whole way between the ends."""

    rate: Uncertain
    whole_cents: float


def drift(place: FloatArray, frequency_hz: FloatArray) -> Drift:
    """place (m,): minutes or °C; frequency_hz (m,) read there. Raises MeasurementError under three readings."""
    if place.size < 3 or not np.ptp(place):
        raise MeasurementError("Drift needs at least three readings at different times or temperatures.")
    octaves = np.log2(frequency_hz)
    slope, _, doubt, _ = _line(np.asarray(place, dtype=float), octaves, np.zeros(place.size))
    return Drift(Uncertain(1200 * slope, 1200 * doubt), 1200 * slope * float(np.ptp(place)))
