"""A record that follows itself without a seam."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import FloatArray

SEAM_S = 0.05


def seamless(record: FloatArray, sample_rate_hz: float) -> FloatArray:
    """record (n,) shortened by its seam: its end fades into its beginning, so that it can follow itself."""
    seam = min(round(SEAM_S * sample_rate_hz), record.size // 4)
    if seam == 0:
        return record
    turn = 0.5 * np.pi * (np.arange(seam) + 0.5) / seam
    joined = np.array(record[: record.size - seam], dtype=float)
    joined[:seam] = record[:seam] * np.sin(turn) ** 2 + record[record.size - seam :] * np.cos(turn) ** 2
    return joined
