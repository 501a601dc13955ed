"""How much later a passage comes again than it was played, from the impulse responses of two that lie deep in noise.

Bin by bin the noise of a whole passage hides which way it turns. Deconvolved, all of a passage stands within the time
that the filter rings, and the noise of the rest can be left out."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.alignment import Passages, impulse_response
from jiyuu.signals.transforms import irfft, next_fast_len, rfft

RINGS_S = (0.005, 0.02, 0.08, 0.32)  # tried: the one that tells most
AHEAD_S = 0.004
LEAST_PLAYED = 1e-5  # of the strongest bin, that a band has which is in the stimulus
PIECES, MOST = 3, 12  # of that length: behind an impulse all tones have noise while the stimulus is silent
ROUNDS = 6
BANDS_OCTAVES, BANDS_PER_OCTAVE, FEWEST_BINS = 10, 6, 8  # narrow bands
LEAST_TOLD = 25.0  # of information re one that is known to a sample: less tells none


def later_by_impulses(
    record: FloatArray, passages: Passages, place: int, distance: int, reach: int, sample_rate_hz: float
) -> tuple[float, float] | None:
    """(samples by which what begins at place comes later again than at a distance, its variance); None where that is
    not told. reach: samples that it may be later or earlier at most."""
    ahead, whole, best = round(AHEAD_S * sample_rate_hz), 0, None
    power = np.abs(rfft(passages.passage_v, next_fast_len(passages.passage_v.size))) ** 2
    played = _means(power, _starts(power.size))[0] > LEAST_PLAYED * power.max()
    silent = passages.period - passages.passage_v.size
    for again in (False, True):
        impulses = [_impulse(record, passages, begin - ahead) for begin in (place, place + distance + whole)]
        if impulses[1].size < passages.period // 2:
            return None
        best = None
        for rings_s in RINGS_S:
            gate = ahead + round(rings_s * sample_rate_hz)
            if PIECES * gate > silent:
                break
            found = _told([one[:silent] for one in impulses], played, ahead, gate, reach)
            if found is not None and (best is None or found[1] < best[1]):
                best = found
        if best is None or again:
            break
        reach = 2
        whole = round(best[0])
        if not whole:
            break
    return None if best is None else (whole + best[0], best[1])


def _impulse(record: FloatArray, passages: Passages, begin: int) -> FloatArray:
    piece = record[max(begin, 0) : max(begin, 0) + passages.period]
    return impulse_response(np.pad(piece, (max(-begin, 0), 0)), passages)[: piece.size]


def _told(
    impulses: list[FloatArray], played: NDArray[np.bool_], ahead: int, gate: int, reach: int
) -> tuple[float, float] | None:
    """played (b,): bands that the stimulus has."""
    window = np.ones(gate)
    window[:ahead] = np.sin(0.5 * np.pi * np.arange(ahead) / ahead) ** 2
    window[gate // 2 :] = np.cos(0.5 * np.pi * np.arange(gate - gate // 2) / (gate - gate // 2)) ** 2
    size = next_fast_len(4 * gate)
    first, second = (rfft(one[:gate] * window, size) for one in impulses)
    # As loud as noise is in such a piece, from as many as lie behind.
    behind = [one[k * gate : (k + 1) * gate] for one in impulses
              for k in range(PIECES - 1, min(one.size // gate, MOST))]
    noise = np.mean([np.abs(rfft(one * window, size)) ** 2 for one in behind], axis=0)
    turns = np.asarray(2 * np.pi * np.fft.rfftfreq(size))
    starts = _starts(turns.size)
    noise = np.maximum(_smooth(noise, starts), 1e-300)
    inside = np.zeros(turns.size)
    inside[starts[0] :] = np.repeat(played[-starts.size :], np.diff(np.append(starts, turns.size)))
    cross = second * np.conj(first)
    together = irfft(inside * cross / noise, size)
    lags = np.concatenate([np.arange(reach), np.arange(-reach, 0)])
    later = float(lags[np.argmax(together[lags])])
    information = 0.0
    for _ in range(ROUNDS):
        turned = cross * np.exp(1j * turns * later)
        heard = inside * np.maximum(_smooth(turned.real, starts), 0.0)  # power that both have in common
        weight = heard / (heard * noise + 0.5 * noise**2)
        information = float(np.sum(turns**2 * weight * heard))
        if information <= 0:
            return None
        later -= float(np.sum(turns * weight * turned.imag)) / information
    variance = float(size / np.sum(window**2)) / information  # what lies closer than the piece is long is not new
    scatter = _scatter(cross * np.exp(1j * turns * later), weight, noise, starts, size / gate)
    return (later, variance * scatter) if 1 / variance > LEAST_TOLD else None


def _starts(size: int) -> NDArray[np.intp]:
    """(b,) first bins of narrow bands, of so many from 0 up; the last ones are the same octaves for every size."""
    edges = 2.0 ** -np.arange(0, BANDS_OCTAVES, 1 / BANDS_PER_OCTAVE)[::-1]
    return np.unique(np.round(edges[:-1] * (size - 1)).astype(int))


def _means(values: FloatArray, starts: NDArray[np.intp]) -> tuple[FloatArray, FloatArray]:
    """(b,) of each band, and where its middle is. No running sums: far from the band of the stimulus noise is blown up
    so much that what is left of them elsewhere is rounding."""
    count = np.diff(np.append(starts, values.size))
    return np.asarray(np.add.reduceat(values, starts) / count), np.asarray(starts + 0.5 * (count - 1))


def _smooth(values: FloatArray, starts: NDArray[np.intp]) -> FloatArray:
    """(n,) straight from the middle of a band to the next one's."""
    means, middles = _means(values, starts)
    return np.asarray(np.interp(np.arange(values.size), middles, means))


def _scatter(
    turned: ComplexArray, weight: FloatArray, noise: FloatArray, starts: NDArray[np.intp], alike: float
) -> float:
    """By how much more the phases of bands scatter than noise has them, in variance; 1 at least. alike: bins that tell
    one thing."""
    sums = np.add.reduceat(weight * turned, starts)
    power = np.add.reduceat(weight * np.abs(turned), starts)
    spread = alike * np.add.reduceat(weight**2 * (np.abs(turned) * noise + 0.5 * noise**2), starts)
    told = (np.diff(np.append(starts, turned.size)) > FEWEST_BINS) & (sums.real > 0.5 * power) & (
        spread < 0.1 * sums.real**2)
    if told.sum() < 3:
        return 1.0
    return max(float(np.mean(np.angle(sums[told]) ** 2 * sums[told].real ** 2 / spread[told])), 1.0)
