"""Which vowel a response comes nearest to."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.measurement.curve_peaks import local_maxima, prominence_of
from jiyuu.signals.vowels import VOWELS

VOICE_HZ = (150.0, 4000.0)  # where formants are looked for
LEAST_DB = 1.0  # that a peak stands over the valleys beside it


@dataclass(frozen=True, slots=True)
class NearestVowel:
    """vowel by its IPA letter; semitones: root of the mean square over the formants compared; formants_hz: of the
    response."""

    vowel: str
    semitones: float
    formants_hz: tuple[float, ...]


def formants_of(frequency_hz: FloatArray, level_db: FloatArray) -> tuple[float, ...]:
    """Up to three lowest peaks of a response (n,), Hz, read between its points by parabolas."""
    found = []
    for i in local_maxima(level_db):
        if not VOICE_HZ[0] <= frequency_hz[i] <= VOICE_HZ[1] or prominence_of(level_db, int(i)) < LEAST_DB:
            continue
        before, here, after = level_db[i - 1 : i + 2]
        bend = before - 2 * here + after
        off = 0.5 * (before - after) / bend if bend else 0.0
        octaves = np.log2(frequency_hz[[i, i + 1]])
        found.append(float(2 ** (octaves[0] + off * (octaves[1] - octaves[0]))))
    return tuple(found[:3])


def nearest_vowel(frequency_hz: FloatArray, level_db: FloatArray) -> NearestVowel | None:
    """Least Σ(log₂ peak − log₂ formant)² over F1 to F3; None for fewer than two peaks in the range of voices."""
    peaks = formants_of(frequency_hz, level_db)
    if len(peaks) < 2:
        return None
    octaves = np.log2(peaks)
    best = min((float(np.mean((octaves - np.log2(vowel[: octaves.size])) ** 2)), letter)
               for letter, vowel in VOWELS.items())
    return NearestVowel(best[1], 12 * float(np.sqrt(best[0])), peaks)
