"""The ceiling that everything meant for ears passes: a limiter that looks ahead and cannot be turned off."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import scipy

from jiyuu.arrays import FloatArray

CEILING_DB = -12.0  # re full scale
LOOK_AHEAD_S, FADE_S = 0.005, 0.03
LIVE_LOOK_AHEAD_S = 0.0015  # on either side: what is turned is to be heard at once
HEARD_HZ = (5.0, 20_000.0)
LOUDEST = 1e6  # re full scale: no filter's memory is filled with more


def under_ceiling(
    record: FloatArray, sample_rate_hz: float, *, ceiling_db: float = CEILING_DB, fades: bool = True
) -> FloatArray:
    """record (n,) re full scale, faded in and out unless its player does that, its DC taken away, nowhere above the
    ceiling.

    The gain asked for at every sample is held over the look-ahead on both sides and then averaged over as long a
    window: an average of what lies no higher than asked lies no higher than asked."""
    sound = np.asarray(record, dtype=float) - np.mean(record)
    fade = min(round(FADE_S * sample_rate_hz), sound.size // 2)
    if fades and fade:
        slope = np.sin(0.5 * np.pi * np.arange(fade) / fade) ** 2
        sound[:fade] *= slope
        sound[-fade:] *= slope[::-1]
    ceiling = 10 ** (ceiling_db / 20)
    half = max(1, round(LOOK_AHEAD_S * sample_rate_hz))
    asked = np.minimum(1.0, ceiling / np.maximum(np.abs(sound), 1e-12))
    held = scipy.ndimage.minimum_filter1d(asked, 2 * half + 1, mode="nearest")
    window = np.hanning(2 * half + 1)
    gain = np.convolve(np.pad(held, half, mode="edge"), window / window.sum(), mode="valid")
    return np.asarray(np.clip(sound * gain, -ceiling, ceiling))  # rounding alone could pass by a last bit


@lru_cache(maxsize=4)
def heard_band(sample_rate_hz: float) -> tuple[tuple[FloatArray, FloatArray], ...]:
    """What takes DC and what lies above hearing away, (b, a) each. Filters take a second to load, once: to be asked for
    ahead of the first sound, and not when a window opens that plays nothing yet."""
    top = min(HEARD_HZ[1], 0.45 * sample_rate_hz)
    return (scipy.signal.butter(1, HEARD_HZ[0], "highpass", fs=sample_rate_hz),
            scipy.signal.butter(6, top, fs=sample_rate_hz))


class LiveCeiling:
    """The same for sound that goes on: what is pushed comes out `delay` samples later, nowhere above the ceiling. DC
    and what lies above hearing are taken out ahead of it."""

    def __init__(self, sample_rate_hz: float, *, ceiling_db: float = CEILING_DB) -> None:
        self._half = max(1, round(LIVE_LOOK_AHEAD_S * sample_rate_hz))
        self.delay = 2 * self._half
        self._ceiling = 10 ** (ceiling_db / 20)
        self._sound = np.zeros(4 * self._half)
        window = np.hanning(2 * self._half + 1)
        self._window = window / window.sum()
        self._sample_rate_hz = sample_rate_hz
        self._memories: list[FloatArray] = []

    def push(self, sound: FloatArray) -> FloatArray:
        """(n,) re full scale for n in."""
        filters = heard_band(self._sample_rate_hz)
        self._memories = self._memories or [np.zeros(max(len(b), len(a)) - 1) for b, a in filters]
        half, finite = self._half, np.nan_to_num(sound, nan=0.0, posinf=0.0, neginf=0.0)
        heard = np.clip(finite, -LOUDEST, LOUDEST)
        for i, (b, a) in enumerate(filters):
            heard, self._memories[i] = scipy.signal.lfilter(b, a, heard, zi=self._memories[i])
        whole = np.concatenate([self._sound, heard])
        asked = np.minimum(1.0, self._ceiling / np.maximum(np.abs(whole), 1e-12))
        held = scipy.ndimage.minimum_filter1d(asked, 2 * half + 1)[half:-half]
        gain = np.convolve(held, self._window, mode="valid")
        self._sound = whole[heard.size :]
        return np.asarray(np.clip(whole[2 * half : whole.size - 2 * half] * gain, -self._ceiling, self._ceiling))
