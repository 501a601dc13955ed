"""What the drawing of a filter says about its resonance: the map over frequency and control, the curves against the
control, and how even its taper is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.linear import onset
from jiyuu.circuits.many_units import exact_levels, levels_over_resonance
from jiyuu.circuits.network import Network
from jiyuu.errors import MeasurementError
from jiyuu.measurement.resonance_curves import ResonanceCurves, read_resonance
from jiyuu.measurement.taper import PEAK_CEILING_DB, TaperReading, read_taper
from jiyuu.prediction.taper_proposals import ProposedTaper, propose_taper

MAP_POSITIONS, MAP_FREQUENCIES = 200, 480
MAP_HZ = np.geomspace(16.0, 21_000.0, MAP_FREQUENCIES)
READ_PER_OCTAVE = 96
NOTCH_DEPTH_DB = 3.0
CURVE_POSITIONS = 41


@dataclass(frozen=True, slots=True, eq=False)
class ResonanceMap:
    """level_db (modes, p, n) over position_percent (p,) and frequency_hz (n,); peak_hz, notch_hz (modes, p): tracks of
    the highest peak and the deepest notch, NaN where there is none; onset_percent None when it never whistles."""

    modes: tuple[str, ...]
    position_percent: FloatArray
    frequency_hz: FloatArray
    level_db: FloatArray
    peak_hz: FloatArray
    notch_hz: FloatArray
    onset_percent: float | None

    def slice_db(self, mode: str, percent: float) -> FloatArray:
        """(n,) level of a mode at a position between two rows of the map."""
        rows = self.level_db[self.modes.index(mode)]
        place = float(np.interp(percent, self.position_percent, np.arange(self.position_percent.size)))
        low = min(int(place), self.position_percent.size - 2)
        return np.asarray(rows[low] + (place - low) * (rows[low + 1] - rows[low]))


def onset_percent_of(document: Filter, network: Network, cutoff_hz: float) -> float | None:
    """Position of the control at which self-oscillation begins; None when it lies past the end or nowhere."""
    found = onset(network, cutoff_hz=cutoff_hz)
    if found is None:
        return None
    percent = document.percent_at(found.gain)
    return percent if percent <= 100 else None


def resonance_map(
    document: Filter, network: Network, modes: Sequence[str], *, cutoff_hz: float, onset_percent: float | None,
    positions: int = MAP_POSITIONS, frequency_hz: FloatArray = MAP_HZ,
) -> ResonanceMap:
    """The map of some modes at one cutoff. Quick enough to follow a hand; the onset is given, since it takes longer and
    moves only with the circuit's parameters."""
    percent = np.linspace(0.0, 100.0, positions)
    gains = document.gains_at(percent)
    level = levels_over_resonance(network, frequency_hz, modes, cutoff_hz=cutoff_hz, gains=gains)
    return ResonanceMap(
        tuple(modes), percent, frequency_hz, level, _track(level, frequency_hz, +1), _track(level, frequency_hz, -1),
        onset_percent,
    )


def _track(level_db: FloatArray, frequency_hz: FloatArray, sign: int) -> FloatArray:
    """(modes, p) frequency of the highest inner maximum (sign +1), or of the deepest inner minimum (−1) that lies at
    least 3 dB under the curve on both of its sides: where a parabola through three points turns, or the track of a
    broad peak would go in steps. frequency_hz (n,) even in octaves."""
    turned = sign * level_db
    inner = (turned[..., 1:-1] > turned[..., :-2]) & (turned[..., 1:-1] >= turned[..., 2:])
    height = np.where(inner, turned[..., 1:-1], -np.inf)
    best = np.argmax(height, axis=-1)
    there = np.isfinite(np.take_along_axis(height, best[..., np.newaxis], -1)[..., 0])
    left, top, right = (np.take_along_axis(turned, best[..., np.newaxis] + i, -1)[..., 0] for i in range(3))
    beside = np.clip(0.5 * (right - left) / np.maximum(2 * top - left - right, 1e-12), -0.5, 0.5)
    place = frequency_hz[best + 1] * (frequency_hz[1] / frequency_hz[0]) ** beside
    if sign < 0:
        lowest = np.take_along_axis(level_db, best[..., np.newaxis] + 1, -1)[..., 0]
        index = np.arange(level_db.shape[-1])
        before = np.where(index <= best[..., np.newaxis], level_db, -np.inf).max(axis=-1)
        after = np.where(index > best[..., np.newaxis], level_db, -np.inf).max(axis=-1)
        there &= (before - lowest > NOTCH_DEPTH_DB) & (after - lowest > NOTCH_DEPTH_DB)
    return np.where(there, place, np.nan)


@dataclass(frozen=True, slots=True, eq=False)
class ResonanceStudy:
    """One mode against its control, below the onset: the curves read, the level of the curves they were read from
    (level_db (p, n) over frequency_hz (n,)), the taper and what would be more even (most even first)."""

    mode: str
    onset_percent: float | None
    curves: ResonanceCurves
    frequency_hz: FloatArray
    level_db: FloatArray
    taper: TaperReading | None
    why_no_taper: str
    proposals: tuple[ProposedTaper, ...]


def study_resonance(
    document: Filter, network: Network, mode: str, *, cutoff_hz: float, with_proposals: bool = True
) -> ResonanceStudy:
    """Some 41 positions up to just under the onset, read one by one (tens of milliseconds).

    Raises MeasurementError where the curves cannot be read."""
    onset_percent = onset_percent_of(document, network, cutoff_hz)
    last = 100.0 if onset_percent is None else 0.995 * onset_percent
    percent = np.linspace(0.0, last, CURVE_POSITIONS)
    low, high = min(8.0, cutoff_hz / 16), max(21_000.0, cutoff_hz * 16)
    count = int(np.log2(high / low) * READ_PER_OCTAVE) + 1
    frequency_hz = low * 2 ** (np.arange(count) / READ_PER_OCTAVE)

    def levels(gains: FloatArray) -> FloatArray:
        return levels_over_resonance(network, frequency_hz, [mode], cutoff_hz=cutoff_hz, gains=gains)[0]

    level_db = levels(document.gains_at(percent))
    curves = read_resonance(
        percent, frequency_hz, level_db, cutoff_hz=cutoff_hz,
        exact=exact_levels(network, mode, cutoff_hz=cutoff_hz, gains=document.gains_at(percent)))
    amount = curves.amount_db
    if amount is None:
        why = "This mode has no peak to judge the control by; look at a lowpass or bandpass of the same circuit."
        return ResonanceStudy(mode, onset_percent, curves, frequency_hz, level_db, None, why, ())
    try:
        taper = read_taper(percent, amount, onset_percent=onset_percent, ceiling_db=PEAK_CEILING_DB)
    except MeasurementError as error:
        return ResonanceStudy(mode, onset_percent, curves, frequency_hz, level_db, None, str(error), ())
    proposals: tuple[ProposedTaper, ...] = ()
    if with_proposals:
        full = document.gain_at(100.0)
        gains = document.gains_at(percent)

        def value(share: FloatArray) -> FloatArray:
            return np.asarray(np.interp(share * full, gains, amount))

        at = None if onset_percent is None else document.gain_at(onset_percent) / full
        proposals = propose_taper(value, onset_share=at)
    return ResonanceStudy(mode, onset_percent, curves, frequency_hz, level_db, taper, "", proposals)
