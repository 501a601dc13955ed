"""What a response curve says: its kind, passband, cutoffs, slope, peak, Q, humps, notch.

The same reading serves predicted and measured curves. Conventions: a slope is signed, per octave of rising frequency;
the −3 dB point is where the level is 3.01 dB (half power) under the passband; the passband is the low or high plateau,
or a bandpass's peak.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.curve_peaks import local_maxima, prominence_of
from jiyuu.measurement.sampled_curve import SampledCurve

HALF_POWER_DB = 10 * np.log10(2)
HUMP_PROMINENCE_DB = 1.0
HUMP_OVER_DOUBT = 3.0  # in noise a curve goes up and down by more than its doubt now and then
FLAT_DB_PER_OCTAVE = 3.0
SHOWN_SNR_DB = 6.0  # over the noise: below it nothing of a curve is shown
END_SLOPE, LEVEL_SLOPE = 0.6, 0.35  # dB per octave: an end that is not level; a stretch that is


class Kind(StrEnum):
    LOWPASS = "lowpass"
    HIGHPASS = "highpass"
    BANDPASS = "bandpass"
    NOTCH = "notch"
    FLAT = "flat"


@dataclass(frozen=True, slots=True)
class Hump:
    """A local maximum: level re the passband, how far it stands out, distance from the cutoff in octaves."""

    frequency_hz: float
    level_db: float
    prominence_db: float
    octaves_from_cutoff: float | None


@dataclass(frozen=True, slots=True)
class CurveReading:
    """Values read from one curve; None where the curve does not have the thing (or not within the band).

    Levels in dB; passband_db re the input, peak_db and notch_depth_db re the passband; slopes in dB per octave."""

    kind: Kind
    passband_db: float | None
    cutoff_3db_hz: float | None
    low_3db_hz: float | None
    high_3db_hz: float | None
    peak_hz: float | None
    peak_db: float | None
    q: float | None
    slope_db_per_octave: float | None
    low_slope_db_per_octave: float | None
    first_octave_drop_db: float | None
    notch_hz: float | None
    notch_depth_db: float | None
    notch_width_octaves: float | None
    humps: tuple[Hump, ...]


@dataclass(frozen=True, slots=True)
class SlopeWindow:
    """Where the slope is fitted, in octaves past the −3 dB point."""

    from_octaves: float = 1.0
    to_octaves: float = 3.0


def local_slope(frequency_hz: FloatArray, level_db: FloatArray) -> FloatArray:
    """Slope at every point in dB per octave: straight line through a third of an octave around it.

    frequency_hz (n,) on a uniform logarithmic grid, n ≥ 5."""
    step = float(np.log2(frequency_hz[1] / frequency_hz[0]))
    half = min(max(int(1 / 6 / step), 1), (frequency_hz.size - 1) // 2)
    offset = np.arange(-half, half + 1)
    weights = offset / (step * float(offset @ offset))
    slope = np.empty(frequency_hz.size)
    slope[half : frequency_hz.size - half] = np.correlate(level_db, weights, mode="valid")
    # Near the ends the line of the first and last whole window holds.
    slope[:half], slope[frequency_hz.size - half :] = slope[half], slope[frequency_hz.size - half - 1]
    return slope


def read_curve(
    frequency_hz: FloatArray,
    level_db: FloatArray,
    *,
    usable: NDArray[np.bool_] | None = None,
    level_uncertainty_db: FloatArray | None = None,
    window: SlopeWindow | None = None,
    kind: Kind | None = None,
    with_humps: bool = True,
    exact: Callable[[FloatArray], FloatArray] | None = None,
    slopes_within_hz: tuple[float, float] | None = None,
) -> CurveReading:
    """Read a curve on a uniform logarithmic grid of at least 24 points per octave.

    exact: the level at any octaves (m,), where it is known between the points. slopes_within_hz: where slopes may be
    read, the whole curve when not given.

    usable (n,) boolean: points with an SNR above 10 dB; the curve is read up to the first that is not, from the
    loudest outwards. kind: given for draws of a curve whose kind is known; nobody asks those for humps. Raises
    MeasurementError for a curve of less than an octave."""
    keep = slice(0, frequency_hz.size)
    if usable is not None:
        keep = _around_loudest(frequency_hz, level_db, usable)
    f, level = frequency_hz[keep], level_db[keep]
    if f.size < 24 or f[-1] < 2 * f[0]:
        raise MeasurementError("Less than an octave of the curve stands above the noise; raise the stimulus level.")
    curve = SampledCurve(np.log2(f), level, exact, _octaves_of(slopes_within_hz))
    doubt = 0.0 if level_uncertainty_db is None else level_uncertainty_db[keep]
    found = kind or kind_of(curve.octave, level)
    window = window or SlopeWindow()
    if found in (Kind.LOWPASS, Kind.HIGHPASS):
        reading, apart_from = _read_edge(curve, found, +1 if found is Kind.LOWPASS else -1, window, doubt)
    elif found is Kind.BANDPASS:
        reading, apart_from = _read_bandpass(curve, window)
    else:
        reading, apart_from = _read_notch_or_flat(curve, found, doubt)
    if not with_humps or reading.passband_db is None:
        return reading
    return replace(reading, humps=_humps(curve, reading.passband_db, apart_from, doubt))


def above_noise(
    frequency_hz: FloatArray, level_db: FloatArray, snr_db: FloatArray, least_db: float = SHOWN_SNR_DB
) -> NDArray[np.bool_]:
    """(n,) which points of a measured curve stand out of its noise by so much: of the stretch about the loudest. Beyond
    its end noise does so now and then by itself."""
    clear = snr_db > least_db
    if not clear.any():
        return clear
    stretch = np.zeros(clear.size, dtype=bool)
    stretch[_around_loudest(frequency_hz, level_db, clear)] = True
    return clear & stretch


def _octaves_of(span_hz: tuple[float, float] | None) -> tuple[float, float] | None:
    return None if span_hz is None else (float(np.log2(span_hz[0])), float(np.log2(span_hz[1])))


def _around_loudest(frequency_hz: FloatArray, level_db: FloatArray, usable: NDArray[np.bool_]) -> slice:
    """The usable stretch; a gap of less than half an octave (a notch) does not end it."""
    good = np.flatnonzero(usable)
    if good.size == 0:
        raise MeasurementError("The whole curve lies in the noise; raise the level of the stimulus.")
    breaks = np.flatnonzero(np.diff(np.log2(frequency_hz[good])) > 0.5)
    starts = np.concatenate([[0], breaks + 1])
    ends = np.concatenate([breaks, [good.size - 1]])
    loudest = int(np.argmax(np.where(usable, level_db, -np.inf)))
    for start, end in zip(starts, ends, strict=True):
        if good[start] <= loudest <= good[end]:
            return slice(int(good[start]), int(good[end]) + 1)
    return slice(int(good[0]), int(good[-1]) + 1)


def kind_of(octave: FloatArray, level: FloatArray) -> Kind:
    """From the slopes of the outermost octaves of the usable band."""
    span = min(1.0, (octave[-1] - octave[0]) / 4)
    first, last = octave <= octave[0] + span, octave >= octave[-1] - span
    low = float(np.polyfit(octave[first] - octave[0], level[first], 1)[0])
    high = float(np.polyfit(octave[last] - octave[-1], level[last], 1)[0])
    plateau_low, plateau_high = float(level[first].mean()), float(level[last].mean())
    rises, falls = low > FLAT_DB_PER_OCTAVE, high < -FLAT_DB_PER_OCTAVE
    if rises and falls:
        return Kind.BANDPASS
    if falls:
        return Kind.LOWPASS
    if rises:
        return Kind.HIGHPASS
    dip = min(plateau_low, plateau_high) - float(level.min())
    if plateau_low - plateau_high > 20 and dip < 3:
        return Kind.LOWPASS
    if plateau_high - plateau_low > 20 and dip < 3:
        return Kind.HIGHPASS
    return Kind.NOTCH if dip > 3 else Kind.FLAT


def _plateau(curve: SampledCurve, direction: int) -> float:
    """Level of the passband at the low (direction +1) or high (−1) end.

    Where the curve is not level at its end but runs level for an octave further in (a coupling capacitor lifts the
    lowest bass), that stretch is the passband. Otherwise the curve is continued: 1/|H|² of an all-pole curve is a
    polynomial in f² (f⁻² for a highpass), whose constant term is the plateau even when the band ends too early."""
    octave = curve.octave if direction > 0 else -curve.octave[::-1]
    level = curve.level if direction > 0 else curve.level[::-1]
    octave = octave - octave[0]
    per_octave = round(1 / float(octave[1] - octave[0]))
    slope = local_slope(2.0**octave, level)
    if np.abs(slope[: max(per_octave // 2, 1)]).mean() > END_SLOPE:
        run = _first_run(np.abs(slope) < LEVEL_SLOPE, per_octave)
        if run is not None:
            return float(np.median(level[run]))
    end = float(np.median(level[: max(per_octave // 24, 1)]))
    near = np.abs(level - end) < 1.5
    # Continued by a network it is known there without noise: less of it will do, and the polynomial is the truer.
    beyond = curve.beyond(direction)
    if beyond >= 2 * per_octave and near[: 2 * per_octave].all():
        near = np.arange(octave.size) < 2 * per_octave
    length = int(np.argmin(near)) if not near.all() else near.size
    length = max(min(length, octave.size), 8)
    x = 2.0 ** (2 * (octave[:length] - octave[length - 1]))
    inverse = 10 ** (-(level[:length] - end) / 10)
    constant = float(np.linalg.lstsq(np.stack([np.ones(length), x, x * x], axis=1), inverse, rcond=None)[0][0])
    if constant <= 0:
        return end
    plateau = float(end - 10 * np.log10(constant))
    return plateau if abs(plateau - end) < 1.5 else end


def _first_run(wanted: NDArray[np.bool_], length: int) -> slice | None:
    """The first stretch of at least `length` points that are all wanted."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], wanted, [False]]).astype(int)))
    for start, stop in zip(edges[::2], edges[1::2], strict=True):
        if stop - start >= length:
            return slice(int(start), int(stop))
    return None


def _humps(
    curve: SampledCurve, passband_db: float, reference: float | None, doubt: FloatArray | float
) -> tuple[Hump, ...]:
    humps = []
    least = np.maximum(HUMP_PROMINENCE_DB, HUMP_OVER_DOUBT * np.broadcast_to(doubt, curve.level.shape))
    for i in local_maxima(curve.level):
        prominence = prominence_of(curve.level, int(i))
        if prominence < least[i]:
            continue
        octave, level = curve.extremum(int(i))
        away = None if reference is None else octave - reference
        humps.append(Hump(curve.hz(octave), level - passband_db, prominence, away))
    return tuple(humps)


def _bandwidth(
    curve: SampledCurve, index: int, octave: float, peak_level: float
) -> tuple[float | None, float | None]:
    threshold = peak_level - HALF_POWER_DB
    return curve.falls_through(threshold, index, -1, octave), curve.falls_through(threshold, index, +1, octave)


def _peak(curve: SampledCurve, passband_db: float, doubt: FloatArray | float) -> tuple[float, float, int] | None:
    """(octave, dB re passband, index) of the highest point, when it stands clear of the passband and of its doubt."""
    inner = local_maxima(curve.level)  # a rise towards an end of the band is no peak
    if inner.size == 0:
        return None
    index = int(inner[np.argmax(curve.level[inner])])
    octave, level = curve.extremum(index)
    uncertain = float(np.broadcast_to(doubt, curve.level.shape)[index])
    if level - passband_db <= 2 * uncertain + 0.01:
        return None
    return octave, level - passband_db, index


def _read_edge(
    curve: SampledCurve, kind: Kind, direction: int, window: SlopeWindow, doubt: FloatArray | float
) -> tuple[CurveReading, float | None]:
    passband = _plateau(curve, direction)
    cutoff = curve.last_fall(passband - HALF_POWER_DB, direction)
    peak = _peak(curve, passband, doubt)
    q = None
    if peak is not None:
        low, high = _bandwidth(curve, peak[2], peak[0], passband + peak[1])
        if low is not None and high is not None:
            q = curve.hz(peak[0]) / (curve.hz(high) - curve.hz(low))
    slope = drop = None
    if cutoff is not None:
        near, far = cutoff + direction * window.from_octaves, cutoff + direction * window.to_octaves
        slope = curve.slope(min(near, far), max(near, far))
        octave_on = cutoff + direction
        if curve.may_read(octave_on):
            drop = curve.at(cutoff) - curve.at(octave_on)
    return CurveReading(
        kind=kind, passband_db=passband,
        cutoff_3db_hz=None if cutoff is None else curve.hz(cutoff),
        low_3db_hz=curve.hz(cutoff) if cutoff is not None and direction < 0 else None,
        high_3db_hz=curve.hz(cutoff) if cutoff is not None and direction > 0 else None,
        peak_hz=None if peak is None else curve.hz(peak[0]), peak_db=None if peak is None else peak[1], q=q,
        slope_db_per_octave=slope, low_slope_db_per_octave=None, first_octave_drop_db=drop,
        notch_hz=None, notch_depth_db=None, notch_width_octaves=None,
        humps=(),
    ), cutoff


def _read_bandpass(curve: SampledCurve, window: SlopeWindow) -> tuple[CurveReading, float | None]:
    index = int(np.argmax(curve.level))
    octave, level = curve.extremum(index)
    low, high = _bandwidth(curve, index, octave, level)
    q = None if low is None or high is None else curve.hz(octave) / (curve.hz(high) - curve.hz(low))
    upper = lower = drop = None
    if high is not None:
        upper = curve.slope(high + window.from_octaves, high + window.to_octaves)
        if curve.may_read(high + 1):
            drop = curve.at(high) - curve.at(high + 1)
    if low is not None:
        lower = curve.slope(low - window.to_octaves, low - window.from_octaves)
    return CurveReading(
        kind=Kind.BANDPASS, passband_db=level, cutoff_3db_hz=None,
        low_3db_hz=None if low is None else curve.hz(low), high_3db_hz=None if high is None else curve.hz(high),
        peak_hz=curve.hz(octave), peak_db=None, q=q,
        slope_db_per_octave=upper, low_slope_db_per_octave=lower, first_octave_drop_db=drop,
        notch_hz=None, notch_depth_db=None, notch_width_octaves=None,
        humps=(),
    ), octave


def _read_notch_or_flat(
    curve: SampledCurve, kind: Kind, doubt: FloatArray | float
) -> tuple[CurveReading, float | None]:
    passband = max(_plateau(curve, +1), _plateau(curve, -1))
    peak = _peak(curve, passband, doubt)
    low = high = centre = depth = None
    if kind is Kind.NOTCH:
        index = curve.deepest()
        deepest, bottom = curve.extremum(index)
        upside = curve.upside_down()
        threshold = HALF_POWER_DB - passband
        low, high = upside.falls_through(threshold, index, -1), upside.falls_through(threshold, index, +1)
        # A deep notch is sharper than the grid: between its −3 dB points it is symmetric on the octave scale, but
        # only nearly so; close in, both flanks rise by 6 dB per octave of distance and meet at the true place.
        centre, depth = _notch_centre(curve, index, deepest), passband - min(bottom, curve.level[index])
    return CurveReading(
        kind=kind, passband_db=passband, cutoff_3db_hz=None,
        low_3db_hz=None if low is None else curve.hz(low), high_3db_hz=None if high is None else curve.hz(high),
        peak_hz=None if peak is None else curve.hz(peak[0]), peak_db=None if peak is None else peak[1], q=None,
        slope_db_per_octave=None, low_slope_db_per_octave=None, first_octave_drop_db=None,
        notch_hz=None if centre is None else curve.hz(centre), notch_depth_db=depth,
        notch_width_octaves=None if low is None or high is None else high - low,
        humps=(),
    ), centre


def _notch_centre(curve: SampledCurve, index: int, fallback: float) -> float:
    """Zero of |H| extrapolated from both flanks: near a notch |H| is a V over log frequency."""
    magnitude = 10 ** (curve.level / 20)
    reach = 12
    if curve.exact is not None:
        return fallback
    if index < reach + 3 or index > curve.level.size - reach - 4:
        return fallback
    left, right = slice(index - reach, index - 2), slice(index + 3, index + reach + 1)
    down = np.polyfit(curve.octave[left] - curve.octave[index], magnitude[left], 2)
    up = np.polyfit(curve.octave[right] - curve.octave[index], magnitude[right], 2)
    candidates = []
    for flank in (down, up):
        roots = np.roots(flank)
        real = roots[np.abs(roots.imag) < 1e-9].real
        if real.size:
            candidates.append(float(real[np.argmin(np.abs(real))]))
    limit = 3 * (curve.octave[1] - curve.octave[0])
    candidates = [c for c in candidates if abs(c) < limit]
    return float(curve.octave[index] + np.mean(candidates)) if len(candidates) == 2 else fallback
