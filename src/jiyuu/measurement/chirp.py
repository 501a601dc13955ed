"""When in a sweep each frequency sounds: what that tells of clocks, and of which frequencies a fault has hurt."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.alignment import KEPT_SAMPLES, Passages
from jiyuu.signals.running import running_mean
from jiyuu.signals.transforms import next_fast_len, rfft

SPREAD = 1.25  # ratio by which a hurt band reaches past the frequencies that sounded while it happened


def sounding_s(frequency_hz: FloatArray, passages: Passages, sample_rate_hz: float) -> FloatArray:
    """(n,) seconds after the passage's beginning: the group delay of the stimulus, evened over a few bins."""
    size = next_fast_len(2 * passages.passage_v.size)
    sums = _sums if size <= KEPT_SAMPLES else _sums.__wrapped__
    top, bottom = sums(passages, size, sample_rate_hz)
    places = frequency_hz * size / sample_rate_hz
    low, high = (places * 0.94).astype(int), np.minimum((places * 1.06).astype(int) + 2, top.size - 1)
    return np.asarray((top[high] - top[low]) / np.maximum(bottom[high] - bottom[low], 1e-300))


@lru_cache(maxsize=4)
def _sums(passages: Passages, size: int, sample_rate_hz: float) -> tuple[FloatArray, FloatArray]:
    """Over all bins below each (size//2 + 2,): delay times power, and power."""
    t = np.arange(passages.passage_v.size) / sample_rate_hz
    spectrum, late = rfft(passages.passage_v, size), rfft(t * passages.passage_v, size)
    top = np.cumsum(np.concatenate([[0.0], np.real(late * np.conj(spectrum))]))
    bottom = np.cumsum(np.concatenate([[0.0], np.abs(spectrum) ** 2]))
    return top, bottom


def at_clock(frequency_hz: FloatArray, ppm: float, passages: Passages, sample_rate_hz: float) -> ComplexArray:
    """(n,) what turns a gain measured by a recorder so much too fast into that of one by the player's clock."""
    late_s = 1e-6 * ppm * sounding_s(frequency_hz, passages, sample_rate_hz)
    return np.asarray(np.exp(2j * np.pi * frequency_hz * late_s))


def hurt_bands_hz(
    flat: NDArray[np.bool_], passages: Passages, place: int, sound: tuple[int, ...], sample_rate_hz: float
) -> tuple[tuple[float, float], ...]:
    """The band of frequencies that sounded while samples (n,) were flat; () where none were."""
    frequency = 8.0 * 2 ** (np.arange(0, 12, 1 / 24))
    frequency = frequency[frequency < 0.47 * sample_rate_hz]
    sounds = running_mean(sounding_s(frequency, passages, sample_rate_hz), 3)
    times = []
    for i in sound:
        start = place + i * passages.period
        inside = np.flatnonzero(flat[max(start, 0) : max(start + passages.passage_v.size, 0)]) + max(start, 0) - start
        times.append(inside / sample_rate_hz)
    when = np.concatenate(times or [np.zeros(0)])
    if not when.size:
        return ()
    if passages.noisy:
        return ((0.0, sample_rate_hz),)
    at = np.interp([when.min(), when.max()], sounds, frequency)
    return ((float(at[0]) / SPREAD, float(at[1]) * SPREAD),)
