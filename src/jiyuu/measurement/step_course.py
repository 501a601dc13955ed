"""The course of a whistle's pitch from one plateau to the next, and what couples over from its control.

Before the step the phase runs on as it did; after it, it has run ahead or behind by what the way there made of it. Both
ends are known to hundredths of a cycle, so that a course with few numbers (a lag, or one that overshoots) is fitted to
the waveform itself, the thump beside it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np
import scipy

from jiyuu.arrays import ComplexArray, FloatArray

HARMONICS = 6
FIT_S = 0.06  # behind the step, and at least some periods
FIT_PERIODS = 4.0
LAGS_S = np.geomspace(3e-5, 0.2, 40)
RATES_HZ, DAMPINGS = np.geomspace(8.0, 3000.0, 22), (0.15, 0.3, 0.5, 0.7, 0.9)
THUMPS_S = (0.0015, 0.006)
BEGIN_PERIODS, GROWTH = 3, 1.6
TRIED = 6
SIMPLER = 0.93
ENOUGH = 1.6  # of the noise: a course that leaves no more is the one


@dataclass(frozen=True, slots=True, eq=False)
class Plateau:
    """A steady whistle: frequency_hz; phase (rad) of its fundamental at t = 0 of the recording; shape (h,) complex
    amplitudes of its harmonics, each turned by its own multiple of that phase; dc_v; noise_v (RMS)."""

    frequency_hz: float
    phase: float
    shape: ComplexArray
    dc_v: float
    noise_v: float

    def phase_at(self, t: FloatArray | float) -> FloatArray:
        return np.asarray(2 * np.pi * self.frequency_hz * np.asarray(t) + self.phase)


def plateau(record_v: FloatArray, first: int, last: int, sample_rate_hz: float, near_hz: float) -> Plateau:
    """Of samples first to last: harmonics by least squares, the frequency by how they turn."""
    piece = record_v[first:last]
    t = (np.arange(first, last) - 0.5 * (first + last)) / sample_rate_hz
    hertz = near_hz
    count = max(1, min(HARMONICS, int(0.45 * sample_rate_hz / near_hz)))
    found = np.zeros(2 * count + 1)
    for _ in range(6):
        turns = 2 * np.pi * hertz * np.outer(t, np.arange(1, count + 1))
        columns = np.concatenate([np.cos(turns), np.sin(turns), np.ones((t.size, 1))], axis=1)
        found = np.linalg.lstsq(columns, piece, rcond=None)[0]
        # d/dω of the whole: harmonics by their own numbers.
        orders = np.arange(1, count + 1)
        slope = t * ((-np.sin(turns) * orders) @ found[:count] + (np.cos(turns) * orders) @ found[count : 2 * count])
        left = piece - columns @ found
        step = float(slope @ left / max(slope @ slope, 1e-30)) / (2 * np.pi)
        hertz += step
        if abs(step) < 1e-9 * hertz:
            break
    weights = found[:count] - 1j * found[count : 2 * count]
    middle_s = 0.5 * (first + last) / sample_rate_hz
    phase = float(np.angle(weights[0]))
    shape = weights * np.exp(-1j * phase * np.arange(1, count + 1))
    left = piece - columns @ found
    degrees = max(piece.size - 2 * count - 2, 1)
    return Plateau(hertz, phase - 2 * np.pi * hertz * middle_s, np.asarray(shape, dtype=np.complex128),
                   float(found[-1]), float(np.sqrt(left @ left / degrees)))


@dataclass(frozen=True, slots=True, eq=False)
class Course:
    """at_s: where it begins; lag_s, or rate_hz with damping where it swings; thump_v that couples over at once and dies
    with thump_s; left: RMS of what is not explained, over the noise."""

    at_s: float
    lag_s: float | None
    rate_hz: float | None
    damping: float | None
    thump_v: float
    thump_s: float
    left: float

    def way_left(self, t: FloatArray) -> FloatArray:
        """Share of the way in octaves that is still to go, t s behind the step: 1 at once, 0 at the end."""
        if self.lag_s is not None:
            return np.asarray(np.exp(-t / self.lag_s))
        assert self.rate_hz is not None
        assert self.damping is not None
        return _swinging(t, self.rate_hz, self.damping)


def _swinging(t: FloatArray, rate_hz: float, damping: float) -> FloatArray:
    w = 2 * np.pi * rate_hz
    turns = w * np.sqrt(1 - damping**2)
    return np.asarray(np.exp(-damping * w * t) * (np.cos(turns * t) + damping * w / turns * np.sin(turns * t)))


WayLeft = Callable[[FloatArray], FloatArray]


class _Fitting:
    """The waveform around a step, and what a course makes of it."""

    def __init__(
        self, record_v: FloatArray, sample_rate_hz: float, before: Plateau, after: Plateau, at_s: float, until_s: float
    ) -> None:
        low = min(before.frequency_hz, after.frequency_hz)
        span_s = min(max(FIT_S, FIT_PERIODS / low), until_s - at_s)
        first = max(round((at_s - 1.0 / before.frequency_hz - 0.002) * sample_rate_hz), 0)
        last = min(round((at_s + span_s) * sample_rate_hz), record_v.size)
        self.t = np.arange(first, last) / sample_rate_hz
        self.record, self.rate = record_v[first:last], sample_rate_hz
        self.before, self.after = before, after
        self.octaves = float(np.log2(before.frequency_hz / after.frequency_hz))
        heard = [np.abs(one.shape) > 0.25 * max(one.noise_v, 1e-4 * float(np.abs(one.shape[0])))
                 for one in (before, after)]
        most = min(before.shape.size, after.shape.size)
        count = int(np.flatnonzero(heard[0][:most] | heard[1][:most]).max(initial=0)) + 1
        self.shapes = before.shape[:count], after.shape[:count]
        self.noise_v = max(before.noise_v, after.noise_v, 1e-7 * float(np.abs(before.shape[0])))
        self.sizes = [self.t.size]

    def grow_from(self, since_s: float) -> None:
        """From few periods to all of them: what fits those before tells how many cycles there are in the next."""
        begun, whole = round((since_s) * self.rate), self.t.size
        steps = max(int(np.ceil(np.log(whole / begun) / np.log(GROWTH))), 1) if begun < whole else 1
        self.sizes = [min(round(begun * (whole / begun) ** (k / steps)), whole) for k in range(steps + 1)]

    def _whistle(self, t: FloatArray, at_s: float, way_left: FloatArray, since: FloatArray) -> FloatArray:
        """since: s behind the step, 0 before it."""
        hertz = self.after.frequency_hz * 2.0 ** (self.octaves * way_left)
        beyond = since > 0
        first = int(np.argmax(beyond)) if beyond.any() else beyond.size
        phase = self.before.phase_at(t)
        if first < phase.size:
            inside = hertz[first:]
            steps = np.concatenate([[since[first] * 0.5 * (self.before.frequency_hz + inside[0])],
                                    0.5 * (inside[1:] + inside[:-1]) / self.rate])
            phase[first:] = self.before.phase_at(at_s) + 2 * np.pi * np.cumsum(steps)
        share = np.where(beyond, 1 - way_left, 0.0).clip(0, 1)
        turned = np.exp(1j * phase)
        total = np.zeros(phase.size, dtype=complex)
        for one, other in zip(self.shapes[0][::-1], self.shapes[1][::-1], strict=True):  # by Horner's scheme
            total += one + share * (other - one)
            total *= turned
        return np.asarray(total.real + self.before.dc_v + share * (self.after.dc_v - self.before.dc_v))

    def left(self, at_s: float, way_of: WayLeft, thump_s: float, size: int) -> tuple[FloatArray, float]:
        """(what is left of the first samples, over the noise (size,), the thump's volts)."""
        t = self.t[:size]
        since = np.maximum(t - at_s, 0.0)
        beyond = t >= at_s
        way = np.where(beyond, way_of(since), 1.0)
        rest = self.record[:size] - self._whistle(t, at_s, way, since)
        thump = np.where(beyond, np.exp(-since / thump_s), 0.0)
        volts = float(thump @ rest) / max(float(thump @ thump), 1e-30)
        return np.asarray((rest - volts * thump) / self.noise_v, dtype=float), volts


def fitted_course(
    record_v: FloatArray, sample_rate_hz: float, before: Plateau, after: Plateau, at_s: float, until_s: float
) -> Course:
    """at_s: about where the step begins; until_s: until where the second plateau is known to stand."""
    fitting = _Fitting(record_v, sample_rate_hz, before, after, at_s, until_s)
    times, octaves = _track(fitting, at_s)
    seen_s = float(times[min(BEGIN_PERIODS, times.size - 1)]) if times.size else 0.0
    fitting.grow_from(at_s - float(fitting.t[0]) + max(seen_s, 6e-4))
    grids = {False: [[at_s, float(np.log(lag))] for lag in LAGS_S],
             True: [[at_s, float(np.log(rate)), float(np.log(damping / (1 - damping)))]
                    for rate in RATES_HZ for damping in DAMPINGS]}

    def off_track(theta: FloatArray, swings: bool) -> FloatArray:
        since = np.maximum(times - (theta[0] - at_s), 0.0)
        return np.asarray(_way(theta, swings)(since) * fitting.octaves - octaves)

    def begun(swings: bool) -> list[FloatArray]:
        """What follows the lengths of its periods best."""
        grid = sorted((float(np.sum(off_track(np.array(theta), swings) ** 2)), theta) for theta in grids[swings])
        nearest = [np.array(theta) for _, theta in grid[:TRIED]]
        if times.size < 6:
            return nearest
        scales = [1e-4, 0.05, 0.1][: nearest[0].size]
        settled = (scipy.optimize.least_squares(off_track, theta, x_scale=scales, max_nfev=60, args=(swings,))
                   for theta in nearest[:3])
        return nearest[:2] + [np.asarray(one.x) for one in settled]

    plain = _grown(fitting, begun(False), swings=False)
    if plain.left < ENOUGH:
        return plain
    swung = _grown(fitting, begun(True), swings=True)
    # One number less explains as well: the simpler course.
    return swung if swung.left < SIMPLER * plain.left else plain


def _track(fitting: _Fitting, at_s: float) -> tuple[FloatArray, FloatArray]:
    """(s behind the step, octaves still to go) at every half period."""
    piece = fitting.record - fitting.after.dc_v
    inside = fitting.t >= at_s
    times = crossings(piece[inside], fitting.rate, 0.2 * float(np.abs(fitting.after.shape[0])))
    if times.size < 4:
        return np.zeros(0), np.zeros(0)
    # Two halves together: a waveform that is not symmetric has long ones and short ones.
    hertz = 1 / (times[2:] - times[:-2])
    return times[1:-1], np.log2(hertz / fitting.after.frequency_hz)


def crossings(record_v: FloatArray, sample_rate_hz: float, least_v: float) -> FloatArray:
    """s from the first sample at which it passes zero, up and down by turns, having been least_v away between."""
    sides = np.where(record_v > least_v, 1, np.where(record_v < -least_v, -1, 0))
    known = np.flatnonzero(sides)
    turns = known[np.flatnonzero(np.diff(sides[known])) + 1] if known.size else known
    found = []
    for turn in turns:
        i = int(turn)
        while i > 0 and record_v[i - 1] * record_v[turn] > 0:
            i -= 1
        if i > 0:
            found.append(i - 1 + record_v[i - 1] / (record_v[i - 1] - record_v[i]))
    return np.array(found) / sample_rate_hz


def _way(theta: FloatArray, swings: bool) -> WayLeft:
    """theta: s of the step, logarithm of the lag in s, or of the rate in Hz and of d/(1 − d)."""
    if not swings:
        return partial(_lagging, float(np.exp(np.clip(theta[1], -13, 2))))
    rate_hz, damping = float(np.exp(np.clip(theta[1], 0, 10))), float(1 / (1 + np.exp(-np.clip(theta[2], -5, 5))))
    return partial(_swinging, rate_hz=rate_hz, damping=damping)


def _lagging(lag_s: float, since: FloatArray) -> FloatArray:
    return np.asarray(np.exp(-since / lag_s))


def _left(fitting: _Fitting, swings: bool, size: int, theta: FloatArray) -> FloatArray:
    return fitting.left(float(theta[0]), _way(theta, swings), float(np.exp(np.clip(theta[-1], -9, -1))), size)[0]


def _grown(fitting: _Fitting, starts: list[FloatArray], *, swings: bool) -> Course:
    """The best of some beginnings, each refined over more and more of the record."""
    scales = [2e-5, 0.05, *([0.1] if swings else []), 0.3]
    best: tuple[float, FloatArray] = (np.inf, np.zeros(3))
    thetas = [np.array([*start, np.log(0.004)]) for start in starts]
    for k, size in enumerate(fitting.sizes):
        if size == fitting.sizes[-1]:
            thetas = [np.array([*theta[:-1], at]) for theta in thetas[:2] for at in (theta[-1], *np.log(THUMPS_S))]
        refined = []
        for theta in thetas:
            evaluations = 30 if k == len(fitting.sizes) - 1 else 10
            solved = scipy.optimize.least_squares(partial(_left, fitting, swings, size), theta, x_scale=scales,
                                                  diff_step=1e-6, max_nfev=evaluations)
            refined.append((float(solved.cost), solved.x))
        refined.sort(key=lambda one: one[0])
        thetas = [theta for _, theta in refined[: max(TRIED - 2 * k, 2)]]
        best = refined[0]
    theta = best[1]
    thump_s = float(np.exp(np.clip(theta[-1], -9, -1)))
    rest, volts = fitting.left(float(theta[0]), _way(theta, swings), thump_s, fitting.t.size)
    ratio = float(np.sqrt(np.mean(rest**2)))
    if not swings:
        return Course(float(theta[0]), float(np.exp(theta[1])), None, None, volts, thump_s, ratio)
    return Course(float(theta[0]), None, float(np.exp(theta[1])), float(1 / (1 + np.exp(-np.clip(theta[2], -5, 5)))),
                  volts, thump_s, ratio)
