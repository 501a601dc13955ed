"""A recording found in time, looked over for what should not be in it, and brought to the player's clock."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.alignment import (
    Passages,
    at_player_clock,
    find_place,
    impulse_response,
    places_of_noise,
    where_passages_are,
)
from jiyuu.measurement.clock_offset import ClockOffset, ahead_v, clock_offset
from jiyuu.measurement.mains_hum import Hum, hum_in
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.other_rate import refuse_other_rate
from jiyuu.measurement.passage_faults import compared, lost_samples
from jiyuu.measurement.waveform_faults import (
    OFF_S,
    clipping,
    noise_beside_v,
    piled_up,
    quantisation,
    recorded_part,
)
from jiyuu.stopping import checkpoint

FURTHEST_LOST_S = 0.06
SURE_PPM = 25.0  # clocks of usual interfaces differ by less
STEP = 0.02  # of what is heard, that a step to it may be
BESIDE_S, FELL_BY_ITSELF = 0.005, 20.0  # beside a silence; steps within which what falls may reach it
ALIVE = 0.5  # share of samples that differ from the one before, where there is noise
LOOKED_S, NOISELESS = 0.1, 1e-6  # of a silence, for its noise; of the loudest: less is that of arithmetic
FEWEST_CUT, CUT, FAST = 40, 8.0, 4  # peaks of a sweep at its top; re those that end as far below; samples of one
RINGS_OUT = 0.6  # share of a silence that is left for the filter to ring


@dataclass(frozen=True, slots=True, eq=False)
class Ready:
    """record_v (n,) at the player's clock, offset and hum taken out; place: sample at which its first passage begins,
    negative where it began before the recording; sound: the passages that may be used; step_v: between two values the
    samples may have, 0 where there is none; coarse: whether that step is felt; flat (n,): samples that were clipped;
    silences: where nothing sounds; hum: as it was heard by that clock; late: samples that went missing before the
    passages that are used; wander_db: as in Verdict."""

    record_v: FloatArray
    place: int
    sound: tuple[int, ...]
    offset: ClockOffset | None
    notices: tuple[Notice, ...]
    step_v: float
    coarse: bool
    flat: NDArray[np.bool_]
    silences: tuple[slice, ...]
    hum: Hum | None
    late: int = 0
    wander_db: float = 0.0

    @property
    def silence_v(self) -> FloatArray:
        """(m,) what is recorded where nothing sounds."""
        return np.concatenate([self.record_v[:0], *(self.record_v[part] for part in self.silences)])


def made_ready(recording_v: FloatArray, passages: Passages, sample_rate_hz: float) -> Ready:
    """Raises MeasurementError where the stimulus is not in it, naming the cause where it shows."""
    heard = recorded_part(recording_v, sample_rate_hz)
    record = _level_ends(recording_v, heard)
    response = impulse_response(record, passages)
    known: tuple[int, tuple[int, ...]] | None = None
    try:
        place = find_place(record, response, passages, sample_rate_hz)
    except MeasurementError:
        refuse_other_rate(record, response, passages, sample_rate_hz)
        known = places_of_noise(record, passages, sample_rate_hz) if passages.noisy else None
        if known is None:
            raise
        place = known[0]
    refuse_other_rate(record, response, passages, sample_rate_hz, place)
    place, whole = known or where_passages_are(record, response, passages, place, sample_rate_hz)
    del response
    if not whole:
        raise MeasurementError(_not_whole(place, passages, record.size, sample_rate_hz))
    notices = _missing(place, whole, passages, record.size, sample_rate_hz)
    silences = _silences(place, passages, record.size, sample_rate_hz)
    awake = _noisy_within(recording_v, silences, heard, sample_rate_hz)
    if awake:  # there is noise where nothing sounds, so what has none was never recorded
        silences = awake
    record = record - _resting(record, silences, sample_rate_hz)
    if awake:
        record[: heard.start] = record[heard.stop :] = 0.0  # no step from nothing to the recorder's own offset
    lead = record[silences[0]] if silences else record[:0]
    noise_v = float(np.std(lead[lead.size // 2 :])) if lead.size > 1000 else 0.0
    clipped, flat = clipping(recording_v, noise_v)
    if clipped is None:
        clipped, flat = piled_up(recording_v, noise_v, played=len(whole)) if passages.noisy else piled_up(
            recording_v, noise_v, fewest=FEWEST_CUT, piled=CUT, longest=FAST)
    if clipped is not None:
        notices.append(clipped)
    first = place + whole[0] * passages.period
    step_v, coarse = quantisation(recording_v, slice(max(first, 0), first + passages.passage_v.size))
    if coarse is not None:
        notices.append(coarse)
    hum = hum_in(record, silences, sample_rate_hz, wholly=True)
    if hum is not None:
        record = record - hum.wave_v(record.size, sample_rate_hz)
        record -= _resting(record, silences, sample_rate_hz)  # of part of a period it was not the rest
        level = 20 * np.log10(hum.peak_v / max(float(np.abs(record).max()), 1e-12))
        notices.append(Notice(Fault.HUM, None, {"mains_hz": hum.mains_hz, "db": float(level)}))
    silenced = _silenced(recording_v, place, whole, passages, sample_rate_hz, step_v)
    one = _by_one_clock(record, place, whole, passages, sample_rate_hz, notices)
    if silenced is not None and Fault.DROPOUT not in [notice.fault for notice in notices]:
        notices.append(silenced)
    if len(one.sound) < passages.count and len(whole) > 1:
        notices.append(Notice(Fault.FEWER_PASSAGES, None, {"used": len(one.sound), "played": passages.count}))
    if not one.sound:
        raise MeasurementError("Both passages were disturbed while they were recorded: the gain changed, or samples "
                               "were lost. Leave level and cables alone, use a larger buffer and record again.")
    if hum is not None and one.offset is not None and one.offset.is_felt:
        hum = hum.at_clock(one.offset.ppm)
    return Ready(one.record_v, one.place, one.sound, one.offset, tuple(notices), step_v, coarse is not None, flat,
                 tuple(silences), hum, one.late, one.wander_db)


class _OneClock(NamedTuple):
    """As Ready has them."""

    record_v: FloatArray
    place: int
    offset: ClockOffset | None
    sound: tuple[int, ...]
    late: int = 0
    wander_db: float = 0.0


def _by_one_clock(
    record: FloatArray, place: int, whole: tuple[int, ...], passages: Passages, sample_rate_hz: float,
    notices: list[Notice],
) -> _OneClock:
    """What is found wrong goes to the notices."""
    if len(whole) < 2 or whole[:2] != (0, 1):
        return _OneClock(record, _refined(record, passages, place, whole[0]), None, whole)
    length, period = passages.passage_v.size, passages.period
    starts = (place, place + period)
    reach = min(round(FURTHEST_LOST_S * sample_rate_hz), place, max(record.size - starts[1] - length, 0))
    first, around = record[place : place + length], record[starts[1] - reach : starts[1] + length + reach]
    lost = lost_samples(first, around, reach, starts, sample_rate_hz) if around.size == length + 2 * reach else None
    if lost is not None:
        notices.append(lost[0])
        kept = 1 - lost[1]
        missing = round(float(lost[0].facts["samples"])) if kept else 0
        return _OneClock(record, _refined(record, passages, place, kept), None, (kept,), missing)
    offset = clock_offset(record, passages, place, sample_rate_hz)
    if offset is not None and offset.is_felt:
        turned = at_player_clock(record, offset.ppm)
        try:
            place = find_place(turned, impulse_response(turned, passages), passages, sample_rate_hz)
        except MeasurementError:  # no clock has put them so far apart
            notices.append(Notice(Fault.SAMPLES_LOST, (place + length) / sample_rate_hz))
            return _OneClock(record, _refined(record, passages, place, 0), None, (0,))
        record = turned
    checkpoint()
    pieces = [record[place + i * period : place + i * period + length] for i in (0, 1)]
    if pieces[1].size < length or place < 0:
        return _OneClock(record, place, offset, whole)
    ahead = [ahead_v(record, begin, earliest, sample_rate_hz)
             for earliest, begin in ((0, place), (place + length, place + period))]
    verdict = compared(pieces[0], pieces[1], (ahead[0], ahead[1]), (place, place + period), sample_rate_hz,
                       evenly=passages.noisy)
    notices += verdict.notices
    sound = tuple(i for i in whole if i > 1 or i in verdict.sound)
    return _OneClock(record, place, offset, sound, wander_db=verdict.wander_db)


def _missing(
    place: int, whole: tuple[int, ...], passages: Passages, size: int, sample_rate_hz: float
) -> list[Notice]:
    found = []
    if place < 0 and 0 not in whole:
        found.append(Notice(Fault.STARTED_LATE, 0.0, {"late_s": -place / sample_rate_hz}))
    if passages.count - 1 not in whole:
        found.append(Notice(Fault.ENDED_EARLY, size / sample_rate_hz))
    if len(whole) < passages.count:
        found.append(Notice(Fault.FEWER_PASSAGES, None, {"used": len(whole), "played": passages.count}))
    return found


def _not_whole(place: int, passages: Passages, size: int, sample_rate_hz: float) -> str:
    if place < 0:
        return (f"The recording began {-place / sample_rate_hz:.2f} s into the stimulus and holds no whole passage of "
                "it; start recording before it is played.")
    return "The recording ends before the stimulus does; record until a second after the stimulus has ended."


def _level_ends(recording_v: FloatArray, heard: slice) -> FloatArray:
    """Less its mean, what was never recorded brought to the rest where that would be a step that is felt."""
    rest, ends = float(np.median(recording_v[heard])), (recording_v[0], recording_v[-1])
    if max(abs(end - rest) for end in ends) < STEP * float(np.std(recording_v[heard])):
        return np.asarray(recording_v - recording_v.mean())
    record = recording_v - recording_v[heard].mean()
    record[: heard.start] = record[heard.stop :] = rest - recording_v[heard].mean()
    return np.asarray(record)


def _noisy_within(
    recording_v: FloatArray, silences: list[slice], heard: slice, sample_rate_hz: float
) -> list[slice]:
    """Of silences what lies in a stretch, where that is long enough and has noise: few bits leave none, and a ring that
    dies is none."""
    cut = [slice(max(part.start, heard.start), min(part.stop, heard.stop)) for part in silences]
    least, noise_v = OFF_S * sample_rate_hz, NOISELESS * float(np.abs(recording_v).max())
    return [part for part in cut if part.stop - part.start > least
            and np.mean(np.diff(recording_v[part]) != 0) > ALIVE
            and noise_beside_v(recording_v[part][-round(LOOKED_S * sample_rate_hz) :]) > noise_v]


def _silenced(
    recording_v: FloatArray, place: int, whole: tuple[int, ...], passages: Passages, sample_rate_hz: float,
    step_v: float,
) -> Notice | None:
    """Where nothing at all is recorded for longest while a passage goes on, as a gate or an editor leaves it. What
    only falls under the recorder's own steps falls there by itself: it was no louder before."""
    least, beside = round(OFF_S * sample_rate_hz), round(BESIDE_S * sample_rate_hz)
    still = np.diff(np.concatenate([[False], np.diff(recording_v) == 0, [False]]).astype(np.int8))
    begins, ends = np.flatnonzero(still > 0), np.flatnonzero(still < 0) + 1
    long = ends - begins > least
    rest, peak = float(np.median(recording_v)), float(np.abs(recording_v).max())
    loud = max(FELL_BY_ITSELF * step_v, 1e-6 * peak)
    longest, found = 0, None
    for begin, end in zip(begins[long].tolist(), ends[long].tolist(), strict=True):
        if recording_v[begin] and abs(recording_v[begin] - rest) > 0.1 * peak:
            continue  # a flat top
        for i in whole:
            start, length = place + i * passages.period, passages.passage_v.size
            first, last = max(begin - start, 0), min(end - start, length)
            if last - first <= max(least, longest):
                continue
            sides = ([recording_v[max(begin - beside, 0) : begin]] if begin > start + beside else []) + (
                [recording_v[end : end + beside]] if end < start + length - beside else [])
            played = passages.passage_v[first:last]
            if np.ptp(played) > 1e-4 * np.abs(passages.passage_v).max() and any(np.ptp(one) > loud for one in sides):
                longest = last - first
                found = Notice(Fault.DROPOUT, (start + first) / sample_rate_hz, {"ms": 1e3 * longest / sample_rate_hz})
    return found


def _resting(record: FloatArray, silences: list[slice], sample_rate_hz: float) -> float:
    """DC of unit and converter, from a silence where there is one long enough. The mean of the whole holds the sweep's
    own, which would lean on the lowest octave."""
    for part in silences:
        if part.stop - part.start > 0.1 * sample_rate_hz:
            # A recorder may begin with silence of its own.
            return float(record[(part.start + part.stop) // 2 : part.stop].mean())
    return 0.0


def _silences(place: int, passages: Passages, size: int, sample_rate_hz: float) -> list[slice]:
    """Where nothing sounds, rings left to die."""
    edge, length = round(0.02 * sample_rate_hz), passages.passage_v.size
    found = [slice(0, place - edge)] if place > 3 * edge else []
    for i in range(passages.count):
        stop = place + i * passages.period + length
        after = place + (i + 1) * passages.period if i < passages.count - 1 else size
        part = slice(max(round(stop + RINGS_OUT * (after - stop)), 0), min(after - edge, size))
        if part.stop - part.start > 3 * edge:
            found.append(part)
    return found


def _refined(record: FloatArray, passages: Passages, place: int, which: int) -> int:
    """The place by one passage alone."""
    start = place + which * passages.period
    low = max(start - passages.passage_v.size // 25, 0)
    piece = record[low : start + passages.passage_v.size + passages.passage_v.size // 4]
    response = impulse_response(piece, passages)
    reach = min(2 * (start - low) + 64, response.size)
    return low + int(np.argmax(response[:reach] ** 2)) - which * passages.period


def alone(
    recording_v: FloatArray, passages: Passages, ready: Ready, sample_rate_hz: float, which: int
) -> Ready:
    """By one of two passages only, at the recorder's own clock, what is missing behind or in the other being said."""
    assert ready.offset is not None
    hum = ready.hum and (ready.hum.at_clock(-ready.offset.ppm) if ready.offset.is_felt else ready.hum)
    record = recording_v - recording_v.mean() - (hum.wave_v(recording_v.size, sample_rate_hz) if hum else 0.0)
    record = record - _resting(record, _silences(ready.place, passages, record.size, sample_rate_hz), sample_rate_hz)
    doubtful = (Fault.GAIN_CHANGED, Fault.DROPOUT, Fault.FEWER_PASSAGES)
    apart = 1e-6 * ready.offset.ppm * passages.period
    at_s = (ready.place + passages.passage_v.size * (which == 0)) / sample_rate_hz
    sure = abs(ready.offset.ppm) > SURE_PPM
    changed = [notice for notice in ready.notices if notice.fault is Fault.GAIN_CHANGED]
    if not changed and ready.wander_db:
        changed = [Notice(Fault.GAIN_CHANGED, None, {"db": ready.wander_db})]
    if not changed or sure:  # else that explains it, and it happened where the other passage was faint
        changed = [Notice(Fault.SAMPLES_LOST, at_s, {"samples": abs(apart)} if sure and which == 0 else {})]
    notices = (*(n for n in ready.notices if n.fault not in doubtful), *changed,
               Notice(Fault.FEWER_PASSAGES, None, {"used": 1, "played": passages.count}))
    place = _refined(record, passages, round(ready.place * (1 + 1e-6 * ready.offset.ppm) + which * apart), which)
    return replace(ready, record_v=record, place=place, sound=(which,), offset=None, notices=notices, wander_db=0.0,
                   hum=hum)
