"""Values that change in steps: a sequence, samples held of something else, a random walk."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import FloatArray
from jiyuu.signals.controls.gates import Gates
from jiyuu.signals.controls.segments import Segments, smoothed

Direction = Literal["forward", "back", "pendulum", "random"]


def order(count: int, steps: int, direction: Direction, seed: int) -> NDArray[np.intp]:
    """(steps,) which of `count` places is played at each step: back begins with the last, a pendulum does not repeat
    its ends."""
    number = np.arange(steps)
    if direction == "random":
        return np.asarray(np.random.default_rng(seed).integers(count, size=steps), dtype=np.intp)
    if direction == "back":
        return np.asarray(count - 1 - number % count)
    if direction == "pendulum" and count > 1:
        turn = number % (2 * count - 2)
        return np.where(turn < count, turn, 2 * count - 2 - turn)
    return np.asarray(number % count)


def sequence(
    values: tuple[float, ...], rate_hz: float, direction: Direction, seed: int, smooth_s: float, until_s: float
) -> Segments:
    """One value after the other, a step each."""
    steps = int(np.floor(until_s * rate_hz)) + 2
    return stepped_at(np.arange(steps) / rate_hz, values, direction, seed, smooth_s)


def stepped_at(
    starts_s: FloatArray, values: tuple[float, ...], direction: Direction, seed: int, smooth_s: float
) -> Segments:
    """The same with steps that begin at (m,) s."""
    played = np.array(values)[order(len(values), starts_s.size, direction, seed)]
    return smoothed(list(zip(starts_s.tolist(), played.tolist(), strict=True)), smooth_s)


def held(
    of: Callable[[FloatArray], FloatArray] | None, gates: Gates, seed: int, smooth_s: float
) -> Segments:
    """What `of` was at the last rise; None: white noise, uniform in ±1. 0 before the first."""
    values = np.random.default_rng(seed).uniform(-1.0, 1.0, gates.rises.size) if of is None else of(gates.rises)
    before = [] if gates.rises.size and gates.rises[0] == 0 else [(0.0, 0.0)]
    return smoothed(before + list(zip(gates.rises.tolist(), np.asarray(values).tolist(), strict=True)), smooth_s)


def random_walk(rate_hz: float, smooth: float, seed: int, times_s: FloatArray) -> FloatArray:
    """Inside ±1, a new value at every n/rate; it glides to it within `smooth` of a period and stands still for the
    rest, without jumps at 1."""
    turns = np.asarray(times_s) * rate_hz
    number = np.floor(turns).astype(int)
    drawn = np.random.default_rng(seed).uniform(-1.0, 1.0, int(number.max(initial=0)) + 2)
    here, before = drawn[number + 1], drawn[number]
    if smooth <= 0:
        return np.asarray(here)
    way = np.clip((turns - number) / smooth, 0.0, 1.0)
    return np.asarray(before + (here - before) * 0.5 * (1 - np.cos(np.pi * way)))
