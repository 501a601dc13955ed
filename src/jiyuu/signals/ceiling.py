"""The ceiling that everything meant for ears passes: a limiter that looks ahead and cannot be turned off."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import FloatArray

CEILING_DB = -12.0  # re full scale
LOOK_AHEAD_S, FADE_S = 0.005, 0.03


def under_ceiling(
    record: FloatArray, sample_rate_hz: float, *, ceiling_db: float = CEILING_DB, fades: bool = True
) -> FloatArray:
    """record (n,) re full scale, faded in and out unless its player does that, its DC taken away, nowhere above the
    ceiling.

    The gain asked for at every sample is held over the look-ahead on both sides and then averaged over as long a
    window: an average of what lies no higher than asked lies no higher than asked."""
    from scipy.ndimage import minimum_filter1d  # a window that plays nothing yet opens without it

    sound = np.asarray(record, dtype=float) - np.mean(record)
    fade = min(round(FADE_S * sample_rate_hz), sound.size // 2)
    if fades and fade:
        slope = np.sin(0.5 * np.pi * np.arange(fade) / fade) ** 2
        sound[:fade] *= slope
        sound[-fade:] *= slope[::-1]
    ceiling = 10 ** (ceiling_db / 20)
    half = max(1, round(LOOK_AHEAD_S * sample_rate_hz))
    asked = np.minimum(1.0, ceiling / np.maximum(np.abs(sound), 1e-12))
    held = minimum_filter1d(asked, 2 * half + 1, mode="nearest")
    window = np.hanning(2 * half + 1)
    gain = np.convolve(np.pad(held, half, mode="edge"), window / window.sum(), mode="valid")
    return np.asarray(np.clip(sound * gain, -ceiling, ceiling))  # rounding alone could pass by a last bit
