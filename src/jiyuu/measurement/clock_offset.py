"""How much faster a recorder's clock runs than the player's, by two passages of one recording."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.measurement.alignment import HIGHEST_OFFSET_PPM, Passages
from jiyuu.measurement.clock_by_impulses import later_by_impulses
from jiyuu.signals.transforms import irfft, next_fast_len, rfft
from jiyuu.stopping import checkpoint

FELT_DEVIATIONS, LEAST_PPM = 4.0, 1e-3
HIDDEN = 1e-5  # share of bins that noise turns any way, from which on a shift leans
UNTOLD_SAMPLES, LEANS = 0.3, 10.0  # by how much at most, and per share
POORLY_PPM = 0.1  # from which on a clock is told by all that is heard
BANDS_OCTAVES, BANDS_PER_OCTAVE = 10, 12
EDGE_S = 0.1
AGREE, FEWEST_BINS = 0.5, 8  # of a band's bins re all of one phase; in a band
PLACES, TURNS_LESS, BAND_ROUNDS = 60, 0.3, 3  # samples a peak may mistake; rad, by which a band tells them at best
BESIDE_PEAK = 1e-3  # re the strongest line of two passages together, of one that counts for half of all it might


@dataclass(frozen=True, slots=True)
class ClockOffset:
    """Recorder against player: positive when the recording is longer in samples; standard uncertainty."""

    ppm: float
    standard_ppm: float

    @property
    def is_felt(self) -> bool:
        """Whether clocks differ for sure, and by more than what turning a record to another clock costs."""
        return abs(self.ppm) > max(FELT_DEVIATIONS * self.standard_ppm, LEAST_PPM)


def clock_offset(record: FloatArray, passages: Passages, place: int, sample_rate_hz: float) -> ClockOffset | None:
    """From the distance between two passages in the recording; None when the stimulus plays only one.

    Phase of the cross spectrum against frequency, weighted by its own magnitude, after a coarse correlation."""
    checkpoint()
    last = passages.count - 1
    distance = last * passages.period
    length = min(passages.passage_v.size + int(0.1 * sample_rate_hz), record.size - place - distance)
    if last < 1 or length < passages.passage_v.size // 2:
        return None
    start = max(place - int(0.01 * sample_rate_hz), 0)
    reach = int(HIGHEST_OFFSET_PPM * 1e-6 * distance) + 8
    shift, whole = 0.0, 0
    first = record[start : start + length]
    size = next_fast_len(2 * length)
    frequency = np.asarray(np.fft.rfftfreq(size), dtype=float)
    fit_variance = 0.0
    own, owned = np.conj(rfft(first, size)), first.size
    # The second round cuts the second passage where the first one found it, so both windows hold the same sound.
    for again in (False, True):
        if again and round(shift) == whole:
            break  # it is cut there already
        checkpoint()
        whole = round(shift)
        begin = start + distance + whole
        second = record[begin : begin + length]
        if second.size != owned:
            own, owned = np.conj(rfft(first[: second.size], size)), second.size
        cross = rfft(second, size) * own
        weight = np.abs(cross)
        # A narrow peak is as like itself a period later: what is beside it tells which, if it counts for more.
        correlation = irfft(cross / (weight + BESIDE_PEAK * weight.max()), size)
        lags = np.concatenate([np.arange(reach), np.arange(-reach, 0)])
        coarse = int(lags[np.argmax(correlation[lags])])
        heard = weight >= 1e-4 * weight.max()
        w, f = weight[heard], frequency[heard]
        a = np.angle(cross[heard] * np.exp(2j * np.pi * f * coarse))
        near = np.abs(a) < 1.5
        any_way = float(np.sum(w[~near]) / max(np.sum(w), 1e-300))
        w, f, a = w[near], f[near], a[near]
        moment = float(np.sum(w * f * f))
        if moment <= 0:
            return None
        slope = float(np.sum(w * f * a) / moment)
        shift = whole + coarse - slope / (2 * np.pi)
        fit_variance = float(np.sum(w**2 * f**2 * (a - slope * f) ** 2)) / moment**2 / (2 * np.pi) ** 2
    scale = 1e6 / distance
    if any_way > HIDDEN:
        told = later_by_impulses(record, passages, place, distance, reach, sample_rate_hz)
        # What was left out lies evenly on either side of nothing, not of the slope.
        later, doubt = told or (shift, 2 * fit_variance + min(UNTOLD_SAMPLES, LEANS * any_way) ** 2)
        return ClockOffset(later * scale, float(np.sqrt(doubt)) * scale)
    before_v, after_v = (ahead_v(record, begin, earliest, sample_rate_hz) for earliest, begin in (
        (0, place), (place + passages.passage_v.size, place + distance)))
    rings_v = 0.0 if passages.noisy else rung_v(before_v, after_v)  # all of noise rings
    # Half the bins of a record padded to twice its length are copies of the others.
    variance = 2 * fit_variance
    if rings_v:
        turned = _turned_by(rings_v, np.ones(first.size), size, frequency, np.abs(own))[heard][near]
        variance += (float(np.sum(w * f * turned)) / moment / (2 * np.pi)) ** 2
    if np.sqrt(variance) * scale > POORLY_PPM and not passages.noisy:
        # A sharp peak tells little more than its own phase, and hides all that is faint.
        for _ in range(2):  # again where what it told was not even near
            begin = start + distance + whole
            second = record[begin : begin + length]
            more, by_bands = _by_bands(first[: second.size], second, shift - whole, rings_v, sample_rate_hz)
            if by_bands < variance:
                shift, variance = shift + more, by_bands
            if round(shift) == whole or by_bands > variance:
                break
            whole = round(shift)
    return ClockOffset(shift * scale, float(np.sqrt(variance)) * scale)


def ahead_v(record: FloatArray, begin: int, earliest: int, sample_rate_hz: float) -> float:
    """RMS of what sounds right ahead of a passage's first sample; 0 where hardly anything was recorded there."""
    low, high = begin - round(0.2 * sample_rate_hz), begin - round(0.02 * sample_rate_hz)
    silence = record[max(low, earliest) : max(high, 0)]
    return float(np.sqrt(np.mean(silence**2))) if silence.size > 100 else 0.0


def rung_v(first_v: float, second_v: float) -> float:
    """What of the RMS ahead of a second passage the first must have left ringing."""
    return float(np.sqrt(max(second_v**2 - 4 * first_v**2, 0.0)))


def _turned_by(
    rings_v: float, window: FloatArray, transformed: int, frequency: FloatArray, size: FloatArray
) -> FloatArray:
    """(m,) rad by which what a first passage leaves ringing, RMS where the second begins, may turn the spectrum of that
    one, of that size (m,) at frequency (m,) in cycles per sample, of so many transformed; window (n,): laid on it."""
    turn = 2 * np.pi * frequency[np.argmax(size)] * np.arange(window.size)
    ring = np.abs(rfft(np.sqrt(2) * rings_v * window * np.cos(turn), transformed))
    return np.asarray(ring / np.maximum(size, 1e-300))


def _by_bands(
    first: FloatArray, second: FloatArray, late: float, rings_v: float, sample_rate_hz: float
) -> tuple[float, float]:
    """(samples by which the second of two passages (n,) is later still than it is known to be, their variance) by the
    phases of bands in which most bins agree. rings_v: RMS of what the first left ringing."""
    window = np.ones(first.size)
    edge = min(round(EDGE_S * sample_rate_hz), first.size // 4)  # what is cut while it rings is all over the band
    window[:edge] = np.sin(0.5 * np.pi * np.arange(edge) / edge) ** 2
    window[first.size - edge :] = window[edge - 1 :: -1]
    size = next_fast_len(2 * first.size)
    frequency = np.asarray(np.fft.rfftfreq(size), dtype=float)
    own, other = (rfft(one * window, size) for one in (first, second))
    cross = other * np.conj(own) * np.exp(2j * np.pi * frequency * late)
    turned = _turned_by(rings_v, window, size, frequency, np.abs(own))
    edges = 0.5 * 2.0 ** -np.arange(0, BANDS_OCTAVES, 1 / BANDS_PER_OCTAVE)[::-1]
    starts = np.unique(np.searchsorted(frequency, edges[:-1]))
    count, middle = np.diff(np.append(starts, frequency.size)), np.add.reduceat(frequency, starts)
    middle, later, variance_of_it = middle / count, 0.0, np.inf
    # Where a ring told the second passage's place that may be off by many samples, for which high bands turn often; and
    # a band has the phase of its middle only while that hardly turns within it.
    for rounds in range(BAND_ROUNDS):
        both = np.add.reduceat(cross * np.exp(2j * np.pi * frequency * later), starts)
        all_of_it = np.maximum(np.add.reduceat(np.abs(cross), starts), 1e-300)
        agree = np.abs(both) / all_of_it
        told = (agree > AGREE) & (count >= FEWEST_BINS)
        if told.sum() < 3:
            return 0.0, np.inf
        rings = (np.add.reduceat(turned * np.abs(cross), starts) / all_of_it)[told]
        f, variance = middle[told], (1 - agree[told] ** 2) / (agree[told] ** 2 * count[told]) + rings**2
        angle = np.angle(both[told])
        if not rounds:
            places = np.arange(-PLACES, PLACES + 0.05, 0.1)
            fits = np.cos(angle + 2 * np.pi * np.multiply.outer(places, f)) @ (1 / (variance + TURNS_LESS**2))
            later = float(places[np.argmax(fits)])
            continue
        pull = f / np.maximum(variance, 1e-12)
        moment = float(np.sum(pull * f))
        slope = float(np.sum(pull * angle)) / moment
        scatter = max(float(np.sum((angle - slope * f) ** 2 / np.maximum(variance, 1e-12))) / (f.size - 1), 1.0)
        together = float(np.sum(pull * rings)) / moment  # they may turn all bands alike
        later -= slope / (2 * np.pi)
        variance_of_it = (scatter / moment + together**2) / (2 * np.pi) ** 2
    return later, variance_of_it
