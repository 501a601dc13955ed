"""What resonance does, against the position of its control: peak, body kept, sharpness, extra humps, output level.

Reads curves at many positions, predicted or measured; the first position is the one the others are compared with.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.curve_reading import CurveReading, Hump, Kind, read_curve
from jiyuu.measurement.sampled_curve import SampledCurve

SHARP_DB = 0.02
BODY_OCTAVES = 3.0  # body is read this far into the passband from the cutoff


@dataclass(frozen=True, slots=True, eq=False)
class ResonanceCurves:
    """Arrays (p,) over position_percent; NaN where a curve has no such thing.

    body_db: level three octaves into the passband re the first position (for a bandpass: on the bass side).
    peak_db: highest point re the passband of the same curve. highest_db: highest point re the input.
    peak_over_first_db: highest point re the first position's highest. q: by bandwidth. humps: besides the peak."""

    position_percent: FloatArray
    kind: Kind
    body_hz: float
    body_db: FloatArray
    passband_db: FloatArray
    peak_hz: FloatArray
    peak_db: FloatArray
    highest_db: FloatArray
    bandwidth_hz: FloatArray
    q: FloatArray
    humps: tuple[tuple[Hump, ...], ...]

    @property
    def peak_over_first_db(self) -> FloatArray:
        return np.asarray(self.highest_db - self.highest_db[0])

    @property
    def amount_db(self) -> FloatArray | None:
        """(p,) how much resonance there is: peak re the passband, 0 before there is one; a bandpass's peak re the
        first position. None for a notch or a flat curve, which have no peak to judge by."""
        if self.kind is Kind.BANDPASS:
            return self.peak_over_first_db
        return np.nan_to_num(self.peak_db) if self.kind in (Kind.LOWPASS, Kind.HIGHPASS) else None

    def at(self, values: FloatArray, percent: float) -> float:
        """One of the arrays at a position between two of its own."""
        return float(np.interp(percent, self.position_percent, values))


def body_place_hz(kind: Kind, cutoff_hz: float) -> float:
    """Where body is read: three octaves under the cutoff, over it for a highpass."""
    return float(cutoff_hz * 2 ** (BODY_OCTAVES if kind is Kind.HIGHPASS else -BODY_OCTAVES))


def read_resonance(
    position_percent: FloatArray, frequency_hz: FloatArray, level_db: FloatArray, *, cutoff_hz: float,
    kind: Kind | None = None, level_uncertainty_db: FloatArray | None = None,
    exact: Sequence[Callable[[FloatArray], FloatArray] | None] | None = None,
) -> ResonanceCurves:
    """frequency_hz (n,) on a uniform logarithmic grid, level_db (p, n) one row a position, positions rising, with its
    95 % uncertainty where it was measured. kind: of the first position's curve, where it is known already. exact: of
    every position the level at any octaves, None where it is known at the points only; asked where they stand too far
    apart for a peak.

    Raises MeasurementError for fewer than two positions or when body would lie outside the band."""
    if position_percent.size < 2 or (np.diff(position_percent) <= 0).any():
        raise MeasurementError("Resonance is compared over at least two rising positions of its control.")
    doubts = [None] * len(level_db) if level_uncertainty_db is None else list(level_uncertainty_db)
    known = [None] * len(level_db) if exact is None else [
        one if _sharp(row) else None for one, row in zip(exact, level_db, strict=True)]
    first = read_curve(frequency_hz, level_db[0], kind=kind, level_uncertainty_db=doubts[0], exact=known[0])
    body_hz = body_place_hz(first.kind, cutoff_hz)
    if not frequency_hz[0] <= body_hz <= frequency_hz[-1]:
        raise MeasurementError(
            f"Body is read at {body_hz:.0f} Hz and the curves end before it; "
            f"set the cutoff between {frequency_hz[0] * 8:.0f} and {frequency_hz[-1] / 8:.0f} Hz."
        )
    octave = np.log2(frequency_hz)
    body = np.array([np.interp(np.log2(body_hz), octave, row) for row in level_db])
    readings = [first, *(read_curve(frequency_hz, row, kind=first.kind, level_uncertainty_db=doubt, exact=one)
                         for row, doubt, one in zip(level_db[1:], doubts[1:], known[1:], strict=True))]
    widths = [_bandwidth_hz(reading) for reading in readings]
    return ResonanceCurves(
        position_percent=position_percent, kind=first.kind, body_hz=body_hz, body_db=body - body[0],
        passband_db=_array([r.passband_db for r in readings]),
        peak_hz=_array([r.peak_hz for r in readings]), peak_db=_array([r.peak_db for r in readings]),
        highest_db=np.array([_highest(octave, row, one) for row, one in zip(level_db, known, strict=True)]),
        bandwidth_hz=_array(widths), q=_array([r.q for r in readings]),
        humps=tuple(_others(reading) for reading in readings),
    )


def _sharp(level_db: FloatArray) -> bool:
    """Whether some peak bends more from point to point than five of them tell well."""
    return bool(np.abs(np.diff(level_db, 2)).max() > SHARP_DB)


def _highest(octave: FloatArray, level_db: FloatArray, exact: Callable[[FloatArray], FloatArray] | None) -> float:
    place = int(np.argmax(level_db))
    return float(level_db[place]) if exact is None else SampledCurve(octave, level_db, exact).extremum(place)[1]


def _array(values: list[float | None]) -> FloatArray:
    return np.array([np.nan if value is None else value for value in values])


def _bandwidth_hz(reading: CurveReading) -> float | None:
    return None if reading.q is None or reading.peak_hz is None else reading.peak_hz / reading.q


def _others(reading: CurveReading) -> tuple[Hump, ...]:
    if reading.peak_hz is None:
        return reading.humps
    return tuple(h for h in reading.humps if abs(np.log2(h.frequency_hz / reading.peak_hz)) > 0.1)


def output_level_db(
    line_hz: FloatArray, line_power: FloatArray, frequency_hz: FloatArray, level_db: FloatArray
) -> FloatArray:
    """(p,) level of a source after each curve re the source itself, dB.

    The source as lines: line_hz (m,), line_power (m,) in V²; level_db (p, n) over frequency_hz (n,)."""
    place = np.log2(line_hz)
    octave = np.log2(frequency_hz)
    through = np.stack([np.interp(place, octave, row) for row in level_db])
    total = float(line_power.sum())
    # A source turned down to nothing still has a shape: its lines count alike.
    share = line_power / total if total > 0 else np.full(line_power.size, 1 / line_power.size)
    return np.asarray(10 * np.log10(np.maximum(10 ** (through / 10) @ share, 1e-40)))


@dataclass(frozen=True, slots=True)
class Overload:
    """What the next module sees. from_percent: first position over its limit, None when it never is; highest_v: the
    highest level over the travel, reached at highest_percent; trim_db: what brings it back to the limit (0 or less)."""

    from_percent: float | None
    highest_v: float
    highest_percent: float
    trim_db: float


def overload(position_percent: FloatArray, output_v: FloatArray, limit_v: float) -> Overload:
    """output_v (p,): peak volts at each position. Between two positions the level is taken to rise evenly in dB."""
    highest = int(np.argmax(output_v))
    over = np.flatnonzero(output_v > limit_v)
    from_percent: float | None = None
    if over.size:
        i = int(over[0])
        if i == 0:
            from_percent = float(position_percent[0])
        else:
            low, high = np.log(np.maximum(output_v[i - 1 : i + 1], 1e-12))
            share = (np.log(limit_v) - low) / (high - low)
            from_percent = float(position_percent[i - 1] + share * (position_percent[i] - position_percent[i - 1]))
    highest_v = float(output_v[highest])
    trim = min(0.0, float(20 * np.log10(limit_v / max(highest_v, 1e-12))))
    return Overload(from_percent, highest_v, float(position_percent[highest]), trim)
