"""Response curves at their levels, thinned to what tells a circuit: close together where they turn."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import scipy
from numpy.typing import NDArray

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.response import MeasuredResponse

SHARP_OCTAVES, CLOSE_OCTAVES = 0.2, 0.75  # about the place where a curve turns most
CLOSE_GRAIN, WIDE_GRAIN = 3, 12  # points of a measured curve that are taken together there
BELOW_OCTAVES, ABOVE_OCTAVES = 4.0, 3.5  # that are looked at
FEWEST_POINTS, FEWEST_NODES = 200, 12
TURN_APART = 32  # points of a curve
BETWEEN_SHARE, AT_SHARE = 0.5, 0.1  # of how something turns from node to node, that it may be off by
LEAST_SNR_DB, DEEPEST_DB = 25.0, 60.0


@dataclass(frozen=True, eq=False)
class LevelCurve:
    """Level (n,) in dB and phase (n,) over hertz (n,), measured at level_v peak; draws (d, n) of both: as noise might
    as well have them, the phase less that of the curve. efold_s: in which the sweep's frequency grew e-fold, where it
    did so steadily."""

    hertz: FloatArray
    level_db: FloatArray
    draws_db: FloatArray
    level_v: float
    phase_rad: FloatArray
    draws_rad: FloatArray
    efold_s: float | None = None

    @classmethod
    def of(cls, response: MeasuredResponse) -> LevelCurve:
        """Raises MeasurementError for a recording of something else than a sweep of one level."""
        if response.level_v is None or response.coherence is not None:
            raise MeasurementError("A circuit is told from sweeps of one level; record what 'jiyuu stimulus sweep' "
                                   "wrote, once softly and once loud.")
        draws = 20 * np.log10(np.maximum(np.abs(response.draws), 1e-20))
        turned = response.draws * np.conj(response.gain / np.maximum(np.abs(response.gain), 1e-20))
        return cls(response.frequency_hz, response.level_db, np.asarray(draws), response.level_v,
                   np.unwrap(np.angle(response.gain)), np.angle(turned), response.efold_s)

    @cached_property
    def usable(self) -> NDArray[np.bool_]:
        """(n,) where it stands out of the noise, within hearing."""
        clear = self.draws_db.std(axis=0) < 20 / np.log(10) * 10 ** (-LEAST_SNR_DB / 20)
        inside = (self.hertz > 20) & (self.hertz < 20_000)
        return np.asarray(clear & inside & (self.level_db > self.level_db[inside].max() - DEEPEST_DB))


@dataclass(frozen=True, slots=True, eq=False)
class Samples:
    """Means (m,) of a curve over short stretches, close together about middle_hz, where it turns; the deviation (m,) of
    each. nodes: the ones at which the filter is driven; between them what bending does is smooth."""

    hertz: FloatArray
    level_db: FloatArray
    deviation_db: FloatArray
    level_v: float
    nodes: NDArray[np.intp]
    phase_rad: FloatArray
    phase_deviation: FloatArray
    middle_hz: float
    efold_s: float | None

    def thinned(self, by: int) -> Samples:
        """Every so manieth of them; all of those are nodes."""
        hertz = self.hertz[::by]
        return replace(self, hertz=hertz, level_db=self.level_db[::by], deviation_db=self.deviation_db[::by],
                       nodes=np.arange(hertz.size), phase_rad=self.phase_rad[::by],
                       phase_deviation=self.phase_deviation[::by])

    def between(self, at_nodes: FloatArray) -> tuple[FloatArray, FloatArray]:
        """(m,) of something known at the nodes (NaN where it is not), and by how much it may be off between and at
        them: by how it turns from one to the next."""
        known = np.isfinite(at_nodes)
        if known.sum() < FEWEST_NODES:
            return np.full(self.hertz.size, np.nan), np.full(self.hertz.size, np.inf)
        place, nodes = np.log2(self.hertz), self.nodes[known]
        values = at_nodes[known]
        turns = np.abs(np.diff(values, 2, prepend=values[0], append=values[-1]))
        turns = np.maximum(turns, np.maximum(np.append(turns[1:], 0.0), np.append(0.0, turns[:-1])))
        off = BETWEEN_SHARE * np.interp(place, place[nodes], turns)
        off[nodes] *= AT_SHARE / BETWEEN_SHARE
        return np.asarray(scipy.interpolate.PchipInterpolator(place[nodes], values, extrapolate=True)(place)), off


def sampled(curve: LevelCurve, middle_hz: float) -> Samples:
    """A curve about the place where it turns. Raises MeasurementError where too little stands out of the noise."""
    octaves = np.log2(curve.hertz / middle_hz)
    usable = np.flatnonzero(curve.usable & (octaves > -BELOW_OCTAVES) & (octaves < ABOVE_OCTAVES))
    grain = np.where(np.abs(octaves) < SHARP_OCTAVES, 1, np.where(np.abs(octaves) < CLOSE_OCTAVES, CLOSE_GRAIN,
                                                                  WIDE_GRAIN))
    # Blocks of equal grain, begun anew wherever the grain changes or something is left out.
    blocks: list[NDArray[np.intp]] = []
    i = 0
    while i < usable.size:
        size = int(grain[usable[i]])
        block = usable[i : i + size]
        if block[-1] - block[0] == block.size - 1 and (grain[block] == size).all():
            blocks.append(block)
        i += size
    if len(blocks) < FEWEST_NODES * 2:
        raise MeasurementError(f"Too little of the recording at {curve.level_v:.3g} V stands above its noise; record "
                               "it louder.")
    hertz = np.array([np.exp(np.log(curve.hertz[block]).mean()) for block in blocks])
    deviation = np.array([curve.draws_db[:, block].mean(axis=1).std() for block in blocks])
    level = np.array([curve.level_db[block].mean() for block in blocks])
    phase = np.array([curve.phase_rad[block].mean() for block in blocks])
    phase_deviation = np.array([curve.draws_rad[:, block].mean(axis=1).std() for block in blocks])
    nodes, last, place = [], -np.inf, np.log2(hertz / middle_hz)
    for i in range(hertz.size):
        gap = 1 / 32 if abs(place[i]) < SHARP_OCTAVES else 1 / 12 if abs(place[i]) < CLOSE_OCTAVES else 1 / 2
        if place[i] - last >= gap - 1e-6 or i == hertz.size - 1:
            nodes.append(i)
            last = place[i]
    return Samples(hertz, level, deviation, curve.level_v, np.array(nodes), phase, phase_deviation,
                   middle_hz, curve.efold_s)


def turning_hz(curve: LevelCurve) -> float:
    """Where a curve bends most. Raises MeasurementError where too little stands out of the noise."""
    if curve.usable.sum() < FEWEST_POINTS:
        raise MeasurementError("Too little of the softest recording stands above its noise; record it louder.")
    inner, after, before = slice(TURN_APART, -TURN_APART), slice(2 * TURN_APART, None), slice(None, -2 * TURN_APART)

    def turn(level_db: FloatArray) -> FloatArray:
        """(…, n − 2·TURN_APART): how far the middle of an octave's third lies off the line through its ends."""
        return np.asarray(level_db[..., after] - 2 * level_db[..., inner] + level_db[..., before])

    seen = np.abs(turn(curve.level_db)) - 4 * turn(curve.draws_db).std(axis=0)
    clear = curve.usable[inner] & curve.usable[after] & curve.usable[before]
    return float(curve.hertz[inner][int(np.argmax(np.where(clear, seen, -np.inf)))])
