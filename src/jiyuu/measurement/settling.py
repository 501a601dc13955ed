"""How a whistle follows a step of its control: until when it is off pitch, how far past its goal it goes, and what of
the control couples over into the sound."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.steady_pieces import Piece, find_pieces
from jiyuu.measurement.step_course import Course, Plateau, crossings, fitted_course, plateau
from jiyuu.stopping import checkpoint

WITHIN_CENTS = 10.0
GLIDE_S = 0.020  # slower than this, a glide can be heard
LEAST_CENTS = 40.0  # smaller moves are drift
EDGE_S = 0.02  # of a steady piece that may not be so steady
LONGEST_S = 0.4  # of a plateau that is fitted
PARTED = 6.0  # of the noise, that the sound parts from what it was
EXPLAINED = 0.02  # of the whistle: what a course may leave
HORIZON_S = 2.0


@dataclass(frozen=True, slots=True)
class SettledStep:
    """at_s: where the step begins in the recording. settling_s: until the pitch stays within ±10 cents of to_hz for
    good, never less than a period of the lower pitch; resolution_s: how finely that can be told. overshoot_cents ≥ 0,
    past the goal in the step's own direction; feedthrough_v: signed peak of what is left within 60 ms when the whistle
    is taken out."""

    at_s: float
    from_hz: float
    to_hz: float
    settling_s: float
    resolution_s: float
    overshoot_cents: float
    feedthrough_v: float

    @property
    def heard_as_glide(self) -> bool:
        return self.settling_s > GLIDE_S


def measure_settling(recording_v: FloatArray, sample_rate_hz: float) -> tuple[SettledStep, ...]:
    """recording_v (n,) of a whistle whose control is stepped, every step held for some tenths of a second. Raises
    MeasurementError, with what to do, where no two steady pitches follow each other."""
    pieces = _as_plateaus(find_pieces(recording_v, sample_rate_hz))
    if len(pieces) < 2:
        raise MeasurementError("There is only one steady pitch in the recording; step the control by some volts and "
                               "hold every step for half a second.")
    found = []
    tones = [_plateau(recording_v, piece, sample_rate_hz, late=i > 0) for i, piece in enumerate(pieces)]
    for i, (piece, after) in enumerate(pairwise(pieces)):
        checkpoint()
        ending = tones[i] if i == 0 else _plateau(recording_v, piece, sample_rate_hz, late=True)
        found.append(_step(recording_v, sample_rate_hz, piece, after, ending, tones[i + 1]))
    return tuple(found)


def _as_plateaus(pieces: list[Piece]) -> list[Piece]:
    """Neighbours of one pitch are one."""
    found: list[Piece] = []
    for piece in pieces:
        last = found[-1] if found else None
        if last is not None and abs(1200 * np.log2(piece.frequency_hz / last.frequency_hz)) < LEAST_CENTS:
            found[-1] = Piece(last.start_s, piece.stop_s, last.frequency_hz, last.level_db, last.begun_s)
        else:
            found.append(piece)
    return found


def _plateau(recording_v: FloatArray, piece: Piece, sample_rate_hz: float, *, late: bool) -> Plateau:
    """late: of its second half, settled by then."""
    start_s = piece.start_s + (0.5 * piece.duration_s if late else EDGE_S)
    stop_s = max(piece.stop_s - EDGE_S, start_s + 3 / piece.frequency_hz)
    start_s = max(start_s, stop_s - LONGEST_S)
    return plateau(recording_v, max(round(start_s * sample_rate_hz), 0),
                   min(round(stop_s * sample_rate_hz), recording_v.size), sample_rate_hz, piece.frequency_hz)


def _step(
    recording_v: FloatArray, sample_rate_hz: float, before: Piece, after: Piece, ending: Plateau, goal: Plateau
) -> SettledStep:
    at_s = _parted(recording_v, sample_rate_hz, before, ending)
    course = fitted_course(recording_v, sample_rate_hz, ending, goal, at_s, after.stop_s - EDGE_S)
    # A thousandth more than a period: the pitch itself is known no better, and it must not be stated finer.
    period_s = 1.001 / min(ending.frequency_hz, goal.frequency_hz)
    noise = max(ending.noise_v, goal.noise_v)
    if course.left * noise > EXPLAINED * abs(goal.shape[0]) + 3 * noise:
        settling_s, overshoot = _by_periods(recording_v, sample_rate_hz, at_s, after.stop_s - EDGE_S, ending, goal)
        return SettledStep(at_s, ending.frequency_hz, goal.frequency_hz, max(settling_s, period_s), period_s, overshoot,
                           course.thump_v)
    cents = 1200 * abs(float(np.log2(ending.frequency_hz / goal.frequency_hz)))
    settling_s, overshoot = _of_course(course, cents)
    return SettledStep(course.at_s, ending.frequency_hz, goal.frequency_hz, max(settling_s, period_s), period_s,
                       overshoot, course.thump_v)


def _of_course(course: Course, cents: float) -> tuple[float, float]:
    """(settling time, overshoot) of a course over so many cents."""
    reach = HORIZON_S if course.lag_s is None else max(20 * course.lag_s, 1e-4)
    if course.rate_hz is not None and course.damping is not None:
        reach = min(HORIZON_S, 14 / (course.damping * 2 * np.pi * course.rate_hz))
    t = np.linspace(0, reach, 40_001)
    off = cents * course.way_left(t)
    outside = np.flatnonzero(np.abs(off) > WITHIN_CENTS)
    settled = 0.0 if not outside.size else float(t[min(int(outside[-1]) + 1, t.size - 1)])
    return settled, float(max(-off.min(), 0.0))


def _parted(recording_v: FloatArray, sample_rate_hz: float, before: Piece, ending: Plateau) -> float:
    """Where the sound parts from what it would have gone on to be."""
    first = max(round((before.stop_s - 0.06) * sample_rate_hz), 0)
    last = min(round((before.stop_s + 0.25) * sample_rate_hz), recording_v.size)
    t = np.arange(first, last) / sample_rate_hz
    orders = np.arange(1, ending.shape.size + 1)
    expected = (ending.shape * np.exp(1j * np.outer(ending.phase_at(t), orders))).real.sum(axis=1) + ending.dc_v
    off = np.abs(recording_v[first:last] - expected)
    limit = max(PARTED * ending.noise_v, 1e-3 * abs(ending.shape[0]))
    window = max(round(0.3 * sample_rate_hz / ending.frequency_hz), 8)
    crowded = np.convolve(off > limit, np.ones(window), "full")[window - 1 :][: off.size] > 0.4 * window
    began = np.flatnonzero(crowded & (off > limit))
    return float(t[int(began[0])] if began.size else before.stop_s)


def _by_periods(
    recording_v: FloatArray, sample_rate_hz: float, at_s: float, until_s: float, ending: Plateau, goal: Plateau
) -> tuple[float, float]:
    """(settling time, overshoot) from the lengths of its periods, whatever course it takes."""
    first, last = round(at_s * sample_rate_hz), min(round(until_s * sample_rate_hz), recording_v.size)
    piece = recording_v[first:last] - goal.dc_v
    size = abs(goal.shape[0])
    times = crossings(piece, sample_rate_hz, 0.2 * size)[::2]
    if times.size < 3:
        return until_s - at_s, 0.0
    jitter = goal.noise_v / (size * 2 * np.pi * goal.frequency_hz) * np.sqrt(2)
    over = int(np.clip(np.ceil(1200 / np.log(2) * jitter * goal.frequency_hz / 1.0), 1, max(times.size // 4, 1)))
    cents = 1200 * np.log2(over / (times[over:] - times[:-over]) / goal.frequency_hz)
    middle = 0.5 * (times[over:] + times[:-over])
    outside = np.flatnonzero(np.abs(cents) > WITHIN_CENTS)
    settled = 0.0 if not outside.size else float(middle[min(int(outside[-1]) + 1, middle.size - 1)])
    way = np.sign(goal.frequency_hz - ending.frequency_hz)
    return settled, float(max((way * cents).max(), 0.0))
