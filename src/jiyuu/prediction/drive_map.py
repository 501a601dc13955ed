"""Drive against resonance: what level does to the peak over the whole travel, and what it takes to stop the whistle.

The peak at a level is read from the first harmonic's gain at some frequencies around the cutoff, then around the
highest of them, ever closer. Between them the inverse of the gain is interpolated, which near a resonance is the smooth
one of the two. Whether a whistle goes on beside a tone follows from the orbit that the tone alone would drive: where
what disturbs it dies away, it stays (Floquet 1883, Annales scientifiques de l'École Normale Supérieure).
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import scipy
from numpy.typing import NDArray

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.circuits.network import Network
from jiyuu.circuits.operating_point import operating_point
from jiyuu.simulation.periodic import settled_periods, steps_of
from jiyuu.stopping import side_by_side

SPAN_OCTAVES, PER_OCTAVE = 1.5, 3  # around the cutoff
PASSES, BETWEEN = 4, 4  # looks taken more closely around the highest point, and points of each
SMOOTH = 0.003  # share by which the highest point may lie off a curve through the others
FINE = 24  # points between two of those
FEWEST_POINTS = 6
FEWEST_STEPS = 64
COARSER = 4  # than the steps that harmonics need; it leaves 0.6 mdB of the first
NEARLY = 1e-3  # of a map's orbits: 9 mdB
MAP_ROUNDS = 24
STOP_DB = (-40.0, 36.0)
STOP_LEVELS, STOP_ROUNDS = 20, 3  # levels at once, and how often between two of them


@dataclass(frozen=True, slots=True, eq=False)
class DriveMap:
    """Over input peak volts (l,) and loop gain (p,), below the onset: peak_db re the input, peak_hz, low_hz and
    high_hz (where it is 3 dB under its peak), body_db: of what lies well inside the passband; all (p, l), NaN where
    there is none or it did not settle."""

    level_v: FloatArray
    gains: FloatArray
    peak_db: FloatArray
    peak_hz: FloatArray
    low_hz: FloatArray
    high_hz: FloatArray
    body_db: FloatArray

    @property
    def over_body_db(self) -> FloatArray:
        """(p, l) how far the peak stands out of the passband at the same level."""
        return np.asarray(self.peak_db - self.body_db)

    @property
    def bandwidth_octaves(self) -> FloatArray:
        return np.asarray(np.log2(self.high_hz / self.low_hz))


def drive_map(
    network: Network, mode: str, *, cutoff_hz: float, gains: FloatArray, level_v: FloatArray, body_hz: float,
    passes: int = PASSES,
) -> DriveMap:
    """gains (p,) below the onset, level_v (l,) peak volts; body_hz: inside the passband; passes: how often the peak is
    looked at more closely."""
    across = np.repeat(gains, level_v.size), np.tile(level_v, gains.size)
    rest = _rests(network, across[0])

    def at(place: tuple[FloatArray, NDArray[np.intp]]) -> ComplexArray:
        """At hertz (c,) in some cells (c,); NaN in the others."""
        hertz, cells = place
        found = np.full(across[0].size, np.nan, dtype=complex)
        if cells.size:
            found[cells] = _first_harmonic(network, mode, hertz, cutoff_hz=cutoff_hz, gains=across[0][cells],
                                           level_v=across[1][cells], rest=rest[cells])
        return found

    whole = np.arange(across[0].size)
    grid = np.arange(-SPAN_OCTAVES, SPAN_OCTAVES + 1e-9, 1 / PER_OCTAVE)
    octaves = np.repeat(grid[:, np.newaxis], whole.size, axis=1)
    hertz = [*(cutoff_hz * 2.0**octaves), np.full(whole.size, body_hz)]
    *first, body = side_by_side(at, [(one, whole) for one in hertz])
    gain, apart, wanted = np.stack(first), 1 / PER_OCTAVE, whole
    for _ in range(passes):
        apart *= 2 / (BETWEEN + 1)
        middle = np.take_along_axis(octaves, _highest(gain), axis=0)
        closer = middle + apart * (np.arange(1, BETWEEN + 1) - (BETWEEN + 1) / 2)[:, np.newaxis]
        looked = side_by_side(at, [(cutoff_hz * 2.0 ** row[wanted], wanted) for row in closer])
        octaves, gain = np.concatenate([octaves, closer]), np.concatenate([gain, np.stack(list(looked))])
        wanted = wanted[[not _is_smooth(*_known(octaves[:, cell], gain[:, cell])) for cell in wanted]]
    read = np.stack([_peak(*_known(octaves[:, cell], gain[:, cell])) for cell in whole])
    peak, where, low, high = read.T.reshape(4, gains.size, level_v.size)
    body_db = 20 * np.log10(np.maximum(np.abs(body), 1e-20)).reshape(gains.size, level_v.size)
    peak_hz, low_hz, high_hz = (cutoff_hz * 2.0**place for place in (where, low, high))
    return DriveMap(level_v, gains, peak, peak_hz, low_hz, high_hz, body_db)


def _known(octaves: FloatArray, gain: ComplexArray) -> tuple[FloatArray, ComplexArray]:
    """What was looked at and settled, in order."""
    order = np.argsort(octaves)
    octaves, gain = octaves[order], gain[order]
    there = np.isfinite(gain) & (np.diff(octaves, append=np.inf) > 1e-9)
    return octaves[there], gain[there]


def _has_peak(octaves: FloatArray, gain: ComplexArray) -> bool:
    return octaves.size >= FEWEST_POINTS and 0 < int(np.abs(gain).argmax()) < octaves.size - 1


def _is_smooth(octaves: FloatArray, gain: ComplexArray) -> bool:
    """Whether the highest point stands where the others say that it does: else the gain breaks off beside it, as it
    does where drive bends a sharp peak over."""
    if not _has_peak(octaves, gain):
        return True
    top = int(np.abs(gain).argmax())
    beside = np.delete(np.arange(octaves.size), top)[max(top - 2, 0) : top + 2]
    apart = octaves[beside] - octaves[top]
    # Lagrange's polynomial through the two on either side.
    weights = [np.prod(np.delete(apart, i) / (np.delete(apart, i) - one)) for i, one in enumerate(apart)]
    return bool(abs(np.dot(weights, 1 / gain[beside]) * gain[top] - 1) < SMOOTH)


def _highest(gain: ComplexArray) -> NDArray[np.intp]:
    """(1, b) row of the largest of each column (f, b)."""
    return np.asarray(np.nan_to_num(np.abs(gain), nan=-1.0).argmax(axis=0)[np.newaxis, :])


def _first_harmonic(
    network: Network, mode: str, hertz: FloatArray, *, cutoff_hz: float, gains: FloatArray, level_v: FloatArray,
    rest: FloatArray,
) -> ComplexArray:
    """(b,) V/V, NaN where it did not settle."""
    steps = int(steps_of(network, hertz, cutoff_hz=cutoff_hz, gain=float(gains.max()),
                         fewest=FEWEST_STEPS * COARSER).max()) // COARSER
    orbits = settled_periods(network, hertz, steps, cutoff_hz=cutoff_hz, gain=gains, level_v=level_v, modes=[mode],
                             rest=rest, within=NEARLY, rounds=MAP_ROUNDS)
    analyser = 2j * np.exp(-2j * np.pi * np.arange(steps) / steps) / steps
    found = np.asarray(analyser @ orbits.outputs_v[0] / level_v)
    found[~orbits.settled] = np.nan
    return found


def _rests(network: Network, gains: FloatArray) -> FloatArray:
    """(b, n) capacitor voltages without a drive."""
    own, place = np.unique(gains, return_inverse=True)
    return np.stack([operating_point(network, gain=float(gain)).state_v for gain in own])[place]


def _peak(octaves: FloatArray, gain: ComplexArray) -> tuple[float, float, float, float]:
    """(dB, octaves) of the highest point of gain (f,), and the octaves at which it is 3 dB lower on either side; NaN
    where there is none inside."""
    if not _has_peak(octaves, gain):
        return np.nan, np.nan, np.nan, np.nan
    smooth = _is_smooth(octaves, gain)
    inverse = scipy.interpolate.CubicSpline(octaves, 1 / gain) if smooth else scipy.interpolate.PchipInterpolator(
        octaves, np.abs(1 / gain))
    fine = np.unique(np.concatenate([np.linspace(a, b, FINE) for a, b in pairwise(octaves)]))
    size = np.abs(inverse(fine))
    place = int(size.argmin())
    edge = np.sqrt(2) * size[place]
    below, above = np.flatnonzero(size[:place] >= edge), place + np.flatnonzero(size[place:] >= edge)

    def crossing(outer: int, inner: int) -> float:
        share = (edge - size[inner]) / (size[outer] - size[inner])
        return float(fine[inner] + share * (fine[outer] - fine[inner]))

    return (float(-20 * np.log10(size[place])), float(fine[place]),
            crossing(below[-1], below[-1] + 1) if below.size else np.nan,
            crossing(above[0], above[0] - 1) if above.size else np.nan)


@dataclass(frozen=True, slots=True, eq=False)
class Stopping:
    """Peak volts of a tone above which the whistle is gone, one for each asked, NaN where no level up to 36 dB re 1 V
    stops it."""

    frequency_hz: FloatArray
    gains: FloatArray
    level_v: FloatArray


def stopping_levels(
    network: Network, *, cutoff_hz: float, gains: FloatArray, frequency_hz: FloatArray
) -> Stopping:
    """gains and frequency_hz (b,), in pairs; every gain past the onset."""

    def at(pair: tuple[float, float]) -> float:
        return _stops_at(network, cutoff_hz=cutoff_hz, gain=pair[0], hertz=pair[1])

    pairs = list(zip(gains.tolist(), frequency_hz.tolist(), strict=True))
    return Stopping(frequency_hz, gains, np.array(list(side_by_side(at, pairs))))


def _stops_at(network: Network, *, cutoff_hz: float, gain: float, hertz: float) -> float:
    """The lowest level from which on the driven orbit holds, at every louder one looked at."""
    low, high = (10 ** (db / 20) for db in STOP_DB)
    for _ in range(STOP_ROUNDS):
        levels = np.geomspace(low, high, STOP_LEVELS)
        holds = _holds(network, levels, cutoff_hz=cutoff_hz, gain=gain, hertz=hertz)
        loose = np.flatnonzero(~holds)
        if not loose.size:
            return float(levels[0])
        last = int(loose[-1])
        if last == levels.size - 1:
            return float("nan")
        low, high = float(levels[last]), float(levels[last + 1])
    return float(np.sqrt(low * high))


def _holds(network: Network, levels: FloatArray, *, cutoff_hz: float, gain: float, hertz: float) -> np.ndarray:
    """(l,) whether what disturbs the orbit of the tone dies away."""
    steps = int(steps_of(network, np.full(1, hertz), cutoff_hz=cutoff_hz, gain=gain, fewest=FEWEST_STEPS)[0])
    rest = operating_point(network, gain=gain).state_v
    orbits = settled_periods(network, np.full(levels.size, hertz), steps, cutoff_hz=cutoff_hz, gain=gain,
                             level_v=levels, modes=[network.outputs[0]], rest=rest)
    return orbits.settled & (orbits.growth() < 1)
