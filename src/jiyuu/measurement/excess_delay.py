"""What of a curve's phase its level does not account for: delay and sign."""

from __future__ import annotations

from itertools import product
from typing import NamedTuple

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.minimum_phase import Continuation, beyond_rad, within_rad
from jiyuu.measurement.smoothing import POINTS_PER_OCTAVE
from jiyuu.measurement.uncertain import COVERAGE

TOLD_BY = 2.0  # what the other sign must leave re the one that fits better
MIRRORED = 0.1  # of a zero, that a pole may be off its mirror image and still makes a delay with it


class ExcessDelay(NamedTuple):
    """Seconds; ±1, None where either leaves about as much; 95 % uncertainty in seconds."""

    delay_s: float
    polarity: int | None
    doubt_s: float


def excess_delay(
    frequency_hz: FloatArray, gain: ComplexArray, deviation: FloatArray, sample_rate_hz: float
) -> ExcessDelay:
    """Delay and sign that the minimum phase of the level does not account for.

    frequency_hz, gain (V/V) and deviation (its standard uncertainty), each (n,). Raises MeasurementError where fewer
    than 24 points stand above the noise."""
    level = 20 * np.log10(np.maximum(np.abs(gain), 1e-20))
    snr = np.abs(gain) / np.maximum(deviation, 1e-20)
    good = np.flatnonzero((snr > 10) & (level > level.max() - 70))
    if good.size < 24:
        raise MeasurementError("The recording is too noisy to find the filter in it; raise the level of the stimulus.")
    low, high = int(good[0]), int(good[-1]) + 1
    f, h, shown = frequency_hz[low:high], gain[low:high], level[low:high]
    edge = min(POINTS_PER_OCTAVE // 2, f.size // 3)
    octave = np.arange(edge) / POINTS_PER_OCTAVE
    # A straight line through half an octave gives the slope a quarter of an octave inside the end.
    slope_low = float(np.polyfit(octave, shown[:edge], 1)[0])
    slope_high = float(np.polyfit(octave, shown[-edge:], 1)[0])
    weight = np.minimum(snr[low:high], 300.0) ** 2
    weight = weight / f  # equal weight per hertz would let the top octave decide alone
    # Near the ends the minimum phase leans on how the level is continued beyond them.
    place = np.arange(f.size) / POINTS_PER_OCTAVE
    weight = weight * np.minimum(1.0, np.minimum(place, place[::-1]) + 1e-3) ** 2
    best: tuple[float, float, int] | None = None
    least = {1: np.inf, -1: np.inf}
    own = within_rad(shown, points_per_octave=POINTS_PER_OCTAVE)
    total, leverage, lean = (float(np.sum(weight * f**power)) for power in (0, 2, 1))
    signs = [(polarity, (0.0 if polarity == 1 else np.pi) + 2 * np.pi * turns)
             for polarity, turns in product((1, -1), range(-3, 4))]
    offsets = np.array([offset for _, offset in signs])
    for asymptote_low, asymptote_high in product(_asymptotes(slope_low), _asymptotes(slope_high)):
        expected = own + beyond_rad(
            f.size, points_per_octave=POINTS_PER_OCTAVE,
            low=_continued(slope_low, asymptote_low), high=_continued(slope_high, asymptote_high),
        )
        excess = np.unwrap(np.angle(h * np.exp(-1j * expected)))
        # Where the phase hardly tells two asymptotes apart, the one nearer to the slope seen.
        far = (abs(asymptote_low - slope_low) + abs(asymptote_high - slope_high)) / 6.0206
        # What each offset leaves beside its delay, but for what all of them have in common.
        pull = float(np.sum(weight * f * excess)) - offsets * lean
        left = total * offsets**2 - 2 * offsets * float(np.sum(weight * excess)) - pull**2 / leverage
        polarity, offset = signs[int(np.argmin(left))]
        for (sign, _), one in zip(signs, (left + float(np.sum(weight * excess**2))) / total, strict=True):
            least[sign] = min(least[sign], float(one) * (1 + far))
        target = excess - offset
        delay = -float(np.sum(weight * f * target)) / leverage / (2 * np.pi)
        misfit = float(np.sum(weight * (target + 2 * np.pi * f * delay) ** 2)) / total
        if best is None or misfit * (1 + far) < best[0]:
            best = (misfit * (1 + far), delay, polarity)
    assert best is not None
    misfit, delay, polarity = best
    # The misfit is smooth along the grid, so it does not average out: take all of it as the error of the slope.
    doubt_s = float(COVERAGE * np.sqrt(misfit * total / leverage) / (2 * np.pi))
    told = least[-polarity] > TOLD_BY * least[polarity]
    return ExcessDelay(delay, polarity if told else None, doubt_s + 0.02 / sample_rate_hz)


def turned_by(frequency_hz: FloatArray, zeros: ComplexArray) -> ComplexArray:
    """(n,) of modulus 1: what zeros (z,) rad/s turn a gain by against that of all of them left of the axis."""
    s, right = 2j * np.pi * frequency_hz[:, np.newaxis], zeros[zeros.real > 0]
    return np.asarray(np.prod((s - right) / (s + np.conj(right)), axis=1))


def but_for_delays(zeros: ComplexArray, poles: ComplexArray) -> ComplexArray:
    """Of zeros (z,) those that no pole (p,) mirrors: a pair of both stands for a delay."""
    apart = np.abs(zeros[:, np.newaxis] + np.conj(poles))
    return zeros[~(apart < MIRRORED * np.abs(zeros[:, np.newaxis])).any(axis=1)]


def _asymptotes(slope: float) -> tuple[float, float]:
    """Whole multiples of 6.02 dB per octave around a slope: networks of this kind end on one of them, and the phase
    tells which."""
    below = 6.0206 * np.floor(slope / 6.0206)
    return float(below), float(below + 6.0206)


def _continued(slope_inside: float, asymptote: float) -> Continuation:
    return Continuation(asymptote + (slope_inside - asymptote) * 4**-0.25, asymptote)
