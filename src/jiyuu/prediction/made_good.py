"""Level made good: how much softer or louder a filter makes its source, and the trim that makes up for it; and what
phase takes away where the dry signal is mixed in."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.linear import complex_gain
from jiyuu.circuits.network import Network
from jiyuu.errors import MeasurementError
from jiyuu.measurement.levels import measure_levels
from jiyuu.simulation.render import oversampling_for, render

DRY_HZ = np.geomspace(20.0, 20_000.0, 2000)


@dataclass(frozen=True, slots=True)
class MadeGood:
    """trim_db: behind the filter, so that it is as loud as its source (ITU-R BS.1770); loudness re full scale before
    and after; left_db: from the true peak behind the trim to the next module's limit, negative when over it."""

    trim_db: float
    source_lufs: float
    output_lufs: float
    peak_v: float
    left_db: float


def made_good(
    network: Network, mode: str, source_v: FloatArray, sample_rate_hz: float, *, cutoff_hz: float, gain: float,
    drive: float, rail_v: float, limit_v: float, full_scale_v: float, settling_s: float,
) -> MadeGood | None:
    """source_v (n,) volts ahead of the drive, of which settling_s are not looked at; None for a silent one."""
    heard = slice(round(settling_s * sample_rate_hz), None)
    output = render(network, drive * source_v, sample_rate_hz=sample_rate_hz, cutoff_hz=cutoff_hz, gain=gain,
                    modes=[mode], oversampling=oversampling_for(cutoff_hz)).output_v[0]
    output = np.clip(output, -rail_v, rail_v)
    try:
        before = measure_levels(source_v[heard], sample_rate_hz, limit_v=limit_v, full_scale_v=full_scale_v)
        after = measure_levels(output[heard], sample_rate_hz, limit_v=limit_v, full_scale_v=full_scale_v)
    except MeasurementError:
        return None
    if before.loudness_lufs is None or after.loudness_lufs is None:
        return None
    trim_db = before.loudness_lufs - after.loudness_lufs
    peak_v = after.peak_v * 10 ** (trim_db / 20)
    return MadeGood(trim_db, before.loudness_lufs, after.loudness_lufs, peak_v, float(20 * np.log10(limit_v / peak_v)))


@dataclass(frozen=True, slots=True)
class Cancelled:
    """Where dry and filtered take most from each other: depth_db under what they would make in phase."""

    frequency_hz: float
    depth_db: float


def cancelled(
    network: Network, mode: str, *, cutoff_hz: float, gain: float, dry_share: float, frequency_hz: FloatArray = DRY_HZ
) -> Cancelled:
    """(1 − dry)·filter + dry·input, small signal; dry_share between 0 and 1."""
    wet = (1 - dry_share) * complex_gain(network, frequency_hz, cutoff_hz=cutoff_hz, gain=gain, modes=[mode])[0]
    depth = 20 * np.log10(np.maximum(np.abs(wet + dry_share), 1e-9) / (np.abs(wet) + dry_share))
    place = int(depth.argmin())
    return Cancelled(float(frequency_hz[place]), float(-depth[place]))
