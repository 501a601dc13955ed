"""Levels of a record: peak between the samples, RMS, crest, offset, loudness; and what a limit makes of them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.signals.long_record import Record, weighted

OVERSAMPLING = 4  # ITU-R BS.1770 annex 2: the true peak between the samples
SHORTEST_LOUDNESS_S = 0.4  # one gating block
REACH = 32  # samples on either side that the true peak looks at
AT_ONCE = 1 << 20  # samples
SEGMENT_S, SETTLED_HOPS = 60.0, 5  # of a long record at once, and gating hops ahead of each
ABSOLUTE_GATE_LUFS, OFFSET_LU = -70.0, -0.691  # ITU-R BS.1770


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
    return measure_record(Record.of(record_v), sample_rate_hz, limit_v=limit_v, full_scale_v=full_scale_v)


def measure_record(
    record: Record, sample_rate_hz: float, *, limit_v: float = 5.0, full_scale_v: float = 10.0
) -> Levels:
    """The same of a record of any length, in volts. Raises MeasurementError as measure_levels does."""
    if not (np.isfinite(limit_v) and limit_v > 0 and np.isfinite(full_scale_v) and full_scale_v > 0):
        raise MeasurementError("A limit and a full scale must be above 0 V.")
    if record.size < 64:
        raise MeasurementError(f"The recording is only {record.size} samples long; give at least 64.")
    peak = squares = total = 0.0
    over, first, start = 0, None, 0
    for block in record.blocks(AT_ONCE):
        if not np.isfinite(block).all():
            raise MeasurementError("The recording holds samples that are not numbers; export it again.")
        fine = _between_samples(record, start, start + block.size)
        peak = max(peak, float(fine.max()))
        squares, total = squares + float(np.sum(block**2)), total + float(np.sum(block))
        places = np.flatnonzero(fine > limit_v)
        over += places.size
        if first is None and places.size:
            first = start + float(places[0]) / OVERSAMPLING
        start += block.size
    if not peak > 0:
        raise MeasurementError("The recording is silent; check cable and level.")
    rms = float(np.sqrt(squares / record.size))
    headroom = float(20 * np.log10(limit_v / peak))
    return Levels(
        peak_v=peak, rms_v=rms, crest_db=float(20 * np.log10(peak / rms)), dc_v=total / record.size,
        loudness_lufs=record_lufs(weighted([record], [1 / full_scale_v]), sample_rate_hz), limit_v=limit_v,
        headroom_db=headroom, over_share=over / (record.size * OVERSAMPLING),
        first_over_s=None if first is None else first / sample_rate_hz, trim_db=min(headroom, 0.0),
    )


def _between_samples(record: Record, start: int, stop: int) -> FloatArray:
    """((stop − start)·OVERSAMPLING,) magnitudes, the filter's reach on either side known."""
    from scipy.signal import resample_poly

    low, high = max(start - REACH, 0), min(stop + REACH, record.size)
    # Padded along a line: an offset must not ring at the ends of the record.
    fine = np.abs(resample_poly(record.read(low, high), OVERSAMPLING, 1, padtype="line"))
    return np.asarray(fine[(start - low) * OVERSAMPLING : (stop - low) * OVERSAMPLING])


def loudness_lufs(samples: FloatArray, sample_rate_hz: float) -> float | None:
    """ITU-R BS.1770 integrated loudness of samples (n,) re full scale, None where it is not defined."""
    return record_lufs(Record.of(samples), sample_rate_hz)


def record_lufs(record: Record, sample_rate_hz: float) -> float | None:
    """The same of a record of any length."""
    import pyloudnorm

    if record.size < SHORTEST_LOUDNESS_S * sample_rate_hz:
        return None
    if record.size <= SEGMENT_S * sample_rate_hz:
        with np.errstate(divide="ignore"):
            found = float(pyloudnorm.Meter(int(sample_rate_hz)).integrated_loudness(record.whole()))
        return found if np.isfinite(found) else None
    power = np.concatenate([_gating_blocks(record, start, sample_rate_hz)
                            for start in range(0, record.size, round(SEGMENT_S * sample_rate_hz))])
    loud = power[power >= 10 ** ((ABSOLUTE_GATE_LUFS - OFFSET_LU) / 10)]
    if not loud.size:
        return None
    kept = loud[loud > 0.1 * loud.mean()]  # ten LU under the mean of those: the relative gate
    return float(OFFSET_LU + 10 * np.log10(kept.mean()))


def _gating_blocks(record: Record, start: int, sample_rate_hz: float) -> FloatArray:
    """Mean squares of the weighted gating blocks that begin in a segment: read from a little before, so that the
    weighting filters have settled, to the end of the last."""
    import pyloudnorm

    meter = pyloudnorm.Meter(int(sample_rate_hz))
    hop = meter.block_size * (1 - meter.overlap) * sample_rate_hz
    lead = min(round(SETTLED_HOPS * hop), start)
    stop = min(start + round(SEGMENT_S * sample_rate_hz + meter.block_size * sample_rate_hz - hop), record.size)
    if stop - start < meter.block_size * sample_rate_hz:
        return np.zeros(0)
    with np.errstate(divide="ignore"):
        meter.integrated_loudness(record.read(start - lead, stop))
    power = 10 ** ((np.asarray(meter.blockwise_loudness, dtype=float) - OFFSET_LU) / 10)
    return np.asarray(power[round(lead / hop) :])


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
