"""How evenly a control does its work: evenness, dead travel, suddenness at the onset; and which taper would be even.

Works on any quantity against the position of a control; resonance is judged by its peak in dB.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError

WIDEST_PERCENT = 5.0
PEAK_CEILING_DB = 30.0  # a peak this high is a hair's breadth from self-oscillation; what follows is not travel
DEAD_SHARE = 0.05  # dead: changes by less than this share of the control's average
LAWFUL_DB = 6.0  # from a peak of which on one pair of poles makes it
SHORTEST_DEAD_PERCENT = 3.0
_FINE = np.linspace(0.0, 100.0, 1001)


@dataclass(frozen=True, slots=True)
class DeadTravel:
    """A stretch of the control that does next to nothing, in % of the travel."""

    from_percent: float
    to_percent: float


@dataclass(frozen=True, slots=True)
class TaperReading:
    """evenness: largest share of the whole change in any tenth of the travel (0.1 is perfect), which ends at
    steepest_percent; dead travel; suddenness_db_per_percent over the last 5 % before the onset, None without one;
    last_stretch_percent: travel between a peak of 12 dB and the onset."""

    evenness: float
    steepest_percent: float
    dead: tuple[DeadTravel, ...]
    suddenness_db_per_percent: float | None
    last_stretch_percent: float | None

    @property
    def dead_percent(self) -> float:
        return sum(stretch.to_percent - stretch.from_percent for stretch in self.dead)


def read_taper(
    position_percent: FloatArray, values_db: FloatArray, *, onset_percent: float | None = None,
    ceiling_db: float | None = None,
) -> TaperReading:
    """position_percent (p,) rising from 0, values_db (p,) finite. Positions past the onset do not count, nor does
    travel from where the values reach the ceiling.

    Raises MeasurementError for positions more than 5 % apart or where nothing changes."""
    if position_percent.size < 2 or np.diff(position_percent).max() > WIDEST_PERCENT:
        raise MeasurementError(
            f"A taper needs positions at most {WIDEST_PERCENT:g} % of the travel apart (21 in all); measure more."
        )
    last = 100.0 if onset_percent is None else min(onset_percent, 100.0)
    inside = position_percent < last if onset_percent is not None else np.ones(position_percent.size, dtype=bool)
    x, y = position_percent[inside], values_db[inside]
    if x.size < 3:
        raise MeasurementError("Self-oscillation begins before the third position; measure finer.")
    # Nobody measures up to the very onset; how a peak grows on its way there is known.
    lawful = onset_percent is not None and onset_percent <= 100 and y[-1] > LAWFUL_DB and ceiling_db is not None
    furthest = min(last, x[-1] + WIDEST_PERCENT) - 1e-3 if lawful else x[-1]
    fine = _FINE[(x[0] <= _FINE) & (max(furthest, x[-1]) >= _FINE)]
    run = _between(fine, x, y, onset_percent)
    if ceiling_db is not None and (run >= ceiling_db).any():
        kept = int(np.argmax(run >= ceiling_db)) + 1
        fine, run = fine[:kept], run[:kept]
        last = float(fine[-1])
    walked = np.concatenate([[0.0], np.cumsum(np.abs(np.diff(run)))])
    whole = float(walked[-1])
    if not whole > 0.05:
        raise MeasurementError("The control changes the sound by less than 0.05 dB over its whole travel; is it wired?")
    ends = np.interp(fine + 10.0, fine, walked)
    shares = (ends - walked) / whole
    steepest = int(np.argmax(shares))
    rise = stretch = None
    if onset_percent is not None and onset_percent <= 100:
        high, low = onset_percent - 0.5, onset_percent - 5.5
        high = high if lawful else min(high, x[-1])
        if low >= x[0] and high > low:
            top, foot = _between(np.array([high, low]), x, y, onset_percent)
            rise = float(top - foot) / (high - low)
        loud = np.flatnonzero(run >= 12.0)
        stretch = onset_percent - float(fine[loud[0]]) if loud.size else None
    return TaperReading(
        evenness=float(shares[steepest]), steepest_percent=float(min(fine[steepest] + 10.0, last)),
        dead=_dead(fine, walked, last), suddenness_db_per_percent=rise, last_stretch_percent=stretch,
    )


def _between(
    places: FloatArray, x: FloatArray, y: FloatArray, onset_percent: float | None
) -> FloatArray:
    """Values between the positions. Where a peak stands before its onset it grows as one over what is left to go, and
    a straight line from one position to the next would lie above it: there that law is taken out first."""
    straight = np.interp(places, x, y)
    if onset_percent is None:
        return np.asarray(straight)

    def law(at: FloatArray) -> FloatArray:
        return np.asarray(-20 * np.log10(np.maximum(onset_percent - at, 1e-6)))

    place = np.clip(np.searchsorted(x, places, side="right") - 1, 0, x.size - 2)
    lawful = (np.minimum(y[place], y[place + 1]) > LAWFUL_DB) & (places < onset_percent)
    bent = np.interp(places, x, y - law(x)) + law(places)
    return np.asarray(np.where(lawful, bent, straight))


def _dead(fine: FloatArray, walked: FloatArray, last: float) -> tuple[DeadTravel, ...]:
    """Stretches whose change per % stays under a twentieth of the average."""
    average = walked[-1] / max(last - fine[0], 1e-9)
    still = np.gradient(walked, fine) < DEAD_SHARE * average
    edges = np.flatnonzero(np.diff(np.concatenate([[False], still, [False]]).astype(int)))
    stretches = [
        DeadTravel(float(fine[start]), float(fine[min(stop, fine.size - 1)]))
        for start, stop in zip(edges[::2], edges[1::2], strict=True)
    ]
    return tuple(s for s in stretches if s.to_percent - s.from_percent >= SHORTEST_DEAD_PERCENT)
