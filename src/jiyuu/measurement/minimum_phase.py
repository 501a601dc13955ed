"""The phase that belongs to a magnitude: Bode's relation on a logarithmic frequency grid.

    φ(u0) = (1/π) ∫ dA/du · ln coth(|u − u0|/2) du,   u = ln f, A = ln|H|     (Bode 1945)

What is left of a measured phase beside it is pure delay and polarity.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.signals.transforms import convolved

_DECADES_BEYOND = 3.0


@dataclass(frozen=True, slots=True)
class Continuation:
    """How a curve goes on beyond its end: from its slope there towards an asymptote, both in dB per octave.

    For poles and zeros well inside the band what is missing to the asymptote shrinks by four every octave."""

    slope: float
    asymptote: float

    def slopes(self, octaves_beyond: FloatArray) -> FloatArray:
        return np.asarray(self.asymptote + (self.slope - self.asymptote) * 4.0**-octaves_beyond)


def minimum_phase_rad(
    level_db: FloatArray, *, points_per_octave: int, low: Continuation, high: Continuation
) -> FloatArray:
    """Phase of the minimum-phase system with that level, same shape (n,).

    level_db (n,) on a uniform logarithmic grid; low and high continue it beyond its ends."""
    return within_rad(level_db, points_per_octave=points_per_octave) + beyond_rad(
        level_db.size, points_per_octave=points_per_octave, low=low, high=high)


def within_rad(level_db: FloatArray, *, points_per_octave: int) -> FloatArray:
    """(n,) what a level (n,) adds to the phase by its own course, as if it went on level beyond its ends."""
    inner = np.diff(level_db * np.log(10) / 20)  # dA over each cell, centred between points
    phase = convolved(inner, _mean_log_coth(inner.size, np.log(2) / points_per_octave))
    # Point i of the grid stands before cell i.
    return np.asarray(phase[inner.size : inner.size + level_db.size] / np.pi)


def beyond_rad(count: int, *, points_per_octave: int, low: Continuation, high: Continuation) -> FloatArray:
    """(count,) what its continuations add to the phase of a level of so many points."""
    settling, lasting = _beyond_one(count, points_per_octave)
    return np.asarray(
        (low.slope - low.asymptote) * settling[::-1] + low.asymptote * lasting[::-1]
        + (high.slope - high.asymptote) * settling + high.asymptote * lasting)


@lru_cache(maxsize=8)
def _beyond_one(count: int, points_per_octave: int) -> tuple[FloatArray, FloatArray]:
    """(count,) each: what slopes above a level of so many points add to its phase, one that shrinks from 1 dB per
    octave to nothing, and one that stays."""
    step = np.log(2) / points_per_octave
    beyond = int(_DECADES_BEYOND * np.log(10) / step)
    away = (np.arange(beyond) + 0.5) / points_per_octave
    found = []
    for continued in (Continuation(1.0, 0.0), Continuation(1.0, 1.0)):
        change = np.concatenate([np.zeros(count - 1), continued.slopes(away) * np.log(10) / 20 / points_per_octave])
        phase = convolved(change, _mean_log_coth(change.size, step))
        found.append(np.asarray(phase[change.size : change.size + count] / np.pi))
        found[-1].setflags(write=False)
    return found[0], found[1]


@lru_cache(maxsize=8)  # every curve of a run has the same grid
def _mean_log_coth(half: int, step: float) -> FloatArray:
    """(2·half + 1,) ln coth(|u|/2) averaged over a cell, exact near its logarithmic singularity; the last cell
    first."""
    offset = (np.arange(-half, half + 1) + 0.5) * step  # cell centre less evaluation point
    # Averages from 16 midpoints are ample away from 0; near 0 ln coth(u/2) ≈ ln(2/u), integrated in closed form.
    midpoints = (np.arange(16) + 0.5) / 16 - 0.5
    samples = np.abs(offset[:, np.newaxis] + step * midpoints)
    mean = np.mean(-np.log(np.tanh(np.maximum(samples, 1e-12) / 2)), axis=1)
    near = np.abs(offset) < 4 * step
    low, high = np.abs(offset[near]) - step / 2, np.abs(offset[near]) + step / 2
    low = np.maximum(low, 0.0)

    def antiderivative(u: FloatArray) -> FloatArray:  # of ln(2/u) + u²/12, the series of ln coth(u/2)
        return np.asarray(u * (np.log(2) + 1 - np.log(np.maximum(u, 1e-300))) + u**3 / 36)

    mean[near] = (antiderivative(high) - antiderivative(low)) / step
    mean = np.ascontiguousarray(mean[::-1])
    mean.setflags(write=False)
    return mean
