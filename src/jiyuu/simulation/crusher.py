"""Sample and hold with coarse steps: what it puts out is a staircase in continuous time, read through the same band
limit as every other output, so that its own images are there and those of the simulation are not."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.signals.long_record import BLOCK, Record
from jiyuu.signals.resampling import DECIMATION_HALF_LENGTH, HALF_LENGTH, at_positions, interpolated, lowpass
from jiyuu.stopping import checkpoint

FINE = 8  # times the rate, between which six points tell what lies there
NEAR = 4  # samples that reading between points looks around
EDGES = 8192  # jumps at a time
PER_SAMPLE = 64  # points of the lowpass's step response


@dataclass(frozen=True, slots=True)
class Clockwork:
    """rate_hz: how often it reads; step_v: what it rounds to; full_scale_v: where it cuts off, one step less upwards;
    sample_rate_hz of what is played."""

    rate_hz: float
    step_v: float
    full_scale_v: float
    sample_rate_hz: float

    @property
    def samples(self) -> float:
        """Of what is played, between two readings."""
        return self.sample_rate_hz / self.rate_hz

    def held(self, played: Record, first: int, last: int) -> FloatArray:
        """(last − first,) volts of the readings with those numbers; 0 before number 0."""
        start = math.floor(first * self.samples) - NEAR
        stop = math.ceil(last * self.samples) + NEAR
        fine = interpolated(played.read(start - HALF_LENGTH, stop + HALF_LENGTH + 1), FINE, HALF_LENGTH,
                            HALF_LENGTH + stop - start)
        number = np.arange(first, last)
        values = np.rint(at_positions(fine, (number * self.samples - start) * FINE) / self.step_v) * self.step_v
        return np.where(number < 0, 0.0, np.clip(values, -self.full_scale_v, self.full_scale_v - self.step_v))


def crushed(played: Record, clock: Clockwork) -> Record:
    """Volts: the staircase, silent before t = 0, through the lowpass of every output."""
    return Record.gathered(_stretch(played, clock, start, min(start + BLOCK, played.size))
                           for start in range(0, played.size, BLOCK))


def _stretch(played: Record, clock: Clockwork, start: int, stop: int) -> FloatArray:
    """(stop − start,) of it: the readings that stand then, and the jumps near enough to be heard there."""
    reach, samples = DECIMATION_HALF_LENGTH, clock.samples
    first = math.floor((start - reach) / samples) - 1
    count = math.ceil(played.size / samples - 1e-9)  # nothing is read after the end
    number = np.arange(first, min(math.floor((stop + reach) / samples) + 1, max(count, 1)))
    values = clock.held(played, first, int(number[-1]) + 1)
    stands = np.searchsorted(number * samples, np.arange(start, stop), side="right") - 1
    out = values[stands]
    jumps = np.diff(values, prepend=0.0)
    jumps[0] = 0.0  # what came before is too far away
    moved = np.flatnonzero(jumps)
    offsets = np.arange(-reach, reach)
    for some in range(0, moved.size, EDGES):
        checkpoint()
        which = moved[some : some + EDGES]
        position = number[which] * samples
        places = np.ceil(position)[:, np.newaxis].astype(np.int64) + offsets
        late = places - position[:, np.newaxis]
        rest = jumps[which, np.newaxis] * (_step_response()(np.clip(late, -reach, reach)) - (late >= 0))
        inside = (places >= start) & (places < stop)
        out += np.bincount(places[inside] - start, rest[inside], stop - start)
    return np.asarray(out)


@lru_cache(maxsize=1)
def _step_response() -> Callable[[FloatArray], FloatArray]:
    """Of the lowpass, over samples."""
    from scipy.interpolate import CubicSpline

    reach = DECIMATION_HALF_LENGTH
    offset = np.arange(-reach * PER_SAMPLE, reach * PER_SAMPLE + 1) / PER_SAMPLE
    whole = CubicSpline(offset, lowpass(offset)).antiderivative()
    points = whole(offset)
    found: Callable[[FloatArray], FloatArray] = CubicSpline(offset, points / points[-1])
    return found
