"""The whistle beside a played source: how loud it is against it, and the position of the control at which it sits as
asked (the balance point)."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.signals.transforms import rfft

LINE_BINS = 4  # half the main lobe of the window
SILENT_DB = -90.0
NEAR_OCTAVES = 0.6
CATCHING_OCTAVES = 0.35  # no harmonic farther off catches a whistle
LOCKED_DB = 25.0  # a whistle this far under the harmonic beside it has been caught by it
PLACES, ROUND = 10, 7  # positions listened at first; in each round of closing in
FINEST_PERCENT = 1e-4
CALM_DB = 6.0  # what lies between two neighbours of a round: no jump hides there
LAST_SHARE = 0.1  # of the travel, over which a whistle is judged to take over or to colour


@dataclass(frozen=True, slots=True)
class WhistleLevel:
    """level_db: RMS of the whistle re RMS of everything else; SILENT_DB where there is none. locked: it runs on a
    harmonic of the source, and level_db is that harmonic's re the others."""

    frequency_hz: float
    level_db: float
    locked: bool


def whistle_level(
    recording_v: FloatArray, sample_rate_hz: float, *, pitch_hz: float | None, near_hz: float, may_lock: bool = True
) -> WhistleLevel:
    """recording_v (n,): settled output with a source of pitch_hz, None for one without a pitch;
    near_hz: about where the filter whistles. may_lock: the filter would whistle by itself here. Raises MeasurementError
    where the recording is too short to tell the source's harmonics apart."""
    record = np.asarray(recording_v, dtype=float)
    per_bin = sample_rate_hz / record.size
    if pitch_hz is not None and pitch_hz < 3 * LINE_BINS * per_bin:
        raise MeasurementError(f"The recording is too short to tell harmonics {pitch_hz:.0f} Hz apart; make it longer.")
    window = _window(record.size)
    power = np.abs(rfft((record - record.mean()) * window)) ** 2 / float(np.sum(window**2)) * 2 / record.size
    hertz = np.arange(power.size) * per_bin
    total = float(power.sum())
    if total <= 0:
        return WhistleLevel(near_hz, SILENT_DB, False)
    near = np.abs(np.log2(np.maximum(hertz, per_bin) / near_hz)) < NEAR_OCTAVES
    free = np.where(near, power, 0.0)
    if pitch_hz is not None:
        beside = np.abs(hertz / pitch_hz - np.round(hertz / pitch_hz)) * pitch_hz
        free = np.where(beside > (LINE_BINS + 1) * per_bin, free, 0.0)
    place = int(np.argmax(free))
    line = _line(power, place)
    if pitch_hz is not None and may_lock:
        number = max(1, round(near_hz / pitch_hz))
        # Low harmonics stand far apart: one far from the whistle is loud for reasons of its own.
        numbers = [n for n in (number - 1, number, number + 1)
                   if n == number or (n >= 1 and abs(np.log2(n * pitch_hz / near_hz)) < CATCHING_OCTAVES)]
        places = [round(n * pitch_hz / per_bin) for n in numbers]
        strongest = max(places, key=lambda p: _line(power, p))
        caught = _line(power, strongest)
        if line < caught * 10 ** (-LOCKED_DB / 10):
            return WhistleLevel(float(strongest * per_bin), _db(caught, total - caught), True)
    if line <= 0 or free[place] < 20 * float(np.median(power[near])):
        return WhistleLevel(near_hz, SILENT_DB, False)
    return WhistleLevel(float(hertz[place]), _db(line, total - line), False)


def _window(size: int) -> FloatArray:
    """Four-term Blackman–Harris: side lobes at −92 dB (Harris 1978, Proceedings of the IEEE)."""
    t = 2 * np.pi * np.arange(size) / size
    return np.asarray(0.35875 - 0.48829 * np.cos(t) + 0.14128 * np.cos(2 * t) - 0.01168 * np.cos(3 * t))


def _line(power: FloatArray, place: int) -> float:
    return float(power[max(place - LINE_BINS, 0) : place + LINE_BINS + 1].sum())


def _db(one: float, other: float) -> float:
    return max(SILENT_DB, float(10 * np.log10(max(one, 1e-30) / max(other, 1e-30))))


@dataclass(frozen=True, slots=True)
class BalancePoint:
    """percent: where the tone sits at the level asked, level_db there, caught: on a harmonic of the source (the filter
    rings with it or is held by it); percent_per_db: how far one may turn for a decibel. None where it never sits there.
    full_db: its level at the end of the travel; last_db: what it gains over the last tenth. caught_percent: from where
    to where past the onset the source holds the whistle, or None."""

    target_db: float
    percent: float | None
    level_db: float | None
    percent_per_db: float | None
    caught: bool
    full_db: float
    last_db: float
    caught_percent: tuple[float, float] | None


def find_balance(
    levels_at: Callable[[Sequence[float]], Sequence[WhistleLevel]], *, onset_percent: float, target_db: float = -6.0,
    accuracy_db: float = 0.2,
) -> BalancePoint:
    """levels_at: positions in % -> the tone at each. From half the way to the onset up, the first place at which a
    turning hand meets the target; then closing in, several positions at once. Raises MeasurementError for an onset that
    is not on the travel."""
    if not 0 <= onset_percent < 100:
        raise MeasurementError("The filter does not whistle within the travel of its control, so there is no balance "
                               "point.")
    past = onset_percent + (100.0 - onset_percent) * np.linspace(0.02, 1.0, PLACES)
    places = [*np.linspace(0.5, 0.98, PLACES // 2) * onset_percent, *past]
    places = [float(min(place, 100.0)) for place in places]
    *found, late = levels_at([*places, max(100.0 - 100.0 * LAST_SHARE, float(past[0]))])
    caught = [p for p, level in zip(places, found, strict=True) if level.locked and p > onset_percent]
    full = found[-1].level_db
    ends = full, full - late.level_db, (caught[0], caught[-1]) if caught else None
    met = _met(found, target_db)
    if met is None:
        return BalancePoint(target_db, None, None, None, False, *ends)
    while True:
        low, high, below, above = places[met], places[met + 1], found[met], found[met + 1]
        if high - low < FINEST_PERCENT:  # the level jumps
            nearer = abs(below.level_db - target_db) < abs(above.level_db - target_db)
            middle, level = (low, below) if nearer else (high, above)
            break
        places = np.linspace(low, high, ROUND + 2).tolist()
        found = [below, *levels_at(places[1:-1]), above]
        nearest = int(np.argmin([abs(one.level_db - target_db) for one in found[1:-1]])) + 1
        middle, level = places[nearest], found[nearest]
        met = _met(found, target_db) or 0
        steep = found[met + 1].level_db - found[met].level_db
        if abs(level.level_db - target_db) < accuracy_db and steep < CALM_DB:
            break
    per_db = (places[met + 1] - places[met]) / max(found[met + 1].level_db - found[met].level_db, 1e-3)
    return BalancePoint(target_db, middle, level.level_db, per_db, level.locked, *ends)


def _met(found: Sequence[WhistleLevel], target_db: float) -> int | None:
    """The first place between two levels at which a turning hand meets the target."""
    return next((i for i, (below, above) in enumerate(pairwise(found))
                 if below.level_db < target_db <= above.level_db), None)
