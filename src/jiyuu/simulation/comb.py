"""A comb whose delay, feedback and mix move while it plays: y = x + g·D·y(t − τ), D a pole, read band-limited between
the samples of its own past. One that stands still has an exact response and needs none of this."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import DEAD, FloatArray
from jiyuu.compiled.entry import Row, Table
from jiyuu.compiled.loops import loop
from jiyuu.signals.long_record import BLOCK, Record
from jiyuu.signals.resampling import DECIMATION_HALF_LENGTH, HALF_LENGTH, decimated, interpolated
from jiyuu.stopping import checkpoint

REACH, PHASES = 16, 1024  # of reading between samples: on either side, and how finely
BETA = 8.0
NEARLY = 1.05  # between two samples a frequency that moves may be a little lower than on them
LEAST_FACTOR, LEAST_DELAY = 2, REACH + 2  # fine samples of delay that reading needs


def fine_factor(highest_hz: float, sample_rate_hz: float) -> int:
    """How many times the rate the shortest delay needs."""
    needed = LEAST_DELAY * highest_hz / sample_rate_hz
    return max(LEAST_FACTOR, 2 ** math.ceil(math.log2(max(needed, 1.0))))


@dataclass(frozen=True, slots=True, eq=False)
class Moves:
    """How a comb moves: frequency_hz, feedback and mix at times in s (n,) -> (n,)."""

    frequency_hz: Callable[[FloatArray], FloatArray]
    feedback: Callable[[FloatArray], FloatArray]
    mix: Callable[[FloatArray], FloatArray]


def through_comb(played: Record, sample_rate_hz: float, moves: Moves, *, damping_hz: float | None) -> Record:
    """Volts behind the comb."""
    lowest_hz, highest_hz = _span(played, sample_rate_hz, moves)
    factor = fine_factor(highest_hz, sample_rate_hz)
    fine_rate_hz = sample_rate_hz * factor
    longest = math.ceil(fine_rate_hz / lowest_hz * NEARLY) + REACH + 2
    rate = 0.0 if damping_hz is None else 2 * np.pi * damping_hz / fine_rate_hz
    taps, state = _taps(), np.zeros(2)
    past, delay_before = np.zeros(longest), fine_rate_hz / float(moves.frequency_hz(np.zeros(1))[0])
    half = DECIMATION_HALF_LENGTH * factor
    waiting = np.zeros(half)  # silence ahead of the record
    out = Record()
    for start in range(0, played.size, BLOCK):
        checkpoint()
        stop = min(start + BLOCK, played.size)
        fine = interpolated(played.read(start - HALF_LENGTH - 1, stop + HALF_LENGTH + 2), factor, HALF_LENGTH + 1,
                            HALF_LENGTH + 1 + stop - start)[:-1]
        times_s = np.arange(start * factor, stop * factor) / fine_rate_hz
        delay = np.concatenate([[delay_before], fine_rate_hz / moves.frequency_hz(times_s)])
        wet = np.concatenate([past, np.zeros(fine.size)])
        _loop(fine, wet, past.size, delay, moves.feedback(times_s), rate, taps, state)
        past, delay_before = wet[-longest:].copy(), delay[-1]
        found = fine + moves.mix(times_s) * (wet[-fine.size :] - fine)
        if stop == played.size:
            found = np.concatenate([found, np.zeros(half)])
        waiting = np.concatenate([waiting, found])
        out.add(decimated(waiting[np.newaxis], factor)[0])
        waiting = waiting[-2 * half :]
    return out


def _span(played: Record, sample_rate_hz: float, moves: Moves) -> tuple[float, float]:
    """(lowest, highest) frequency that it gets to, in Hz."""
    found = [moves.frequency_hz(np.arange(start, min(start + BLOCK, played.size) + 1) / sample_rate_hz)
             for start in range(0, max(played.size, 1), BLOCK)]
    return min(float(one.min()) for one in found), max(float(one.max()) for one in found)


def _taps() -> FloatArray:
    """(PHASES + 1, 2·REACH) weights of the samples around for every fraction of one."""
    fraction = np.arange(PHASES + 1)[:, np.newaxis] / PHASES
    t = np.arange(-REACH + 1, REACH + 1)[np.newaxis, :] - fraction
    inside = np.clip(1 - (t / REACH) ** 2, 0, None)
    taps = np.sinc(t) * np.i0(BETA * np.sqrt(inside))
    return np.asarray(taps / taps.sum(axis=1, keepdims=True))


@loop()
def _read(past: Row, place: float, taps: Table) -> float:
    base = math.floor(place)
    phase = (place - base) * PHASES
    row = int(phase)
    part = phase - row
    total = 0.0
    for k in range(2 * REACH):
        i = base - REACH + 1 + k
        if 0 <= i < past.size:
            total += past[i] * (taps[row, k] + part * (taps[min(row + 1, PHASES), k] - taps[row, k]))
    return total


@loop()
def _loop(
    played: Row, wet: Row, offset: int, delay: Row, feedback: Row, rate: float, taps: Table, state: Row,
) -> None:
    """offset: of the first sample played in wet, which has the past ahead of it; delay (n + 1,) in fine samples, the
    one before first; rate: of the damping pole, in radians a fine sample, 0 for none; state: that pole, and what it
    was given last."""
    # z' = rate·(v − z), v a parabola through the two ends of a step and its middle, integrated exactly.
    keep = math.exp(-rate)
    first = middle = last = 0.0
    if rate > 0:
        # Moments of the exponential over a step of unit length, by quadrature of enough points.
        points = 64
        for i in range(points):
            s = (i + 0.5) / points
            weight = rate * math.exp(-rate * (1 - s)) / points
            first += weight * (2 * s - 1) * (s - 1)
            middle += weight * 4 * s * (1 - s)
            last += weight * s * (2 * s - 1)
        scale = (1 - keep) / (first + middle + last)
        first, middle, last = first * scale, middle * scale, last * scale
    damped, before = state
    for n in range(played.size):
        place = offset + n
        now = _read(wet, place - delay[n + 1], taps)
        if rate > 0:
            between = _read(wet, place - 0.5 - 0.5 * (delay[n + 1] + delay[n]), taps)
            damped = keep * damped + first * before + middle * between + last * now
            before = now
        else:
            damped = now
        value = played[n] + feedback[n] * damped
        wet[place] = 0.0 if abs(value) < DEAD else value
    state[0], state[1] = damped, before
