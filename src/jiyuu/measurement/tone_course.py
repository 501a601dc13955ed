"""Whether the pitch of a tone stands while it sounds: it may drift, wander, jump to another, or lose samples.

The tone fitted to the whole of a recording turns a steady one into a phase that stands. Block by block that phase tells
what a single number hides: a parabola is a drift, a step is lost samples, a kink is another pitch from there on.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.tone import partials
from jiyuu.signals.running import running_median

PERIODS, SHORTEST_S = 2, 0.002  # of a piece
BLOCKS, FEWEST_PIECES = 48, 12
HIGHEST, AUDIBLE = 10, 0.03  # harmonic that is listened to; re the strongest, that a fundamental is listened to
QUIET = 0.05  # re the usual power: there nothing sounds
AROUND = 4  # blocks, in which a moment is looked for once more
ODD, MEDIAN = 1.4, 1.25  # re the blocks beside one; the error of a median re that of a mean
CLEAR, LEAST_RAD = 6.0, 0.004  # standard deviations of a block's phase, and what partials leave of one another
EXPLAINS, SIMPLER = 9.0, 4.0  # of the squares by a cause; by how much better one must be than a plainer one
GONE, LOUD = 0.3, 0.3  # of the share that the tone has of what sounds where it does; of the loudest
FEWEST_GONE = 2  # blocks
FEWEST_SWAYING, LEAST_SWAYS = 24, 1.5  # blocks; swings of a recording
SWAYS_ALONE = 0.25  # of the squares that nothing but a sway leaves
FASTEST_HZ = 20.0  # what sways faster is another sound beside it
OUTER = 2  # blocks at either end, where a change is not told from one of the sound


@dataclass(frozen=True, slots=True)
class Course:
    """cause: 'drift', 'sway', 'step' (of the phase), 'kink' (to another pitch), 'gone' (to one that is another
    altogether) or 'wander'; at_s: from the first sample, None where it happens all the time; per_s: cents a second of a
    drift; cents: how far the pitch comes from its mean on the way; rate_hz: of a sway."""

    cause: str
    at_s: float | None
    per_s: float
    cents: float
    rate_hz: float = 0.0


def course_of(record_v: FloatArray, sample_rate_hz: float, hertz: float) -> Course | None:
    """Of the sounding part (n,) of a recording, whose partials are multiples of this pitch; None where that stands as
    nearly as noise lets tell, or where it is too short."""
    size = round(max(PERIODS * sample_rate_hz / hertz, SHORTEST_S * sample_rate_hz))
    count = record_v.size // size
    if count < FEWEST_PIECES:
        return None
    phasors, left = partials(record_v, sample_rate_hz, hertz)
    window = np.hanning(size + 2)[1:-1]
    from_middle = np.arange(count * size).reshape(count, size) - 0.5 * (record_v.size - 1)
    pieces = left[: count * size].reshape(count, size)

    def heard(number: int) -> ComplexArray:
        """(count,) a partial, 1 where it stands. Of what is left, so that no other is heard in its place."""
        turned = np.exp(-2j * np.pi * number * hertz / sample_rate_hz * from_middle)
        return np.asarray(1 + (pieces * turned) @ window / (0.5 * window.sum() * phasors[number - 1]))

    power = np.var(record_v[: count * size].reshape(count, size), axis=1)
    sounds = np.flatnonzero(power > QUIET * np.median(power))
    if sounds.size < FEWEST_PIECES:
        return None
    blocks = np.array_split(np.arange(sounds.size), min(BLOCKS, sounds.size))
    time_s = np.array([(sounds[block].mean() + 0.5) * size for block in blocks]) / sample_rate_hz
    # The higher a partial, the farther its phase turns with the pitch; but of another pitch some are the same.
    strength = np.abs(phasors)
    best = 1 + int(np.argmax(strength[:HIGHEST] * np.arange(1, strength[:HIGHEST].size + 1)))
    for number in {1, best} if strength[0] > AUDIBLE * strength.max() else {best}:
        gone = _gone(heard(number)[sounds], power[sounds], blocks)
        if gone is not None:
            return Course("gone", float(time_s[gone]), 0.0, 0.0)
    told = heard(best)[sounds]
    phase = np.unwrap(np.angle(told))
    # Medians, for clicks; and where it is not as loud as beside it, it is not the tone that is heard.
    means, sizes = (np.array([np.median(row[block]) for block in blocks]) for row in (phase, np.abs(told)))
    usual = running_median(sizes, 5, "edge")
    kept = (sizes > usual / ODD) & (sizes < usual * ODD)
    by_left = float(np.std(left) / strength[best - 1] * np.sqrt(2 * np.sum(window**2)) / np.sum(window))
    noise = max(MEDIAN * max(by_left, _noise(phase)) / np.sqrt(sounds.size / len(blocks)), _noise(means[kept]),
                LEAST_RAD / CLEAR)
    found = _cause(time_s[kept], means[kept], noise, 1200 / np.log(2) / (2 * np.pi * best * hertz))
    if found is None or found.at_s is None:
        return found
    piece_s = (sounds.astype(float) + 0.5) * size / sample_rate_hz
    return replace(found, at_s=_nearer(np.asarray(piece_s), phase, found, len(blocks)))


def _nearer(t: FloatArray, phase: FloatArray, found: Course, blocks: int) -> float:
    """The moment by single pieces, of as many as lie in some blocks about it."""
    assert found.at_s is not None
    middle, reach = int(np.searchsorted(t, found.at_s)), round(AROUND * t.size / blocks) + 4
    near = slice(max(middle - reach, 0), middle + reach)
    t, phase = t[near], phase[near]
    line = np.stack([np.ones_like(t), t - t[0]], axis=1)
    tries = []
    for at in range(2, t.size - 2):
        bent = np.maximum(t - t[at], 0.0) if found.cause == "kink" else t >= t[at]
        tries.append((_left(np.column_stack([line, bent]), phase)[0], float(t[at])))
    return min(tries)[1] if tries else found.at_s


def _noise(phase: FloatArray) -> float:
    """Standard deviation of one value of a row, whatever smooth way it goes."""
    return 1.4826 * float(np.median(np.abs(np.diff(phase, 2)))) / float(np.sqrt(6))


def _gone(heard: ComplexArray, power: FloatArray, blocks: list[NDArray[np.intp]]) -> int | None:
    """The block in which a tone gives way to another, or comes from it, for two blocks or more that are as loud."""
    all_of_it = np.array([np.mean(power[block]) for block in blocks])
    share = np.array([np.mean(np.abs(heard[block]) ** 2) for block in blocks]) / np.maximum(all_of_it, 1e-300)
    gone = (share < GONE**2 * np.quantile(share, 0.9)) & (all_of_it > LOUD**2 * all_of_it.max())
    edges = np.flatnonzero(np.diff(np.concatenate([[0], gone.astype(int), [0]])))
    for start, stop in zip(edges[::2], edges[1::2], strict=True):
        if stop - start >= FEWEST_GONE:
            return int(start if start > 0 else min(stop, len(blocks) - 1))
    return None


def _cause(time_s: FloatArray, phase: FloatArray, noise: float, to_cents: float) -> Course | None:
    """The plainest way that a phase (b,) goes; to_cents: of rad a second."""
    t = time_s - time_s.mean()
    line = np.stack([np.ones_like(t), t], axis=1)
    squares, rest, _ = _left(line, phase)
    sway = _swaying(t, line, phase, squares) if np.abs(rest).max() > LEAST_RAD else None
    if sway is not None:
        cents = 2 * np.pi * sway[0] * sway[1] * to_cents
        return Course("sway" if sway[0] < FASTEST_HZ else "wander", None, 0.0, cents, sway[0])
    if np.abs(rest).max() <= CLEAR * noise:
        return None
    enough = t.size * noise**2
    cents = 0.5 * to_cents * float(np.ptp(np.gradient(phase, t)))
    bent, _, answer = _left(np.column_stack([line, t * t]), phase)
    places = range(OUTER, t.size - OUTER)
    stepped = min((_left(np.column_stack([line, t >= t[at]]), phase)[0], at) for at in places)
    kinked = min((_left(np.column_stack([line, np.maximum(t - t[at], 0.0)]), phase)[0], at) for at in places)
    at_once = min((stepped[0], "step", stepped[1]), (kinked[0], "kink", kinked[1]))
    if max(SIMPLER * at_once[0], enough) < bent and EXPLAINS * at_once[0] < squares:
        return Course(at_once[1], float(time_s[at_once[2]]), 0.0, cents)
    if EXPLAINS * bent < squares:
        per_s = 2 * to_cents * float(answer[2])
        return Course("drift", None, per_s, 0.5 * abs(per_s) * float(np.ptp(t)))
    return Course("wander", None, 0.0, cents)


def _swaying(t: FloatArray, line: FloatArray, phase: FloatArray, squares: float) -> tuple[float, float] | None:
    """(rate in Hz, swing in rad) of a vibrato that is nearly all there is beside a straight line; noise, even pink
    noise, has hardly half of its power in one."""
    span = float(np.ptp(t))
    if t.size < FEWEST_SWAYING:
        return None
    tries = []
    for rate in np.arange(LEAST_SWAYS, t.size / 2, 0.25) / span:
        design = np.column_stack([line, np.cos(2 * np.pi * rate * t), np.sin(2 * np.pi * rate * t)])
        left, _, answer = _left(design, phase)
        tries.append((left, float(rate), float(np.hypot(answer[2], answer[3]))))
    left, rate, swing = min(tries)
    return (rate, swing) if left < SWAYS_ALONE * squares else None


def _left(design: FloatArray, phase: FloatArray) -> tuple[float, FloatArray, FloatArray]:
    """(sum of squares, what is left (b,), the answer) of a least-squares fit."""
    answer, *_ = np.linalg.lstsq(design, phase, rcond=None)
    rest = phase - design @ answer
    return float(rest @ rest), rest, np.asarray(answer, dtype=float)
