"""Two passages of one stimulus against each other: where the gain changed, sound dropped out, samples went missing.

Both were played alike, so what differs between them was done on the way. A change that lasts tells in which passage it
happened: before it in the first, after it in the second the other one is still, or already, as it should be. A single
one stands against what the gains found of it make of the stimulus: those are a mean over all of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.clock_offset import rung_v
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.signals.transforms import fft, ifft, next_fast_len, rfft

HOP_S = 0.0025
RINGS = 16.0  # times as much as noise a ring of the same size moves a loud passage
GAIN_DB = 0.08  # a lasting change of the gain under that is that of a warm amplifier, or of slow noise
SIGMAS = 9.0
WANDER_PARTS, WANDERS = 12, 8.0  # in three thirds; standard errors, which few parts tell poorly
FEWEST_WANDERING = 4 * WANDER_PARTS  # hops
LEAST_WANDER_DB = 2e-4  # less is what arithmetic and clocks leave
LEAST_FOR_A_WHILE_DB, ABOUT = 0.01, 8  # of one group that differs; so many on either side tell what is usual
NEIGHBOURS = 3  # groups on either side whose scatter is that of one
MOVES = 0.5  # of a hop's power, that moves within it
DROPPED = 0.5  # of what the other passage has: less is a dropout
SILENT = 0.05  # re the usual power of noise that goes on
FEWEST_HOPS = 2
STRETCH = 16  # hops
FEWEST_GROUPS = 3  # of so many hops, that one which holds a change does not lead
WINDOWS = 16
FEWEST_LOST = 12.0  # fewer are told by the phase
LEAST_THERE, NOTHING = 1e-6, 1e-300  # of the energy looked through, where next to nothing is found; of silence
SHARP = 48  # samples beside a peak where its correlation must have fallen
ALIKE, MIXED = 0.9, 0.4  # re all of either; of a mean that holds what came in time and what came early
TURNED = 0.06  # rad: what noise and clocks leave between two passages
MEDIAN, EXPLAINED = 1.25, 0.8  # error of a median re that of a mean; of a row's scatter, that a step leaves


@dataclass(frozen=True, slots=True)
class Verdict:
    """The notices, and which passages are sound (indices); wander_db: by how much their gains differ where that is less
    than a fault, 0 where it is not told from noise."""

    notices: tuple[Notice, ...]
    sound: tuple[int, ...]
    wander_db: float = 0.0


def compared(
    first_v: FloatArray, second_v: FloatArray, ahead_v: tuple[float, float], starts: tuple[int, int],
    sample_rate_hz: float, *, evenly: bool = False,
) -> Verdict:
    """Two passages (n,), alike but for what was done on the way; starts: their first samples in the recording.
    ahead_v: RMS of what sounds ahead of each; evenly: whether they are as loud all the time, as noise is."""
    # What the first leaves ringing counts as noise in the second, and moves it more: it is as the second itself is.
    rings_v = 0.0 if evenly else rung_v(*ahead_v)
    hops = Hops.of(first_v, second_v, max(*ahead_v, RINGS * rings_v), sample_rate_hz)
    verdict = (
        _dropouts(hops.power, hops.loud, starts, hops.size, sample_rate_hz)
        or _dropouts(hops.moving, hops.high, starts, hops.size, sample_rate_hz)
        or _turns(hops.cross, hops.loud, starts, hops.size, sample_rate_hz)
        or _gains(hops.power, hops.loud, starts, hops.size, sample_rate_hz)
    )
    if verdict.notices:
        return verdict
    return replace(verdict, wander_db=max(_wander_db(hops), _for_a_while_db(hops) if evenly else 0.0, key=abs))


def within_one(
    expected_v: FloatArray, around_v: FloatArray, reach: int, noise_v: float, start: int, sample_rate_hz: float, *,
    turned: float | None,
) -> Notice | None:
    """What happened within a passage from sample `start` of the recording on, against what the gains found of it make
    of the stimulus (n,). around_v: the passage with `reach` more samples on either side; turned: rad from which on its
    phase tells missing samples, None where its clock is not known."""
    lost = lost_samples(expected_v, around_v, reach, (start, start), sample_rate_hz, MIXED)
    if lost is not None:
        return lost[0]
    hops = Hops.of(expected_v, around_v[reach : reach + expected_v.size], noise_v, sample_rate_hz)
    for power, loud in ((hops.power, hops.loud), (hops.moving, hops.high)):
        gone = _dropouts(power, loud, (start, start), hops.size, sample_rate_hz)
        if gone is not None and 1 not in gone.sound:  # of the two it is the one that was recorded
            notice = gone.notices[-1]
            first = round((float(notice.at_s or 0.0) * sample_rate_hz - start) / hops.size)
            many = round(1e-3 * float(notice.facts["ms"]) * sample_rate_hz / hops.size)
            # What the gains expect is a mean, and may be too much.
            if np.mean(power[1][first : first + many]) < SILENT * np.median(power[1][loud]):
                return notice
    groups = grouped(hops.loud)
    if groups is None:
        return None
    angle = np.angle(np.sum(hops.cross[groups], axis=1))
    gain_db = _ratio_db([np.sum(own[groups], axis=1) for own in hops.power])
    steps = [] if turned is None else [(Fault.SAMPLES_LOST, angle, turned)]
    for fault, values, least in (*steps, (Fault.GAIN_CHANGED, gain_db, GAIN_DB)):
        at, step = _lasting(values)
        if abs(step) > least:
            at_s = (start + int(groups[at, 0]) * hops.size) / sample_rate_hz
            return Notice(fault, at_s, {"db": step, "alone": 1.0} if fault is Fault.GAIN_CHANGED else {})
    return None


def gain_steps_db(
    expected_v: Sequence[FloatArray], heard_v: Sequence[FloatArray], noise_v: float, begins_s: float,
    sample_rate_hz: float
) -> FloatArray:
    """By how much the gain of each passage (n,), against what is expected of it, is another one from begins_s after its
    beginning on than before; 0 where little is loud."""
    found = np.zeros(len(heard_v))
    for i, (own, heard) in enumerate(zip(expected_v, heard_v, strict=True)):
        hops = Hops.of(own, heard, noise_v, sample_rate_hz)
        groups = grouped(hops.loud)
        after = np.zeros(0, bool) if groups is None else groups[:, 0] * hops.size >= begins_s * sample_rate_hz
        if groups is not None and after.any() and not after.all():
            gain_db = _ratio_db([np.sum(one[groups], axis=1) for one in hops.power])
            found[i] = np.median(gain_db[after]) - np.median(gain_db[~after])
    return found


def lost_samples(
    first_v: FloatArray, around_second_v: FloatArray, reach: int, starts: tuple[int, int], sample_rate_hz: float,
    alike: float = ALIKE,
) -> tuple[Notice, int, float] | None:
    """(notice, the passage that is hurt, by how many samples the other part of it is late) where samples went missing
    within a passage. around_second_v: the second with `reach` more samples on either side; alike: the least that a part
    of one has in common with the other where it is found again."""
    window = first_v.size // WINDOWS
    lags, clear = np.zeros(WINDOWS), np.zeros(WINDOWS, dtype=bool)
    for i in range(WINDOWS):
        own = _analytic(first_v[i * window : (i + 1) * window])
        other = _analytic(around_second_v[i * window : (i + 1) * window + 2 * reach])
        size = next_fast_len(own.size + other.size, real=False)
        correlation = np.abs(ifft(fft(other, size) * np.conj(fft(own, size)))[: 2 * reach + 1])
        # Re what is there: where a sweep grows louder it would be found again later than it is.
        energy = np.cumsum(np.concatenate([[0.0], np.abs(other) ** 2]))
        there = energy[own.size : own.size + 2 * reach + 1] - energy[: 2 * reach + 1]
        both = np.maximum(float(energy[-1]) * LEAST_THERE, there) * np.sum(np.abs(own) ** 2)
        likeness = correlation / np.sqrt(np.maximum(both, NOTHING))
        at = int(np.argmax(likeness))
        lags[i] = at - reach
        # Of a low tone any lag is nearly as good as another.
        beside = likeness[[max(at - SHARP, 0), min(at + SHARP, 2 * reach)]].max()
        clear[i] = likeness[at] > alike and beside < 0.99 * likeness[at]
    if clear.sum() < 4:
        return None
    places = np.flatnonzero(clear)
    kept = lags[places]
    jumps = np.abs(np.diff(kept))
    at = 1 + int(np.argmax(jumps[1:-1])) if jumps.size > 3 else int(np.argmax(jumps))  # two on either side
    before, after = float(np.median(kept[: at + 1])), float(np.median(kept[at + 1 :]))
    steady = max(np.abs(kept[: at + 1] - before).max(), np.abs(kept[at + 1 :] - after).max())
    if abs(after - before) < max(FEWEST_LOST, 2 * float(np.median(jumps))) or steady > 0.25 * abs(after - before):
        return None
    which = 0 if abs(before) > abs(after) else 1
    at_s = (starts[which] + (int(places[at]) + 1) * window) / sample_rate_hz
    facts = {"samples": abs(after - before)}
    return Notice(Fault.SAMPLES_LOST, at_s, facts), which, after if which == 0 else before


@dataclass(frozen=True, slots=True, eq=False)
class Hops:
    """Two passages hop by hop of `size` samples: what they have in common, their powers and what of those moves within
    a hop (one of each for either), and which hops are loud, and of a high sound."""

    size: int
    cross: ComplexArray
    power: list[FloatArray]
    moving: list[FloatArray]
    loud: NDArray[np.bool_]
    high: NDArray[np.bool_]

    @classmethod
    def of(cls, first_v: FloatArray, second_v: FloatArray, noise_v: float, sample_rate_hz: float) -> Hops:
        hop = round(HOP_S * sample_rate_hz)
        count = first_v.size // hop
        room = first_v.size // 2
        shaped = [_analytic(one, room)[: count * hop].reshape(count, hop) for one in (first_v, second_v)]
        cross = np.sum(np.conj(shaped[0]) * shaped[1], axis=1)
        power = [np.sum(np.abs(one) ** 2, axis=1) for one in shaped]
        loud = np.maximum(power[0], power[1]) > max(400 * 2 * hop * noise_v**2, 1e-7 * (power[0] + power[1]).max())
        # Where the recorder has an offset, what drops out leaves that; most of a high sound is what moves within a hop.
        moving = [np.sum(np.abs(one - one.mean(axis=1, keepdims=True)) ** 2, axis=1) for one in shaped]
        high = loud & (np.maximum(*moving) > MOVES * np.maximum(*power))
        return cls(hop, cross, power, moving, loud, high)


def grouped(loud: NDArray[np.bool_]) -> NDArray[np.intp] | None:
    """(g, STRETCH) loud hops in their order, None where there are few."""
    hops = np.flatnonzero(loud)
    return None if hops.size < 6 * STRETCH else hops[: hops.size // STRETCH * STRETCH].reshape(-1, STRETCH)


def _ratio_db(energy: list[FloatArray]) -> FloatArray:
    return np.asarray(10 * np.log10(np.maximum(energy[1], 1e-300) / np.maximum(energy[0], 1e-300)))


def _wander_db(hops: Hops) -> float:
    """The gain of the second re the first where it differs most for a third of them; of noise parts of a third differ
    as much."""
    loud = np.flatnonzero(hops.loud)
    if loud.size < FEWEST_WANDERING:
        return 0.0
    shares = [[float(np.sum(own[part])) for part in np.array_split(loud, WANDER_PARTS)] for own in hops.power]
    parts = _ratio_db([np.array(own) for own in shares]).reshape(3, -1)
    error = np.sqrt(np.mean(np.diff(parts, axis=1) ** 2, axis=1) / 2 / parts.shape[1])
    wander = parts.mean(axis=1)
    told = np.where(np.abs(wander) > np.maximum(WANDERS * error, LEAST_WANDER_DB), wander, 0.0)
    return float(told[np.argmax(np.abs(told))])


def _for_a_while_db(hops: Hops) -> float:
    """What a gain that changes and comes back, or falls out for less than a dropout, makes of the mean gain."""
    groups = grouped(hops.loud)
    if groups is None:
        return 0.0
    gain_db = _ratio_db([np.sum(own[groups], axis=1) for own in hops.power])
    moves = np.abs(np.diff(gain_db))
    # A quarter of the moves about it are smaller than 0.45 standard deviations, whatever comes and goes among them.
    usual = np.array([np.quantile(moves[max(i - ABOUT, 0) : i + ABOUT], 0.25) for i in range(gain_db.size)]) / 0.45
    apart = np.abs(gain_db) > np.maximum(SIGMAS * usual, LEAST_FOR_A_WHILE_DB)
    return float(np.sum(np.where(apart, gain_db, 0.0))) / gain_db.size


def _scatter(values: FloatArray, least: float) -> tuple[float, FloatArray]:
    """(least that a change must be, what is usual among the neighbours of each). Where the recording is faint the noise
    moves the values: what is usual on the whole, and among neighbours."""
    moves = 1.4826 / np.sqrt(2) * np.abs(np.diff(values))
    near = np.array([np.median(moves[max(i - NEIGHBOURS, 0) : i + NEIGHBOURS]) for i in range(values.size)])
    return max(least, SIGMAS * float(np.median(moves))), near


def _analytic(piece: FloatArray, room: int = 0) -> ComplexArray:
    """room: samples of nothing behind it, lest its loud beginning is heard at its faint end."""
    size = next_fast_len(piece.size + room, real=False)
    spectrum = np.zeros(size, dtype=complex)
    spectrum[: size // 2 + 1] = rfft(piece, size)
    spectrum[1 : (size + 1) // 2] *= 2
    return np.asarray(ifft(spectrum)[: piece.size])


def _dropouts(
    power: list[FloatArray], loud: NDArray[np.bool_], starts: tuple[int, int], hop: int, sample_rate_hz: float
) -> Verdict | None:
    found = []
    for i, (own, other) in enumerate(((power[0], power[1]), (power[1], power[0]))):
        # Against the usual ratio: a gain that changed is no dropout.
        usual = float(np.median(own[loud] / np.maximum(other[loud], 1e-300))) if loud.any() else 1.0
        gone = loud & (own < DROPPED**2 * usual * other)
        edges = np.flatnonzero(np.diff(np.concatenate([[0], gone.view(np.int8), [0]])))
        for start, stop in zip(edges[::2], edges[1::2], strict=True):
            if FEWEST_HOPS <= stop - start < 0.2 * gone.size:
                at_s = (starts[i] + int(start) * hop) / sample_rate_hz
                facts = {"ms": 1e3 * int(stop - start) * hop / sample_rate_hz}
                found.append((i, Notice(Fault.DROPOUT, at_s, facts)))
                break
    if not found:
        return None
    hurt = {i for i, _ in found}
    return Verdict(tuple(notice for _, notice in found), tuple(i for i in (0, 1) if i not in hurt))


def _turns(
    cross: ComplexArray, loud: NDArray[np.bool_], starts: tuple[int, int], hop: int, sample_rate_hz: float
) -> Verdict | None:
    """Too few samples are missing, or at too low a pitch, for a lag of its own: the phase tells it."""
    groups = grouped(loud)
    if groups is None:
        return None
    angle = np.angle(np.sum(cross[groups], axis=1))
    scatter = 1.4826 * float(np.median(np.abs(np.diff(angle)))) / np.sqrt(2)
    broken = np.abs(angle) > max(TURNED, SIGMAS * scatter)
    if broken.sum() < 3 or broken.mean() > 0.9:
        return None
    edge = int(broken.sum())
    if broken[: edge - 1].mean() > 0.8:
        which, at = 0, min(edge, broken.size - 1)
    elif broken[-edge + 1 :].mean() > 0.8:
        which, at = 1, broken.size - edge
    else:
        return None
    at_s = (starts[which] + int(groups[at, 0]) * hop) / sample_rate_hz
    return Verdict((Notice(Fault.SAMPLES_LOST, at_s),), (1 - which,))


def _gains(
    power: list[FloatArray], loud: NDArray[np.bool_], starts: tuple[int, int], hop: int, sample_rate_hz: float
) -> Verdict:
    """A gain that is one before a moment and another after it, within a passage or between the two."""
    groups = grouped(loud)
    if groups is None:
        return Verdict((), (0, 1))
    gain_db = _ratio_db([np.sum(own[groups], axis=1) for own in power])
    least, near = _scatter(gain_db, GAIN_DB)
    at = _step(gain_db / np.maximum(near, least / SIGMAS))
    # Of few groups most may hold the moment itself: the outermost is what lasts.
    before, after = (0.0, 0.0) if at is None else (
        float(np.median(gain_db[:at]) if at >= FEWEST_GROUPS else gain_db[0]),
        float(np.median(gain_db[at:]) if gain_db.size - at >= FEWEST_GROUPS else gain_db[-1]))
    if at is None or abs(before - after) < least:  # a ring that has to begin first is no step
        whole = float(np.median(gain_db))
        if abs(whole) < least:
            return Verdict((), (0, 1))
        at_s = (starts[0] + loud.size * hop) / sample_rate_hz
        return Verdict((Notice(Fault.GAIN_CHANGED, at_s, {"db": whole}),), (0,))
    few = min(at, gain_db.size - at) < FEWEST_GROUPS
    which = 0 if abs(before) > abs(after) else 1
    if few:  # the moment itself lies in what is said to be before or after it
        before, after = (before, 0.0) if which == 0 else (0.0, after)
    at_s = (starts[which] + int(groups[at, 0]) * hop) / sample_rate_hz
    facts = {"db": before - after if which == 0 else after - before}
    if min(abs(before), abs(after)) > least:
        return Verdict((Notice(Fault.GAIN_CHANGED, at_s, facts),), ())  # it changed more than once
    return Verdict((Notice(Fault.GAIN_CHANGED, at_s, facts),), (1 - which,))


def _lasting(values: FloatArray) -> tuple[int, float]:
    """(where, by how much) a row is one thing before and another after; (0, 0.0) where noise may do so."""
    tries = [(_scattered(values[:at]) + _scattered(values[at:]), at) for at in range(FEWEST_GROUPS, values.size - 2)]
    left, at = min(tries)
    step = float(np.median(values[at:]) - np.median(values[:at]))
    noise = 1.4826 / np.sqrt(2) * float(np.median(np.abs(np.diff(values))))
    error = MEDIAN * noise * float(np.sqrt(1 / at + 1 / (values.size - at)))
    return (at, step) if abs(step) > SIGMAS * error and left < EXPLAINED * _scattered(values) else (0, 0.0)


def _scattered(values: FloatArray) -> float:
    return float(np.sum(np.abs(values - np.median(values))))


def _step(values: FloatArray) -> int | None:
    """Where the one step stands that explains a row best, None where there is none of SIGMAS."""
    n = values.size
    if n < 8:
        return None
    best: tuple[float, int] | None = None
    for at in range(2, n - 1):
        left = _scattered(values[:at]) + _scattered(values[at:])
        if best is None or left < best[0]:
            best = left, at
    assert best is not None
    apart = np.median(values[best[1] :]) - np.median(values[: best[1]])
    return best[1] if abs(apart) > SIGMAS else None
