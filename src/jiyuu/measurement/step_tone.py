"""One step of a staircase: the mean frequency and level over its steady part, and how long it took to get there.

The recording is turned down by the step's rough frequency and smoothed over whole periods of its fundamental twice,
which takes out DC, every other partial and the mirror image exactly. What is left is one slowly turning vector: its
phase, fitted with a parabola (pitch and drift) by weight of its own size, gives the frequency in the middle, which is
the mean over the stretch; in white noise a parabola about the middle costs nothing against a straight line (Rife and
Boorstyn 1974, IEEE Transactions on Information Theory, for the bound). Samples a click has moved are left out.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import FloatArray
from jiyuu.measurement.steady_pieces import Piece
from jiyuu.measurement.step_lines import divided, on_a_line
from jiyuu.measurement.uncertain import COVERAGE, Uncertain
from jiyuu.signals.running import running_median
from jiyuu.stopping import checkpoint

SMOOTHED_S = 0.003  # at least; and a whole number of periods
SPREAD = 4.0  # standard deviations that noise is granted
TAIL_CENTS = 0.15  # what is left of a glide under this moves the mean by far less
WANDER_CENTS = 0.5
WINDOW_S = 0.02
SETTLED_CENTS = 10.0
SHARE_LEFT = 0.4
PURE = 0.8  # share of the vector's size that its mean must reach: noise has next to none
ASTRAY = 1.6  # how far its size may stray from what is usual around it
USUAL_OVER = 41  # samples, half a smoothing each
ALIKE = float(np.sqrt(3.0))  # neighbours half a smoothing apart share their noise: two boxes' spectrum at 0 re its mean
WANDER_BLOCKS, WANDERS = 12, 1.8  # of a stretch; re what noise leaves of their means
DRIFTS = 12.0  # standard deviations of the mean: noise bends a parabola's ends by four
FLOOR_CENTS = 0.005  # clocks and arithmetic claim no less


@dataclass(frozen=True, slots=True)
class StepTone:
    """A step as measured over start_s … stop_s. settled_s: from where the sound left what came before to within 10
    cents for good; None where that is not known. drift_cents_per_s: of the parabola."""

    start_s: float
    stop_s: float
    frequency_hz: Uncertain
    amplitude_peak_v: float
    drift_cents_per_s: float
    settled_s: float | None = None


@dataclass(frozen=True, slots=True, eq=False)
class Vector:
    """The turned-down tone: time (m,) s, unwrapped phase (m,) rad re the rough frequency, size (m,) V peak; sound:
    where neither a click nor a dropout has moved it."""

    time_s: FloatArray
    phase: FloatArray
    size_v: FloatArray
    turned: NDArray[np.complex128]
    sound: NDArray[np.bool_]
    rough_hz: float
    smoothed_s: float


def step_tone(
    recording_v: FloatArray, sample_rate_hz: float, piece: Piece, *, from_s: float | None = None,
    to_s: float | None = None,
) -> StepTone | None:
    """Measures a piece. from_s, to_s: how far its tone may reach, where its neighbours end and begin; without, the
    piece as it stands. None where there is no tone after all."""
    piece = on_a_line(recording_v, sample_rate_hz, piece)
    divisor = divided(recording_v, sample_rate_hz, piece.start_s, piece.stop_s, piece.frequency_hz).divisor
    rough_hz = piece.frequency_hz
    low_s = piece.start_s if from_s is None else min(from_s, piece.start_s)
    high_s = piece.stop_s if to_s is None else max(to_s, piece.stop_s)
    vector = turned_down(recording_v, sample_rate_hz, replace(piece, start_s=low_s, stop_s=high_s), divisor)
    if vector is None:
        return None
    inside = (vector.time_s >= piece.start_s) & (vector.time_s <= piece.stop_s)
    if inside.sum() < 8:
        return None
    inside, fit, deviation = _steady_part(vector, inside)
    if inside.sum() < 8:
        return None
    all_of_it, fit_of_all = inside, fit
    inside, fit, deviation, tail_hz = _without_tail(vector, inside, fit, deviation)
    residual = vector.phase - np.polyval(fit, vector.time_s - _middle(vector, inside))
    if _strays(residual[all_of_it & ~inside]):
        tail_hz += abs(float(fit[-2] - fit_of_all[-2])) / (2 * np.pi)
    straight = vector.turned[inside] * np.exp(-1j * (vector.phase[inside] - residual[inside]))
    hertz = rough_hz + float(fit[-2]) / (2 * np.pi)
    strayed = not 0.9 < hertz / rough_hz < 1.1
    if strayed or abs(straight.mean()) <= PURE * float(np.mean(np.abs(straight))):
        return None
    time_s = vector.time_s[inside]
    middle = _middle(vector, inside)
    spread_s = float(np.sqrt(np.sum((time_s - middle) ** 2)))
    doubt = ALIKE * deviation / max(spread_s, 1e-12) / (2 * np.pi)
    bend = 2 * float(fit[0]) / (2 * np.pi) if fit.size == 3 else 0.0  # Hz a second
    # What drifts has as many pitches as there are moments at which one might ask for it.
    way_hz = 0.5 * abs(bend) * max(float(np.ptp(time_s)), piece.stop_s - piece.start_s)
    drifts = way_hz > DRIFTS * doubt
    doubt = float(np.hypot(COVERAGE * doubt, tail_hz) + _wander_hz(vector, inside, residual))
    doubt = max(doubt, hertz * np.log(2) * FLOOR_CENTS / 1200)
    doubt = float(np.hypot(doubt, way_hz)) if drifts else doubt
    drift = bend / hertz * 1200 / np.log(2)
    # Smoothing takes a little off a tone that is away from the rough frequency.
    away_hz = np.polyval(np.polyder(fit), time_s - middle) / (2 * np.pi)
    size_v = vector.size_v[inside] / np.sinc(away_hz * vector.smoothed_s) ** 2
    return StepTone(
        float(time_s[0]), float(time_s[-1]), Uncertain(hertz, doubt), float(np.median(size_v)), drift,
        None if piece.begun_s is None else _settled_s(vector, inside, fit, hertz, middle, piece.begun_s),
    )


def turned_down(
    recording_v: FloatArray, sample_rate_hz: float, piece: Piece, divisor: int = 1, smoothed_s: float = SMOOTHED_S
) -> Vector | None:
    """The tone of a piece, turned down by its rough frequency; None where the piece is too short for it. divisor: which
    partial of its fundamental it is; smoothed_s: over at least so long."""
    rough_hz, low_s, high_s = piece.frequency_hz, piece.start_s, piece.stop_s
    periods = max(1, int(np.ceil(smoothed_s * rough_hz / divisor))) * divisor
    length = max(2, round(periods * sample_rate_hz / rough_hz))
    first = max(0, round(low_s * sample_rate_hz) - length)
    last = min(recording_v.size, round(high_s * sample_rate_hz) + length)
    record = recording_v[first:last]
    if record.size < 4 * length:
        return None
    index = np.arange(first, last)
    turned = record * np.exp(-2j * np.pi * rough_hz / sample_rate_hz * index)
    for _ in range(2):
        summed = np.concatenate([[0], np.cumsum(turned)])
        turned = (summed[length:] - summed[:-length]) / length
    every = max(1, length // 2)
    at = np.arange(0, turned.size, every)
    kept = 2 * turned[at]
    time_s = (first + at + (length - 1)) / sample_rate_hz  # two windows of this length are centred there
    size_v = np.abs(kept)
    usual = running_median(size_v, min(USUAL_OVER, size_v.size))
    sound = (size_v > usual / ASTRAY) & (size_v < usual * ASTRAY)
    phase = np.angle(kept)
    if sound.sum() > 8:
        # Whole turns are counted over what is sound: in a click or a dropout the vector may go anywhere.
        phase = np.interp(time_s, time_s[sound], np.unwrap(phase[sound]))
    else:
        phase = np.unwrap(phase)
    return Vector(time_s, phase, size_v, kept, sound, rough_hz, length / sample_rate_hz)


def _middle(vector: Vector, inside: NDArray[np.bool_]) -> float:
    time_s = vector.time_s[inside]
    return 0.5 * float(time_s[0] + time_s[-1])


def _fit(vector: Vector, inside: NDArray[np.bool_]) -> tuple[FloatArray, float]:
    """A parabola through the phase inside, about its middle, and the standard deviation of what it leaves, weighted.

    What a click has moved goes out."""
    middle = _middle(vector, inside)
    time_s, phase, size = vector.time_s[inside] - middle, vector.phase[inside], vector.size_v[inside]
    weight = size / max(float(np.median(size)), 1e-300)
    sound = vector.sound[inside] & (weight > 0.3)
    if sound.sum() < 8:
        sound = weight > 0.0
    if sound.sum() < 3:
        return np.zeros(3), 0.0  # silence: step_tone sees that there is no tone
    fit = np.zeros(3)
    deviation = 0.0
    # Least absolute deviations first: what a click has moved must not bend the parabola that is to find it out.
    pull = weight * sound
    for _ in range(8):
        checkpoint()
        degree = 2 if sound.sum() > 12 else 1
        found = np.polyfit(time_s[sound], phase[sound], degree, w=np.sqrt(pull[sound]))
        residual = np.abs(phase - np.polyval(found, time_s))
        pull = weight / np.maximum(residual, 1e-6 + 0.1 * float(np.median(residual[sound])))
    first = 1.4826 * float(np.median(residual[sound]))
    clear = sound & (residual < 2 * SPREAD * first + 1e-6)
    if clear.sum() < 8:
        clear = sound
    for _ in range(8):
        degree = 2 if clear.sum() > 12 else 1
        found = np.polyfit(time_s[clear], phase[clear], degree, w=weight[clear])
        fit = np.concatenate([np.zeros(2 - degree), found])
        residual = (phase - np.polyval(fit, time_s)) * np.minimum(weight, 2.0)
        deviation = 1.4826 * float(np.median(np.abs(residual[clear])))
        now = sound & (np.abs(residual) < SPREAD * deviation + 1e-6)
        if now.sum() < 8 or (now == clear).all():
            break
        clear = now
    return fit, deviation


def _steady_part(
    vector: Vector, inside: NDArray[np.bool_]
) -> tuple[NDArray[np.bool_], FloatArray, float]:
    """From the last part of the piece outwards, as far as the frequency keeps to the parabola."""
    margin = 2 * vector.smoothed_s
    step_s = float(vector.time_s[1] - vector.time_s[0])
    window = max(3, round(max(WINDOW_S, 3 * vector.smoothed_s) / step_s))
    window = min(window, vector.phase.size // 3)
    index = np.flatnonzero(inside)
    stop = max(index[-1] - round(margin / step_s), index[0] + 7)
    start = max(index[0], stop - max(8, round(0.4 * (stop - index[0]))))
    reach = (index[0], index[-1])
    cents = 1200 / np.log(2) / (2 * np.pi * window * step_s) / vector.rough_hz
    noise = _noise(vector.phase[index[0] : index[-1] + 1])
    now = np.zeros_like(inside)
    fit, deviation = np.zeros(3), 0.0
    for _ in range(4):
        now[:] = False
        now[start : stop + 1] = True
        fit, deviation = _fit(vector, now)
        residual = vector.phase - np.polyval(fit, vector.time_s - _middle(vector, now))
        moved = np.zeros(residual.size)
        moved[: residual.size - window] = cents * (residual[window:] - residual[:-window])
        doubt = cents * noise * np.sqrt(2)
        ours = np.abs(moved[start : max(stop + 1 - window, start + 1)])
        if ours.size > 10:  # a pitch that wanders by itself is steady enough, up to a limit
            doubt = max(doubt, min(1.4826 * float(np.median(ours)), WANDER_CENTS))
        fine = np.abs(moved) < SPREAD * doubt + TAIL_CENTS
        core = (start + stop) // 2
        # Longer than a click can move the windows it falls into, and it is the end of the step.
        first = _outward(fine, core, reach[0], patience=2 * window)
        last = _outward(fine, core, max(reach[1] - window, core), patience=2 * window) + window
        last = min(max(last, core + 4), reach[1])
        if last - first < 8 or (first, last) == (start, stop):
            break
        start, stop = first, last
    else:  # it went to and fro, as about a jump of the phase: the last stretch has not been fitted yet
        now[:] = False
        now[start : stop + 1] = True
        fit, deviation = _fit(vector, now)
    return now, fit, deviation


def _outward(fine: NDArray[np.bool_], start: int, end: int, *, patience: int) -> int:
    """The last index that is fine on the way from start to end, past no more than `patience` that are not."""
    way = 1 if end >= start else -1
    reached, missed = start, 0
    for i in range(start, end + way, way):
        missed = 0 if fine[i] else missed + 1
        if fine[i]:
            reached = i
        elif missed > patience:
            break
    return reached


def _without_tail(
    vector: Vector, inside: NDArray[np.bool_], fit: FloatArray, deviation: float
) -> tuple[NDArray[np.bool_], FloatArray, float, float]:
    """A slow glide hides in the parabola; a cubic gives it away. The beginning goes as long as one stands out of the
    noise, down to SHARE_LEFT of the stretch. Also what the tail that is left may still be worth, in Hz."""
    index = np.flatnonzero(inside)
    first, last = int(index[0]), int(index[-1])
    latest = last - max(12, round(SHARE_LEFT * (last - first)))
    while True:
        time_s = vector.time_s[first : last + 1]
        middle, half = 0.5 * (time_s[0] + time_s[-1]), 0.5 * (time_s[-1] - time_s[0])
        place = (time_s - middle) / half
        # The part of a cubic that a parabola leaves over: Legendre's third polynomial.
        third = 0.5 * (5 * place**3 - 3 * place)
        left = vector.phase[first : last + 1] - np.polyval(fit, time_s - middle)
        clear = vector.sound[first : last + 1] & (np.abs(left) < max(SPREAD * 3 * deviation, 1e-6))
        if clear.sum() < 8:
            return inside, fit, deviation, 0.0
        size = float(left[clear] @ third[clear]) / float(third[clear] @ third[clear])
        size -= 2 / 5 * fit[0] ** 2 / (3 * np.pi * vector.rough_hz) * half**3  # what drifts by cents does not by Hz
        noise = deviation / float(np.sqrt(third[clear] @ third[clear]))
        # What an exponential tail does to the mean is some eight times what its cubic alone is worth.
        tail_hz = 8 * abs(size) / half / (2 * np.pi)
        if abs(size) < 2 * SPREAD * noise or tail_hz < vector.rough_hz * np.log(2) * FLOOR_CENTS / 1200:
            return inside, fit, deviation, 0.0 if abs(size) < 2 * SPREAD * noise else tail_hz
        if first >= latest:
            return inside, fit, deviation, tail_hz
        first = min(first + max(1, (last - first) // 8), latest)
        inside = np.zeros_like(inside)
        inside[first : last + 1] = True
        fit, deviation = _fit(vector, inside)


def _strays(phase: FloatArray) -> bool:
    """Whether what was left out at the beginning of a stretch is no glide, which comes ever nearer from one side."""
    if phase.size < WANDER_BLOCKS:
        return False
    ends = phase[np.linspace(0, phase.size - 1, WANDER_BLOCKS // 2 + 1).astype(int)]
    moved, noise = np.diff(ends), np.sqrt(2) * _noise(phase)
    way = np.sign(moved[0]) * moved
    return bool((np.diff(way) > SPREAD * noise).any() or (way < -SPREAD * noise).any())


def _noise(phase: FloatArray) -> float:
    """Standard deviation of a phase about whatever smooth way it goes."""
    lagged = phase[:-8] - 2 * phase[4:-4] + phase[8:]  # two smoothings apart: no longer alike
    return 1.4826 * float(np.median(np.abs(lagged))) / float(np.sqrt(6)) if lagged.size else 0.0


def _wander_hz(vector: Vector, inside: NDArray[np.bool_], residual: FloatArray) -> float:
    """By how much the mean pitch of a stretch depends on where it begins and ends, beyond what noise does to it: what a
    parabola leaves of a phase that wanders is alike for long."""
    sound = residual[inside & vector.sound]
    per = max(sound.size // WANDER_BLOCKS, 1)
    blocks = sound[: per * WANDER_BLOCKS].reshape(-1, per).mean(axis=1)
    usual = ALIKE * _noise(sound) / np.sqrt(per)
    rms = float(np.sqrt(np.mean(blocks**2)))
    if sound.size < 2 * WANDER_BLOCKS or rms < WANDERS * usual:
        return 0.0
    # The ends of a sine, twice: what was left out as too far off wandered farther.
    return float(2 * np.sqrt(8) * rms / (2 * np.pi * np.ptp(vector.time_s[inside])))


def _settled_s(
    vector: Vector, inside: NDArray[np.bool_], fit: FloatArray, hertz: float, middle: float, begun_s: float
) -> float:
    """When the frequency comes within SETTLED_CENTS for good, counted from begun_s."""
    time_s = vector.time_s
    residual = vector.phase - np.polyval(fit, time_s - middle)
    rate = np.gradient(residual, time_s) / (2 * np.pi * hertz) * 1200 / np.log(2)
    first = int(np.flatnonzero(inside)[0])
    early = np.flatnonzero(np.abs(rate[: first + 1]) > SETTLED_CENTS)
    settled = time_s[early[-1] + 1] if early.size else time_s[0]
    return max(0.0, float(settled) - begun_s)
