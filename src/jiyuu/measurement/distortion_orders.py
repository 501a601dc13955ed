"""What a sweep's own harmonics say of how much the unit compressed it.

After deconvolution by an exponential sweep the n-th harmonic stands ln n sweep rates ahead of the response (Farina
2000, AES 108th Convention). Of a soft stage the third harmonic is a third of what it takes off the first (its cubic
term makes a³/4 less of the first and a³/12 of the third), so three times the third is what is missing.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.alignment import Passages, impulse_response
from jiyuu.measurement.chirp import sounding_s
from jiyuu.measurement.smoothing import POINTS_PER_OCTAVE
from jiyuu.signals.running import running_mean
from jiyuu.signals.transforms import rfft

ORDER = 3
CLEAR = 4.0  # standard deviations a harmonic must stand above the noise
APART = 8  # points of a curve, of which one is enough for what is usual around
FAINT_DB = 45.0  # under the top: what is fainter makes no harmonic that matters


@dataclass(frozen=True, slots=True, eq=False)
class Compression:
    """share (n,): what of the gain at each frequency of a response is missing, 0 where nothing shows."""

    share: FloatArray

    def restored_db(self, level_db: FloatArray) -> FloatArray:
        """(n,) the level as it would be without."""
        return np.asarray(level_db - 20 * np.log10(1 - np.minimum(self.share, 0.7)))


def compression_of(
    record_v: FloatArray, passages: Passages, place: int, sound: tuple[int, ...], frequency_hz: FloatArray,
    gain_db: FloatArray, sample_rate_hz: float,
) -> Compression | None:
    """frequency_hz, gain_db (n,): the response found. None where the stimulus is no exponential sweep."""
    rate_s = efold_s(passages, frequency_hz, sample_rate_hz)
    if rate_s is None:
        return None
    ahead = round(rate_s * np.log(ORDER) * sample_rate_hz)
    half = round(0.4 * rate_s * np.log((ORDER + 1) / ORDER) * sample_rate_hz)
    quiet_ahead = round(rate_s * 0.5 * (np.log(2) + np.log(3)) * sample_rate_hz)
    window = np.hanning(2 * half)
    found: list[ComplexArray] = []
    noises: list[ComplexArray] = []
    for i in sound:
        begin = max(place + i * passages.period, 0)
        response = impulse_response(record_v[begin : begin + passages.passage_v.size + half], passages)
        shift = place + i * passages.period - begin
        for lag, into in ((ahead, found), (quiet_ahead, noises)):
            into.append(rfft(response[np.arange(shift - lag - half, shift - lag + half)] * window))
    hertz = np.fft.rfftfreq(2 * half, 1 / sample_rate_hz)
    if len(found) > 1:
        noises = [(found[0] - found[1]) / 2]
    third = np.abs(np.mean(found, axis=0))
    noise = np.sqrt(running_mean(np.abs(noises[0]) ** 2, 31))
    third = np.where(third > CLEAR * noise, third, 0.0)
    at_third = np.interp(ORDER * frequency_hz, hertz, third, right=0.0)
    gain = 10 ** (_usual_db(gain_db) / 20)
    there = np.interp(np.log(ORDER * frequency_hz), np.log(frequency_hz), gain, right=0.0)
    loud = gain_db > gain_db.max() - FAINT_DB
    # What is made before the filter has gone through it at three times the frequency, what is made behind it has not.
    before = np.where(there > 10 ** (-FAINT_DB / 20) * gain.max(), at_third / np.maximum(there, 1e-12), 0.0)
    share = ORDER * np.maximum(before, at_third / np.maximum(gain, 1e-12)) * loud
    return Compression(running_mean(share, POINTS_PER_OCTAVE // 12))


def _usual_db(level_db: FloatArray) -> FloatArray:
    """(n,) within half an octave on either side: on a slope it is the level itself, in a notch it is not. What goes
    round a notch does not say how much went into it."""
    half = POINTS_PER_OCTAVE // 2
    around = np.lib.stride_tricks.sliding_window_view(np.pad(level_db, half, mode="edge"), 2 * half + 1)
    return np.asarray(np.median(around[:, ::APART], axis=1))


def efold_s(passages: Passages, frequency_hz: FloatArray, sample_rate_hz: float) -> float | None:
    """Seconds in which the sweep's frequency grows e-fold; None where it does not do so steadily."""
    span = frequency_hz[[frequency_hz.size // 5, frequency_hz.size // 2, 4 * frequency_hz.size // 5]]
    times, places = sounding_s(span, passages, sample_rate_hz), np.log(span)
    rates = np.diff(times) / np.diff(places)
    return float(rates.mean()) if rates.min() > 0 and np.ptp(rates) < 0.02 * rates.mean() else None
