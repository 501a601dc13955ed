"""How evenly a control does its work: evenness, dead travel, suddenness at the onset; and which taper would be even.

Works on any quantity against the position of a control; resonance is judged by its peak in dB.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from jiyuu.circuits.control import Taper, loaded_share, taper_share
from jiyuu.circuits.network import FloatArray
from jiyuu.errors import MeasurementError

WIDEST_PERCENT = 5.0
PEAK_CEILING_DB = 30.0  # a peak this high is a hair's breadth from self-oscillation; what follows is not travel
DEAD_SHARE = 0.05  # dead: changes by less than this share of the control's average
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
    fine = _FINE[(x[0] <= _FINE) & (x[-1] >= _FINE)]
    run = np.interp(fine, x, y)
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
        top = float(np.interp(min(high, x[-1]), x, y))
        if low >= x[0] and min(high, x[-1]) > low:
            rise = (top - float(np.interp(low, x, y))) / (min(high, x[-1]) - low)
        loud = np.flatnonzero(run >= 12.0)
        stretch = onset_percent - float(fine[loud[0]]) if loud.size else None
    return TaperReading(
        evenness=float(shares[steepest]), steepest_percent=float(min(fine[steepest] + 10.0, last)),
        dead=_dead(fine, walked, last), suddenness_db_per_percent=rise, last_stretch_percent=stretch,
    )


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


@dataclass(frozen=True, slots=True)
class ProposedTaper:
    """A taper that could be built. resistor_share: resistance across the control re the control's own, None for a bare
    control; to_ground: whether it lies between wiper and ground (else wiper and top)."""

    name: str
    evenness: float
    table: tuple[tuple[float, float], ...]
    resistor_share: float | None = None
    to_ground: bool = True


def propose_taper(value_of_share: Callable[[FloatArray], FloatArray], *, onset_share: float | None
                  ) -> tuple[ProposedTaper, ...]:
    """Tapers worth building, the most even first.

    value_of_share: quantity in dB for shares (m,) of the full loop gain. onset_share: where self-oscillation begins,
    None when it never does. What cannot be read (onset at once) is left out."""
    travel = np.linspace(0.0, 1.0, 201)
    candidates: list[tuple[str, FloatArray, float | None, bool]] = [
        (f"{taper.value} control", np.asarray(taper_share(travel, taper)), None, True) for taper in Taper
    ]
    for ratio in (0.1, 0.15, 0.22, 0.33, 0.47, 0.68, 1.0, 1.5):
        for to_ground in (True, False):
            place = "ground" if to_ground else "top"
            name = f"linear control with {ratio:g} of its value from wiper to {place}"
            candidates.append((name, loaded_share(travel, ratio, to_ground=to_ground), ratio, to_ground))
    found = []
    for name, share, resistor, to_ground in candidates:
        onset: float | None = None
        if onset_share is not None and onset_share <= 1:
            onset = float(100 * np.interp(onset_share, share, travel))
        try:
            reading = read_taper(100 * travel, value_of_share(share), onset_percent=onset, ceiling_db=PEAK_CEILING_DB)
        except MeasurementError:
            continue
        table = tuple((round(float(t), 6), round(float(s), 6)) for t, s in zip(travel[::10], share[::10], strict=True))
        found.append(ProposedTaper(name, reading.evenness, table, resistor, to_ground))
    return tuple(sorted(found, key=lambda proposal: proposal.evenness))
