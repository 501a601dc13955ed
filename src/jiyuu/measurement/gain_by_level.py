"""Whether a passage of noise comes softer where it happens to be louder.

Noise is now louder and now softer by itself, and begins in silence. Against what the gains found of a passage make of
the stimulus, whose mean they are, the gain of every moment shows whether something on the way takes hold of loud ones:
a soft stage at once, a compressor or a limiter after a while."""

from __future__ import annotations

import numpy as np
import scipy

from jiyuu.arrays import FloatArray
from jiyuu.measurement.passage_faults import HOP_S, Hops, grouped

FOLLOWS_S = (0.0, 0.02, 0.035, 0.06, 0.1, 0.17, 0.3, 0.6)  # time constants that are tried
POWERS = (0.5, 1.0)  # of the power: a compressor goes by the level, a soft stage takes a share of its square
CLEAR = 4.5  # standard deviations; clean recordings came to 2.8
ALIKE = 0.25  # share of the most that any passage is pressed by, that each must be
FAR, ROUNDS = 5.0, 3  # standard deviations that a moment may lie off; times that those which do are left out


def pressed_db(expected_v: FloatArray, heard_v: list[FloatArray], noise_v: float, sample_rate_hz: float) -> float:
    """By how much the passages heard (n,) each are softer than a faint one would be, dB, less than 0 where they are
    louder, to a factor of two; 0 where that is not told. expected_v (n,): what the gains found make of the stimulus;
    noise_v: RMS."""
    told = [one for one in (_told(Hops.of(expected_v, one, noise_v, sample_rate_hz)) for one in heard_v) if one]
    if not told or min(clear for _, clear in told) < CLEAR:
        return 0.0
    lost = np.array([one for one, _ in told])
    # A stage does so every time, and by about as much.
    alike = np.all(lost * np.sign(lost.sum()) > ALIKE * np.abs(lost).max())
    return float(lost.mean()) if alike else 0.0


def _told(hops: Hops) -> tuple[float, float] | None:
    """(dB by which the mean is softer, how many standard deviations that is), by the way of hearing that tells most."""
    groups = grouped(hops.loud)
    if groups is None:
        return None
    own = np.maximum(np.sum(hops.power[0][groups], axis=1), 1e-300)  # where nothing was expected all lies far off
    # What they have in common, or noise would make faint moments louder.
    gain_db = 20 * np.log10(np.maximum(np.abs(np.sum(hops.cross[groups], axis=1)), 1e-300) / own)
    tries = []
    for follows_s in FOLLOWS_S:
        new = 1 - np.exp(-HOP_S / follows_s) if follows_s else 1.0
        followed = scipy.signal.lfilter([new], [1, new - 1], hops.power[0])
        for power in POWERS:
            loudness = np.mean(followed[groups] ** power, axis=1)
            tries.append(_line(loudness / max(float(loudness.mean()), 1e-300) - 1, gain_db))
    return max(tries, key=lambda tried: tried[1])


def _line(loudness: FloatArray, gain_db: FloatArray) -> tuple[float, float]:
    """(dB lost at a loudness of 0, how clearly) by a straight line, what lies far off left out."""
    kept = np.ones(loudness.size, dtype=bool)
    slope = deviation = spread = 0.0
    for _ in range(ROUNDS):
        apart = loudness[kept] - loudness[kept].mean()
        spread = float(np.sqrt(apart @ apart))
        slope = float(apart @ gain_db[kept]) / max(spread**2, 1e-300)
        left = gain_db - slope * loudness
        left = left - np.median(left[kept])
        deviation = 1.4826 * float(np.median(np.abs(left[kept])))
        kept = np.abs(left) < FAR * deviation + 1e-12
    return -slope, abs(slope) * spread / max(deviation, 1e-12)
