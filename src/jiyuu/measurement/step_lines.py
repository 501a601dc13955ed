"""The lines of a step's spectrum: which one is the loudest, and which partial of its fundamental that is."""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import gcd, lcm

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.measurement.steady_pieces import Piece
from jiyuu.signals.transforms import next_fast_len, rfft

MOST_DIVISOR = 6
LONGEST = 1 << 16  # samples that lines are looked for in
STRONG_HALF, STRONG = 0.03, 0.1  # of the loudest line: one line that is enough
PARTIALS_DB = 46.0  # under the loudest: fainter lines are no partials
OVER_FLOOR = 12.0
FEWEST_PERIODS = 12  # of a piece in which lines are told apart
NO_LINE, NEAR_OCTAVES, STILL_OCTAVES = 0.1, 0.75, 1 / 60  # of the strongest line near: less is none; how near; as good
CENTRED, SWAYS = 4, 1.045  # times; as far as a pitch may sway to either side


@dataclass(frozen=True, slots=True)
class Divided:
    """By what the loudest partial is to be divided; fundamental: whether a line stands there too."""

    divisor: int
    fundamental: bool = True


def divided(
    recording_v: FloatArray, sample_rate_hz: float, start_s: float, stop_s: float, loud_hz: float
) -> Divided:
    """From the partials of a step, the loudest of them at loud_hz: the fundamental is what all of them are multiples
    of."""
    first, last = max(round(start_s * sample_rate_hz), 0), round(stop_s * sample_rate_hz)
    piece = recording_v[first:last][:LONGEST]
    if piece.size < 256 or piece.size * loud_hz / sample_rate_hz < 12:
        return Divided(1)
    size = 2 * next_fast_len(piece.size)
    spectrum = np.abs(rfft((piece - piece.mean()) * np.blackman(piece.size), size))
    per_bin = sample_rate_hz / size
    lobe = int(3 * size / piece.size)
    top = float(spectrum[max(int(loud_hz / per_bin) - lobe, 0) : int(loud_hz / per_bin) + lobe + 1].max())
    floor = float(np.median(spectrum))

    def there(hertz: float) -> float:
        at = int(hertz / per_bin)
        near = spectrum[max(at - lobe // 2, 0) : at + lobe // 2 + 2]
        if not near.size or hertz > 0.48 * sample_rate_hz:
            return 0.0
        size_there = float(near.max())
        if size_there <= max(OVER_FLOOR * floor, top * 10 ** (-PARTIALS_DB / 20)):
            return 0.0
        beside = spectrum[max(at - 4 * lobe, 0) : max(at - 2 * lobe, 1)]
        local = float(np.median(beside)) if beside.size else floor
        return size_there if size_there > OVER_FLOOR * local else 0.0

    whole = 1
    for divisor in range(2, MOST_DIVISOR + 1):
        base = loud_hz / divisor
        if base < 12.0 or base < 8 * sample_rate_hz / piece.size:
            break
        # Those that no smaller divisor makes.
        between = [there(base * n) for n in range(1, 3 * divisor) if gcd(n, divisor) == 1]
        # One faint line between may be hum or a spurious tone; two that fit the same series are its partials.
        strong = sorted(between, reverse=True)
        if (len(strong) > 1 and strong[1] > 0) or strong[0] > (STRONG_HALF if divisor == 2 else STRONG) * top:
            whole = lcm(whole, divisor)
    return Divided(whole, there(loud_hz / whole) > 0) if whole <= MOST_DIVISOR else Divided(1)


def on_a_line(recording_v: FloatArray, sample_rate_hz: float, piece: Piece) -> Piece:
    """A piece at the pitch that its track has; where no line stands there, because partials beside each other pull a
    track between them, at the strongest line near it."""
    first, last = round(piece.start_s * sample_rate_hz), round(piece.stop_s * sample_rate_hz)
    record = recording_v[max(first, 0) : last][:LONGEST]
    if record.size < FEWEST_PERIODS * sample_rate_hz / piece.frequency_hz:
        return piece
    size = 2 * next_fast_len(record.size)
    spectrum = np.abs(rfft((record - record.mean()) * np.blackman(record.size), size))
    lobe = 3 * size // record.size
    at = round(piece.frequency_hz * size / sample_rate_hz)
    low, high = round(at * 2**-NEAR_OCTAVES), min(round(at * 2**NEAR_OCTAVES), spectrum.size - 1)
    best = low + int(np.argmax(spectrum[low : high + 1]))
    here = float(spectrum[max(at - lobe, 0) : at + lobe + 1].max(initial=0.0))
    if here >= NO_LINE * spectrum[best] or abs(np.log2(best / at)) < STILL_OCTAVES:
        return piece
    middle = float(best)
    for _ in range(CENTRED):  # of a pitch that sways, its middle and not the strongest of its side lines
        about = np.arange(round(middle / SWAYS), min(round(middle * SWAYS) + 1, spectrum.size))
        middle = float(np.average(about, weights=spectrum[about] ** 2))
    return replace(piece, frequency_hz=middle * sample_rate_hz / size)
