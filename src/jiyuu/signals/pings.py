"""Pulses into a filter at rest: what is played to hear it ring, and the same read from a record."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError

SHORTEST_S, LONGEST_S = 2e-5, 0.1
MOST, LOUDEST_V = 200, 100.0
SILENCE_S = 0.5
LEVEL = 0.5  # of the highest: where a pulse begins and ends


@dataclass(frozen=True, slots=True)
class Pings:
    """Where each begins (s), how long it lasts (s), its signed volts."""

    at_s: tuple[float, ...]
    length_s: float
    level_v: float


def ping_stimulus(
    *, length_s: float, level_v: float, every_s: float, count: int, sample_rate_hz: float
) -> FloatArray:
    """(n,) volts: silence, then a pulse every so often. Raises SignalError for what cannot be played."""
    if not SHORTEST_S <= length_s <= LONGEST_S:
        raise SignalError(f"a pulse of {1000 * length_s:g} ms is out of range; give 0.02 to 100 ms.")
    if not 0 < abs(level_v) <= LOUDEST_V:
        raise SignalError(f"a level of {level_v:g} V is out of range; give up to {LOUDEST_V:g} V, not 0.")
    if not 1 <= count <= MOST:
        raise SignalError(f"{count} pulses are out of range; give 1 to {MOST}.")
    if not max(0.02, 2 * length_s) <= every_s <= 60:
        raise SignalError(f"a pulse every {every_s:g} s is out of range; give 0.02 to 60 s, at least twice its length.")
    record = np.zeros(round((SILENCE_S + count * every_s) * sample_rate_hz))
    long = max(round(length_s * sample_rate_hz), 1)
    for i in range(count):
        start = round((SILENCE_S + i * every_s) * sample_rate_hz)
        record[start : start + long] = level_v
    return record


def pings_in(stimulus_v: FloatArray, sample_rate_hz: float) -> Pings:
    """What a stimulus of this kind plays, read from the record itself. Raises SignalError where it is none."""
    wrong = SignalError("The stimulus holds no pulses of one length with silence between; take the file that 'jiyuu "
                        "stimulus pings' wrote.")
    highest = float(np.abs(stimulus_v).max(initial=0.0))
    if not highest > 0:
        raise wrong
    edges = np.flatnonzero(np.diff(np.concatenate([[False], np.abs(stimulus_v) > LEVEL * highest, [False]])))
    begins, ends = edges[::2], edges[1::2]
    lengths = ends - begins
    if begins.size > MOST or np.ptp(lengths) > max(2, 0.02 * lengths[0]) or not (
        SHORTEST_S * sample_rate_hz * 0.5 <= lengths[0] <= 1.05 * LONGEST_S * sample_rate_hz
    ):
        raise wrong
    levels = np.array([np.mean(stimulus_v[begin:end]) for begin, end in zip(begins, ends, strict=True)])
    if np.ptp(levels) > 0.05 * highest or (np.diff(begins) < 2 * lengths[0]).any():
        raise wrong
    return Pings(tuple((begins / sample_rate_hz).tolist()), float(np.mean(lengths)) / sample_rate_hz,
                 float(np.mean(levels)))
