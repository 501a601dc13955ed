"""Levels of a record: peak between the samples, RMS, crest, offset, loudness; and what a limit makes of them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError

OVERSAMPLING = 4  # ITU-R BS.1770 annex 2: the true peak between the samples
SHORTEST_LOUDNESS_S = 0.4  # one gating block


@dataclass(frozen=True, slots=True)
class Levels:
    """Of one record, volts and dB. loudness_lufs re full scale, None for a record of under 0.4 s or below the gate.

    headroom_db: limit over peak (negative when over it); over_share: share of the time over the limit; first_over_s:
    when it is passed first, None when never; trim_db: what brings the peak to the limit, 0 when it is under it."""

    peak_v: float
    rms_v: float
    crest_db: float
    dc_v: float
    loudness_lufs: float | None
    limit_v: float
    headroom_db: float
    over_share: float
    first_over_s: float | None
    trim_db: float


def measure_levels(
    record_v: FloatArray, sample_rate_hz: float, *, limit_v: float = 5.0, full_scale_v: float = 10.0
) -> Levels:
    """record_v (n,) volts. Raises MeasurementError for a record that is silent, too short or not finite, and for a
    limit or full scale that is not above 0 V."""
    if not (np.isfinite(limit_v) and limit_v > 0 and np.isfinite(full_scale_v) and full_scale_v > 0):
        raise MeasurementError("A limit and a full scale must be above 0 V.")
    if record_v.size < 64:
        raise MeasurementError(f"The recording is only {record_v.size} samples long; give at least 64.")
    if not np.isfinite(record_v).all():
        raise MeasurementError("The recording holds samples that are not numbers; export it again.")
    from scipy.signal import resample_poly

    # Constant padding: an offset must not ring at the ends of the record.
    fine = np.abs(resample_poly(record_v, OVERSAMPLING, 1, padtype="line"))
    peak, rms, dc = float(fine.max()), float(np.sqrt(np.mean(record_v**2))), float(record_v.mean())
    if not peak > 0:
        raise MeasurementError("The recording is silent; check cable and level.")
    over = np.flatnonzero(fine > limit_v)
    headroom = float(20 * np.log10(limit_v / peak))
    return Levels(
        peak_v=peak, rms_v=rms, crest_db=float(20 * np.log10(peak / rms)), dc_v=dc,
        loudness_lufs=loudness_lufs(record_v / full_scale_v, sample_rate_hz), limit_v=limit_v, headroom_db=headroom,
        over_share=over.size / fine.size,
        first_over_s=float(over[0] / OVERSAMPLING / sample_rate_hz) if over.size else None, trim_db=min(headroom, 0.0),
    )


def loudness_lufs(samples: FloatArray, sample_rate_hz: float) -> float | None:
    """ITU-R BS.1770 integrated loudness of samples (n,) re full scale, None where it is not defined."""
    import pyloudnorm

    if samples.size < SHORTEST_LOUDNESS_S * sample_rate_hz:
        return None
    with np.errstate(divide="ignore"):
        found = float(pyloudnorm.Meter(int(sample_rate_hz)).integrated_loudness(samples))
    return found if np.isfinite(found) else None


@dataclass(frozen=True, slots=True)
class Staging:
    """Volts peak at the joints of a path, and how far each is past its limit in dB (negative: under it)."""

    source_v: float
    output_v: float
    rail_v: float
    limit_v: float
    headroom_v: float | None
    rails_over_db: float
    next_over_db: float
    stage_over_db: float | None


def gain_staging(source_v: float, drive_db: float, headroom_v: float | None, output_v: float, limit_v: float,
                 rail_v: float) -> Staging:
    """source_v, output_v peak volts; headroom_v: where the first stage saturates, None when it does not."""
    driven_v = source_v * 10 ** (drive_db / 20)
    return Staging(
        source_v, output_v, rail_v, limit_v, headroom_v,
        rails_over_db=float(20 * np.log10(max(output_v, 1e-9) / rail_v)),
        next_over_db=float(20 * np.log10(max(min(output_v, rail_v), 1e-9) / limit_v)),
        stage_over_db=None if headroom_v is None or driven_v <= 0 else float(20 * np.log10(driven_v / headroom_v)),
    )
