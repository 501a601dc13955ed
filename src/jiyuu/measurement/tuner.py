"""A tuner for a filter that whistles: targets, the volts that lead there, beating with an oscillator, bells."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.uncertain import Uncertain
from jiyuu.quantities import volts_between
from jiyuu.signals.transforms import rfft

INTERVALS = {
    "unison": Fraction(1), "minor third": Fraction(6, 5), "major third": Fraction(5, 4), "fourth": Fraction(4, 3),
    "fifth": Fraction(3, 2), "octave": Fraction(2), "octave and fifth": Fraction(3), "two octaves": Fraction(4),
}
# Partials of struck bodies re the one whose pitch is heard: bells after Lehr 1986 (Music Perception), bars and plates
# after Fletcher and Rossing 1998, The Physics of Musical Instruments.
BELLS = {
    "minor-third bell": (0.5, 1.0, 1.2, 1.5, 2.0, 2.5, 2.67, 3.0, 4.0),
    "major-third bell": (0.5, 1.0, 1.25, 1.5, 2.0, 2.5, 2.67, 3.0, 4.0),
    "free bar": (1.0, 2.756, 5.404, 8.933),
    "tube": (1.0, 1.5, 2.0, 2.5, 3.0),
    "round plate": (1.0, 1.73, 2.33, 3.91, 4.11, 6.3),
}
LARGEST_PART = 8
BEATS_UNDER_HZ = 25.0  # faster than that the ear hears roughness or two tones


@dataclass(frozen=True, slots=True)
class Tuning:
    """How a tone stands to its target: cents above it, and the control volts to add."""

    target_hz: float
    cents: float
    volts: float


def tune(tone_hz: float, target_hz: float, *, scale_v_per_octave: float = 1.0) -> Tuning:
    """Raises MeasurementError where either is not above 0 Hz."""
    if not (tone_hz > 0 and target_hz > 0):
        raise MeasurementError("A tone and its target must lie above 0 Hz.")
    octaves = volts_between(tone_hz, target_hz)
    return Tuning(target_hz, -1200 * octaves, octaves * scale_v_per_octave)


def bell(name: str, pitch_hz: float) -> FloatArray:
    """Hertz of the partials of a bell whose heard pitch is pitch_hz. Raises MeasurementError for an unknown one."""
    if name not in BELLS:
        raise MeasurementError(f"There is no set '{name}'; choose one of: {', '.join(BELLS)}.")
    return pitch_hz * np.array(BELLS[name])


@dataclass(frozen=True, slots=True)
class Beating:
    """Two tones near a simple ratio: how often they beat a second, and the cents by which to turn the whistle to stop
    it. whistle_part · whistle = oscillator_part · oscillator when it stops."""

    rate_hz: float
    cents: float
    whistle_part: int
    oscillator_part: int


def beating(whistle_hz: float, oscillator_hz: float) -> Beating | None:
    """Of all ratios of small numbers the slowest beat, weighed by how strong it can be; None where nothing beats.

    m·whistle against n·oscillator: the higher m and n, the weaker are the harmonics that meet."""
    best: tuple[float, Beating] | None = None
    for m in range(1, LARGEST_PART + 1):
        for n in range(1, LARGEST_PART + 1):
            if np.gcd(m, n) != 1:
                continue
            apart = m * whistle_hz - n * oscillator_hz
            if abs(apart) > BEATS_UNDER_HZ:
                continue
            cents = -1200 * float(np.log2(m * whistle_hz / (n * oscillator_hz)))
            weight = abs(cents) * (m * n) ** 0.5
            if abs(cents) < 100.0 and (best is None or weight < best[0]):
                best = (weight, Beating(abs(apart), cents, m, n))
    return None if best is None else best[1]


@dataclass(frozen=True, slots=True)
class TwoTones:
    """Two lines of one recording so near each other that the ear hears beats; level_db: the second re the first."""

    first_hz: float
    second_hz: float
    rate_hz: Uncertain
    level_db: float


def beating_in(recording_v: FloatArray, sample_rate_hz: float) -> TwoTones | None:
    """Beating in a recording of two tones together; None where there is one tone, or one whose level is modulated.

    Modulation puts a line on either side of the tone, beating only on one: what is at least 10 dB stronger on one side
    is a second tone. recording_v (n,) of at least a second, better some beats long."""
    record = np.asarray(recording_v, dtype=float) - np.mean(recording_v)
    if record.size < sample_rate_hz or not np.ptp(record):
        return None
    size = 1 << int(np.ceil(np.log2(record.size)) + 2)
    window = np.blackman(record.size)
    spectrum = np.abs(rfft(record * window, size))
    per_bin = sample_rate_hz / size
    resolved = 3.2 * sample_rate_hz / record.size  # half the main lobe of the window
    place = int(np.argmax(spectrum))
    reach, near = int(BEATS_UNDER_HZ / per_bin), int(resolved / per_bin)
    above = spectrum[place + near : place + reach]
    below = spectrum[max(place - reach, 0) : max(place - near, 0)][::-1]
    sides = [(float(side.max(initial=0.0)), int(np.argmax(side)) if side.size else 0) for side in (above, below)]
    high, low = sides[0][0], sides[1][0]
    floor = 3 * float(np.median(spectrum[max(place - 4 * reach, 0) : place + 4 * reach]))
    if max(high, low) < max(floor, 3e-3 * spectrum[place]) or max(high, low) < 3.2 * min(high, low):
        return None
    at = place + near + sides[0][1] if high > low else place - near - sides[1][1]
    if at in (place + near, place - near):  # no line of its own: the foot of the tone's
        return None
    found = _refined(record, sample_rate_hz, place * per_bin, at * per_bin)
    return found


def _refined(record: FloatArray, sample_rate_hz: float, first_hz: float, second_hz: float) -> TwoTones:
    """Least squares of two sines, Gauss–Newton on both frequencies."""
    t = (np.arange(record.size) - record.size / 2) / sample_rate_hz
    hertz = np.array([first_hz, second_hz])
    doubt = 0.0
    weights = np.zeros(4)
    for _ in range(8):
        turns = 2 * np.pi * hertz[:, None] * t
        basis = np.concatenate([np.cos(turns), np.sin(turns)])
        weights, *_ = np.linalg.lstsq(basis.T, record, rcond=None)
        slope = 2 * np.pi * t * (-weights[:2, None] * np.sin(turns) + weights[2:, None] * np.cos(turns))
        left = record - weights @ basis
        whole = np.concatenate([basis, slope])
        step, *_ = np.linalg.lstsq(whole.T, left, rcond=None)
        hertz = hertz + np.clip(step[4:], -1.0, 1.0)
        if np.abs(step[4:]).max() < 1e-9:
            break
    covariance = np.linalg.pinv(whole @ whole.T) * float(left @ left) / max(record.size - 6, 1)
    doubt = 2 * float(np.sqrt(max(covariance[4, 4] + covariance[5, 5], 0.0)))
    size = np.hypot(weights[:2], weights[2:])
    order = np.argsort(-size)
    return TwoTones(float(hertz[order[0]]), float(hertz[order[1]]), Uncertain(float(abs(hertz[0] - hertz[1])), doubt),
                    float(20 * np.log10(max(size[order[1]], 1e-12) / size[order[0]])))
