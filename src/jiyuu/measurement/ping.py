"""A filter struck and left to ring: pitch and decay of its slowest pole pair, first peak, pedestal, rebound.

The ring is fitted from where it is small enough to be one: a filter that bends under the pulse rings off pitch at
first. What the pulse itself leaves (its pedestal, and behind a coupling capacitor the rebound) dies away on the real
axis and is kept apart from what swings."""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.mains_hum import hum_in
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.ring_fit import (
    RingFit,
    basis,
    block_for,
    first_guess_hz,
    fit_ring,
    guessed,
    in_blocks,
)
from jiyuu.measurement.struck import extremum, first_heard, onset, smoothed
from jiyuu.measurement.uncertain import COVERAGE, Uncertain
from jiyuu.measurement.waveform_faults import NEARLY, at_full_scale, noise_beside_v, recorded_part
from jiyuu.signals.pings import Pings

QUIET_S = 0.05  # at the end, where the beginning is not quiet for long enough
LONG_S = 1.05e-3  # pulses up to here have no pedestal
REBOUND_S = 0.002
EDGE_S = 1.5e-4  # at either end of a pulse that a recorder's own filter may smear
ROUNDED = 2e-6  # of the loudest, by which arithmetic moves what is clean
FITS = 4.0  # standard deviations of what noise leaves that a fit may leave more
STEP_DB, STARTS = 3.0, 14  # by which a ring has died between one start of a fit and the next
QUIETER = 2.0  # once bent: how much further it is let die, so that nothing of the bending is left in the fit
CLEAR = 6.0  # of the noise: a first peak at least
FAINT = 0.02  # of the whole: less is no peak
SLOW = 0.3  # of the pole's radius: what dies slower than this, without swinging, is a coupling's
RINGS_OUT, EARLY = 9.0, 2.5  # nats after which a ring is over; that tell of what dies at once
ENDLESS = 0.7  # nats that a ring dies at least before the next pulse, else it whistles


@dataclass(frozen=True, slots=True)
class Ping:
    """at_s: where the pulse begins in the recording. frequency_hz, t60_s, q: of the slowest pole pair, None where
    nothing swings; first_peak_v signed as recorded; polarity of it re the pulse. pedestal_v: mean of what does not
    swing over the last quarter of the pulse; rebound_v: the farthest it goes against that within 2 ms after; both None
    for short pulses."""

    at_s: float
    frequency_hz: Uncertain | None
    t60_s: Uncertain | None
    q: Uncertain | None
    first_peak_v: Uncertain | None
    polarity: int
    pedestal_v: float | None
    rebound_v: float | None


@dataclass(frozen=True, slots=True)
class MeasuredPings:
    pings: tuple[Ping, ...]
    notices: tuple[Notice, ...]


def measure_pings(
    recording_v: FloatArray, sample_rate_hz: float, pings: Pings, *, full_scale_v: float | None = None
) -> MeasuredPings:
    """recording_v (n,) of a stimulus with `pings` in it. Raises MeasurementError, with what to do, where nothing is
    heard of the pulses or the filter whistles by itself."""
    notices: list[Notice] = []
    recording_v, off = _switched_on(recording_v, sample_rate_hz)
    first = first_heard(recording_v, sample_rate_hz, pings)
    lead = slice(off, max(first - round(0.005 * sample_rate_hz), off))
    lead = slice(off + (lead.stop - off) // 4, lead.stop)
    if lead.stop - off <= 0.08 * sample_rate_hz:
        lead = slice(max(recording_v.size - round(QUIET_S * sample_rate_hz), 0), recording_v.size)
    record = recording_v - float(np.mean(recording_v[lead]))
    hum = hum_in(record, [lead], sample_rate_hz)
    if hum is not None:
        record = record - hum.wave_v(record.size, sample_rate_hz)
        level = 20 * np.log10(hum.peak_v / max(float(np.abs(record).max()), 1e-12))
        notices.append(Notice(Fault.HUM, None, {"mains_hz": hum.mains_hz, "db": float(level)}))
    quiet = record[lead] - np.mean(record[lead])
    loudest = float(np.abs(record).max())
    late_s = first / sample_rate_hz - pings.at_s[0]
    bounds = [*(round((at + late_s) * sample_rate_hz) for at in pings.at_s), record.size]
    missing = sum(bound > record.size - 0.01 * sample_rate_hz for bound in bounds[:-1])
    if missing:
        notices.append(Notice(Fault.ENDED_EARLY, record.size / sample_rate_hz))
    clipped = None if full_scale_v is None else at_full_scale(recording_v, full_scale_v)
    if clipped is not None:
        assert full_scale_v is not None
        share = float(np.mean(np.abs(recording_v) >= NEARLY * full_scale_v))
        notices.append(Notice(Fault.CLIPPED, clipped / sample_rate_hz, {"share_percent": 100 * share}))
    noise_v = max(float(np.std(quiet)), ROUNDED * loudest)
    spacing = round((pings.at_s[1] - pings.at_s[0]) * sample_rate_hz) if len(pings.at_s) > 1 else record.size
    found = []
    for start, stop in pairwise(bounds):
        if start > record.size - 0.01 * sample_rate_hz:
            break
        guard = round(0.002 * sample_rate_hz) if stop < record.size else 0
        end = min(stop - guard, start + spacing, record.size)
        before = max(start - round(0.004 * sample_rate_hz), 0)
        found.append(_Struck(record[before:end], start - before, before, sample_rate_hz, pings, quiet, noise_v))
    if not found:
        raise MeasurementError("The recording ends before the first pulse; record until a second after the last one.")
    late = _lateness(found, pings, sample_rate_hz)
    for one, at in zip(found, late, strict=True):
        one.begins = at - one.offset
    fits = [one.fit() for one in found]
    surest = min((fit for fit in fits if fit is not None and fit.swinging and fit.excess < FITS), default=None,
                 key=lambda fit: fit.spread)
    # One pulse of several may have been begun badly: all of them begin where the surest ended, too.
    measured = [one.ping(one.fit(surest) if len(found) > 1 else fit) for one, fit in zip(found, fits, strict=True)]
    if clipped is not None and full_scale_v is not None:
        measured = [replace(one, first_peak_v=None) if one.first_peak_v is not None
                    and abs(one.first_peak_v.value) > 0.97 * full_scale_v else one for one in measured]
    return MeasuredPings(tuple(measured), tuple(notices))


def _switched_on(recording_v: FloatArray, sample_rate_hz: float) -> tuple[FloatArray, int]:
    """(the recording, from which sample on it was recorded): where there is noise behind the pulses and none at the
    beginning, nothing was recorded there, and it is brought to where the rest comes to rest."""
    part = recorded_part(recording_v, sample_rate_hz)
    last = recording_v[part][-round(QUIET_S * sample_rate_hz) :]
    if not part.start or noise_beside_v(last) <= ROUNDED * np.ptp(recording_v):
        return recording_v, 0
    return np.concatenate([np.full(part.start, last.mean()), recording_v[part.start :]]), part.start


class _Struck:
    """One pulse with what follows it. place: sample in record_v at which the pulse is about to begin; offset: of
    record_v in the recording."""

    def __init__(
        self, record_v: FloatArray, place: int, offset: int, sample_rate_hz: float, pings: Pings, quiet: FloatArray,
        noise_v: float,
    ) -> None:
        self.record, self.rate, self.pings, self.quiet, self.noise_v = record_v, sample_rate_hz, pings, quiet, noise_v
        self.offset = offset
        self.long = round(pings.length_s * sample_rate_hz)
        ring = record_v[min(place + self.long, record_v.size - 1) :]
        if ring.size < 64:
            raise MeasurementError("The recording ends right behind a pulse; record until a second after the last one.")
        self.hertz = first_guess_hz(ring, sample_rate_hz)
        self.peak, self.begins = self._first_peak(place)

    # The beginning

    def _first_peak(self, place: int) -> tuple[Uncertain | None, float]:
        """(volts of the first extremum, sample at which the pulse begins)."""
        near = max(place - round(0.0035 * self.rate), 0)
        half = int(np.clip(min(self.rate / (14 * max(self.hertz, 20.0)), self.long / 6), 1, 400))
        record = self.record[near:]
        smooth = smoothed(record, half)
        sigma = self.noise_v / np.sqrt(max(2 * half + 1, 1)) * 1.5
        whole = float(np.abs(smooth).max())
        if whole < CLEAR * sigma:
            return None, float(place)
        size = np.abs(smooth)
        clear = max(CLEAR * sigma, FAINT * whole)
        up = np.flatnonzero(size > clear)
        first = int(up[0])
        sign = np.sign(smooth[first])
        turned = np.flatnonzero(np.diff(sign * smooth[first:]) < -0.02 * sigma)
        top = first + (int(turned[0]) if turned.size else 0)
        for at in turned:  # the noise may turn it a little before
            here = first + int(at)
            ahead = sign * smooth[here : here + max(2 * half, 2)]
            if ahead.size and ahead.max() <= sign * smooth[here] + 2.5 * sigma:
                top = here + int(ahead.argmax())
                break
        around = slice(max(top - half, 0), top + half + 1)
        top = around.start + int(np.argmax(sign * record[around]))
        return extremum(record, top, half, self.noise_v), near + onset(sign * smooth, first, top)

    # The ring

    def fit(self, like: RingFit | None = None) -> RingFit | None:
        """From where the ring is small enough to be one; like: another pulse's, to begin with."""
        start = round(self.begins) + self.long + max(round(EDGE_S * self.rate), 2)
        ring = self.record[start:]
        block = block_for(self.hertz, self.rate, ring.size)
        t, y = in_blocks(ring, self.rate, block)
        if y.size < 24:
            return None
        _, still = in_blocks(self.quiet, self.rate, block)
        loud = float(np.abs(y).max())
        noise_v = max(float(np.std(still)) if still.size > 20 else self.noise_v / np.sqrt(block),
                      ROUNDED * loud)
        tried: list[RingFit] = []
        sure: RingFit | None = None
        envelope = np.maximum.accumulate(np.abs(y - np.median(y[-y.size // 6 :]))[::-1])[::-1]
        quieter = 0.0
        for i in range(STARTS):
            limit = envelope[0] * 10 ** (-(STEP_DB * i + quieter) / 20)
            first = int(np.argmax(envelope <= limit)) if i else 0
            if (i and first == 0) or limit < 12 * noise_v or y.size - first < 24:
                break
            last = _heard_until(envelope, first, noise_v)
            one = _best_fit(t[first:last] - t[first], y[first:last], noise_v, like)
            if one is None:
                continue
            if one.excess > FITS:
                tried.append(one)
            elif sure is None and not tried:
                return one
            elif sure is None:
                sure, quieter = one, 20 * np.log10(QUIETER)
            else:
                # Where the ring is nearly gone by then, what is sure enough stays.
                return one if one.spread < 4 * sure.spread else sure
        return sure or min(tried, default=None, key=lambda one: one.excess)

    def ping(self, fit: RingFit | None) -> Ping:
        """By its fit. Raises MeasurementError where the ring does not die."""
        begins = self.begins + self.offset
        level = self.pings.level_v
        polarity = 0 if self.peak is None else int(np.sign(self.peak.value) * np.sign(level))
        pedestal = rebound = None
        frequency = t60 = q = None
        if fit is not None:
            dies = -fit.poles[0].real
            dying = dies * self.record.size / self.rate
            if fit.swinging and dying < ENDLESS and abs(fit.amplitudes[0]) > 10 * self.noise_v:
                raise MeasurementError("The filter whistles by itself: its ring does not die. Turn its resonance down "
                                       "until it falls silent, then strike it.")
            if fit.swinging:
                frequency, t60, q = _stated(fit)
        if fit is not None and fit.swinging and self.pings.length_s > LONG_S:
            pedestal, rebound = self._beside_the_ring(fit)
        elif self.pings.length_s > LONG_S:
            pedestal = float(np.mean(self._quarter()))
        return Ping(begins / self.rate, frequency, t60, q, self.peak, polarity, pedestal, rebound)

    # What the pulse leaves

    def _quarter(self) -> FloatArray:
        start, stop = self.begins + 0.75 * self.long, self.begins + self.long
        return self.record[round(start) : max(round(stop), round(start) + 1)]

    def _beside_the_ring(self, fit: RingFit) -> tuple[float, float]:
        """(pedestal, rebound): the record less what swings, and less what dies as fast as that."""
        edge = max(round(EDGE_S * self.rate), 1)
        start, end = round(self.begins), round(self.begins + self.long)
        radius = float(np.abs(fit.poles[0]))
        slow = fit.reals[fit.reals < SLOW * radius]
        fast = fit.reals[fit.reals >= SLOW * radius]

        def less_ring(first: int, last: int) -> tuple[FloatArray, FloatArray]:
            t = np.arange(last - first) / self.rate
            columns = basis(t, fit.poles[: fit.swinging], np.concatenate([fast, slow]))
            found = np.linalg.lstsq(columns, self.record[first:last], rcond=None)[0]
            swings = 2 * fit.swinging + fast.size
            return self.record[first:last] - columns[:, :swings] @ found[:swings], columns[:, swings:] @ found[swings:]

        during, _ = less_ring(start + edge, end - edge)
        quarter = during[-max(round(0.25 * self.long) - edge, 1) :]
        pedestal = float(np.mean(quarter))
        span = round(max(3 * 2 * np.pi / radius, 0.01) * self.rate)
        _, after = less_ring(end + edge, min(end + edge + span, self.record.size))
        against = -np.sign(pedestal) * after[: round(REBOUND_S * self.rate)]
        return pedestal, float(-np.sign(pedestal) * max(float(against.max(initial=0.0)), 0.0))


def _best_fit(t: FloatArray, y: FloatArray, noise_v: float, like: RingFit | None) -> RingFit | None:
    """The poles that explain most for what they ask (Schwarz 1978, Annals of Statistics)."""
    pairs, reals = guessed(t, y, noise_v)
    if not pairs.size and like is None:
        return None
    main = pairs[0] if like is None else like.poles[0]
    size = _points(main, t)
    t, y = t[:size], y[:size]
    # What dies in the first moments hides from a guess that takes the whole ring alike.
    early, _ = guessed(t[: _points(main, t, nats=EARLY)], y[: _points(main, t, nats=EARLY)], noise_v)
    radius = np.abs(pairs[:1])
    begun = [pairs[:1], np.concatenate([pairs[:1], radius * (-2 + 1j)])]
    begun += [more for more in (pairs[:2], early[:2]) if more.size == 2]
    tried = [] if like is None else [fit_ring(t, y, noise_v, like.poles, like.reals)]
    for some in {count: reals[:count] for count in (0, 1, reals.size)}.values():
        tried += [fit_ring(t, y, noise_v, start, some) for start in begun if start.size and some.size <= reals.size]
        tried.append(fit_ring(t, y, noise_v, pairs[:1], np.concatenate([some, 2 * radius])))
    found = [one for one in tried if one is not None and one.swinging]
    return min(found, default=None, key=lambda one: (one.excess > FITS, _cost(one, y.size)))


def _points(pole: complex, t: FloatArray, nats: float = RINGS_OUT) -> int:
    """How many until a pair has died by so many nats."""
    return int(np.clip(nats / max(-pole.real * (t[1] - t[0]), 1e-9) + 40, 0, t.size))


def _cost(fit: RingFit, points: int) -> float:
    return float(fit.left**2 * fit.degrees + 2 * fit.count * np.log(points))


def _heard_until(envelope: FloatArray, first: int, noise_v: float) -> int:
    """Place past which there is only noise, with some of that."""
    gone = np.flatnonzero(envelope[first:] < 3.5 * noise_v)
    return envelope.size if not gone.size else min(first + max(int(1.4 * gone[0]), int(gone[0]) + 20), envelope.size)


def _stated(fit: RingFit) -> tuple[Uncertain, Uncertain, Uncertain]:
    """Hz, T60 and Q of the slowest pair."""
    pole, spread = fit.poles[0], max(1.0, fit.left)
    dies, turns = -float(pole.real), float(pole.imag)
    var = np.maximum(np.diag(fit.covariance)[:2], 0.0)
    both = fit.covariance[0, 1]
    radius2 = dies**2 + turns**2
    # ln Q = ½ ln(d² + w²) − ln 2d
    by = np.array([dies**2 / radius2 - 1, turns**2 / radius2])
    q = float(np.sqrt(radius2) / (2 * dies))
    q_sd = q * float(np.sqrt(max(by[0] ** 2 * var[0] + by[1] ** 2 * var[1] + 2 * by[0] * by[1] * both, 0.0)))
    hertz, t60 = turns / (2 * np.pi), float(np.log(1000) / dies)
    scale = COVERAGE * spread
    return (Uncertain(hertz, scale * hertz * float(np.sqrt(var[1]))),
            Uncertain(t60, scale * t60 * float(np.sqrt(var[0]))), Uncertain(q, scale * q_sd))


def _lateness(found: list[_Struck], pings: Pings, sample_rate_hz: float) -> list[float]:
    """Samples at which the pulses begin: by all of them together, where there are enough to tell a clock."""
    seen = np.array([one.begins + one.offset for one in found])
    played = np.array(pings.at_s[: len(found)]) * sample_rate_hz
    late = seen - played
    if len(found) < 4:
        return [float(v) for v in played + np.median(late)]
    slope, at = np.polynomial.polynomial.polyfit(played - played.mean(), late, 1)[::-1]
    spread = max(float(np.median(np.abs(late - np.median(late)))), 0.5)
    kept = np.abs(late - at - slope * (played - played.mean())) < 3 * spread
    if np.count_nonzero(kept) > 2:
        slope, at = np.polynomial.polynomial.polyfit(played[kept] - played.mean(), late[kept], 1)[::-1]
    slope = slope if abs(slope) < 5e-4 else 0.0
    return [float(v) for v in played + at + slope * (played - played.mean())]
