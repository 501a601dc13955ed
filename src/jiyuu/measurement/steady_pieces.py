"""Where in a recording of stepped tones the pitch stands still: between glides, clicks and gaps.

A bank of band-pass filters half an octave apart, each as wide as its frequency allows (log-normal, so its time
resolution is about one period), says at every hop which frequency is there and how loud. A piece is a stretch in which
that frequency does not move; a click or a dropout in the middle of it does not end it.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.signals.running import running_median, running_most
from jiyuu.signals.transforms import ifft, next_fast_len, rfft
from jiyuu.stopping import checkpoint

HOP_S = 0.005
LOWEST_HZ = 12.0
WIDTH_OCTAVES = 0.22  # standard deviation of a band on a logarithmic frequency axis
PER_OCTAVE = 2
BLOCK_S, MARGIN_S = 40.0, 0.5
STILL_CENTS = 8.0  # between the halves of a window of 80 ms; a drift of 1 cent/s stays far under it
DOUBT_CENTS = 30.0  # spread within a window above which there is no pitch to speak of
BRIDGED_S = 0.08  # how long a click or a dropout may be
SAME_CENTS = 8.0
SHORTEST_S, SHORTEST_PERIODS = 0.05, 3
QUIET_DB = 40.0  # what is so far below its surroundings is a gap with hum in it
FAINT_DB = 36.0  # and so far below the other tones
HUM_DB = 20.0  # at the mains' own pitches
NO_TONE = "No steady tone stands out in the recording; raise the level, or let each step sound for half a second."


@dataclass(frozen=True, slots=True)
class Piece:
    """A stretch of steady pitch: where, at about which frequency, how loud (mean square of the band, dB re 1 V).
    begun_s: where the sound left the pitch before it, or rose out of the gap; None at the start of a recording."""

    start_s: float
    stop_s: float
    frequency_hz: float
    level_db: float
    begun_s: float | None = None

    @property
    def duration_s(self) -> float:
        return self.stop_s - self.start_s


def find_pieces(recording_v: FloatArray, sample_rate_hz: float) -> list[Piece]:
    """recording_v (n,) volts -> its steady pieces in order of time. Raises MeasurementError when there is none."""
    record = np.asarray(recording_v, dtype=float)
    if not np.isfinite(record).all():
        raise MeasurementError("The recording holds samples that are not numbers; export it again.")
    if record.size < 0.1 * sample_rate_hz:
        raise MeasurementError("The recording is under a tenth of a second long; record every step for half a second.")
    if not np.ptp(record):
        raise MeasurementError("The recording is silent; check cable and level.")
    cents, level_db = pitch_track(record, sample_rate_hz)
    still = _still(cents, level_db)
    pieces = _joined(_runs(still), cents, level_db)
    pieces = [piece for piece in pieces if _long_enough(piece)]
    if pieces:
        usual = float(np.quantile([piece.level_db for piece in pieces], 0.75))
        pieces = [p for p in pieces if p.level_db > usual - (HUM_DB if _is_mains(p.frequency_hz) else FAINT_DB)]
    if not pieces:
        raise MeasurementError(NO_TONE)
    return _begun(pieces, cents, level_db)


def _is_mains(frequency_hz: float) -> bool:
    """Whether a pitch is that of the mains, or the first harmonics of it."""
    return any(abs(frequency_hz / mains / n - 1) < 0.004 for mains in (50.0, 60.0) for n in (1, 2, 3))


def _begun(pieces: list[Piece], cents: FloatArray, level_db: FloatArray) -> list[Piece]:
    """Each piece with the place where the sound set out for it: a tenth of the way in pitch, half its size in level."""
    found = []
    for i, piece in enumerate(pieces):
        stop = round(piece.start_s / HOP_S)
        own, before = 1200 * np.log2(piece.frequency_hz), pieces[i - 1] if i else None
        start = round(before.stop_s / HOP_S) - 1 if before else 0
        quiet = np.flatnonzero(level_db[start:stop] < piece.level_db - 12.0)
        begun: float | None = None
        if quiet.size:
            begun = (start + int(quiet[-1]) + 1) * HOP_S
        elif before is not None:
            was = 1200 * np.log2(before.frequency_hz)
            away = np.flatnonzero(np.abs(cents[start:stop] - was) < 0.1 * abs(own - was))
            begun = (start + (int(away[-1]) + 1 if away.size else 0)) * HOP_S
        found.append(replace(piece, begun_s=begun))
    return found


def pitch_track(record: FloatArray, sample_rate_hz: float) -> tuple[FloatArray, FloatArray]:
    """Pitch in cents re 1 Hz and level in dB at every hop, block by block so that long recordings fit into memory."""
    hop = round(HOP_S * sample_rate_hz)
    count = record.size // hop
    margin = round(MARGIN_S * sample_rate_hz) // hop * hop
    block = round(BLOCK_S * sample_rate_hz) // hop * hop
    cents, level = np.empty(count), np.empty(count)
    for start in range(0, count * hop, block):
        checkpoint()
        stop = min(start + block, count * hop)
        first = max(start - margin, 0)
        last = min(stop + margin, record.size)
        found = _block_track(record[first:last], sample_rate_hz, hop)
        skip = (start - first) // hop
        wanted = slice(start // hop, stop // hop)
        for whole, part in zip((cents, level), found, strict=True):
            whole[wanted] = part[skip : skip + (stop - start) // hop]
    return cents, level


def _block_track(record: FloatArray, sample_rate_hz: float, hop: int) -> tuple[FloatArray, FloatArray]:
    hops = record.size // hop
    size = next_fast_len(record.size + round(0.2 * sample_rate_hz))
    spectrum = rfft(record - record.mean(), size)
    per_bin = sample_rate_hz / size
    octaves = int(PER_OCTAVE * np.log2(0.42 * sample_rate_hz / LOWEST_HZ))
    power, pitch = np.full((octaves + 1, hops), -np.inf), np.zeros((octaves + 1, hops))
    for band in range(octaves + 1):
        checkpoint()
        centre_hz = LOWEST_HZ * 2 ** (band / PER_OCTAVE)
        low = max(int(centre_hz * 2 ** (-4 * WIDTH_OCTAVES) / per_bin), 1)
        high = min(int(centre_hz * 2 ** (4 * WIDTH_OCTAVES) / per_bin) + 2, spectrum.size)
        bins = np.arange(low, high)
        shape = np.exp(-0.5 * (np.log2(bins * per_bin / centre_hz) / WIDTH_OCTAVES) ** 2)
        # A whole number of samples a hop, and enough of them that no frequency of the band is mistaken for another.
        each = max(2, int(np.ceil((high - low) * per_bin * HOP_S * 1.02)))
        places = next_fast_len(round(size / hop * each))
        filled = np.zeros(places, dtype=complex)
        filled[: high - low] = spectrum[low:high] * shape
        wave = ifft(filled) * (places * 2 / size)
        rate_hz = places * per_bin
        turned = wave[1:] * np.conj(wave[:-1])
        at = np.minimum((np.arange(hops)[:, None] * hop / sample_rate_hz * rate_hz).round().astype(int)
                        + np.arange(each)[None, :], turned.size - 1)
        together = turned[at].sum(axis=1)
        power[band] = np.mean(np.abs(wave[at]) ** 2, axis=1)
        pitch[band] = low * per_bin + np.mod(np.angle(together) / (2 * np.pi), 1.0) * rate_hz
    best = np.argmax(power, axis=0)
    chosen = np.arange(hops)
    found = np.maximum(pitch[best, chosen], 1.0)
    return 1200 * np.log2(found), 10 * np.log10(np.maximum(power[best, chosen] / 2, 1e-30))


def _still(cents: FloatArray, level_db: FloatArray) -> NDArray[np.bool_]:
    """Hops around which the pitch does not move and the tone is there."""
    still = _still_within(cents, 8)
    for below_hz, half in ((60.0, 12), (25.0, 20)):  # a low tone needs longer to say that it stands still
        still = np.where(cents < 1200 * np.log2(below_hz), _still_within(cents, half), still)
    reach = 2 * round(1.0 / HOP_S) + 1
    loudest = running_most(running_median(level_db, 5), reach)
    return np.asarray(still & (level_db > loudest - QUIET_DB))


def _still_within(cents: FloatArray, half: int) -> NDArray[np.bool_]:
    padded = np.pad(cents, half, mode="edge")
    windows = np.lib.stride_tricks.sliding_window_view(padded, 2 * half + 1)
    before, after = np.median(windows[:, : half + 1], axis=1), np.median(windows[:, half:], axis=1)
    middle = np.median(windows, axis=1)
    spread = np.median(np.abs(windows - middle[:, None]), axis=1)
    # Between the halves a wandering of the noise itself is no movement.
    allowed = STILL_CENTS + 3 * spread / np.sqrt(half)
    return np.asarray((np.abs(after - before) < allowed) & (spread < DOUBT_CENTS) & (np.abs(cents - middle) < 50))


def _runs(still: NDArray[np.bool_]) -> list[tuple[int, int]]:
    edges = np.flatnonzero(np.diff(np.concatenate([[0], still.view(np.int8), [0]])))
    return [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True)]


def _joined(runs: list[tuple[int, int]], cents: FloatArray, level_db: FloatArray) -> list[Piece]:
    """Runs on either side of a click or a dropout put together where the pitch is the same."""
    joined: list[tuple[int, int]] = []
    for start, stop in runs:
        if stop - start < 3:
            continue
        pitch = float(np.median(cents[start:stop][:20]))
        reach = BRIDGED_S / HOP_S + 6 * 2 ** (-pitch / 1200) / HOP_S
        # What a click sounds like by itself may lie between the two halves of a step.
        for back in range(len(joined) - 1, -1, -1):
            before = joined[back]
            if start - before[1] > reach:
                break
            if abs(float(np.median(cents[before[0] : before[1]][-20:])) - pitch) < SAME_CENTS:
                joined[back:] = [(before[0], stop)]
                break
        else:
            joined.append((start, stop))
            continue
        if joined[-1][1] != stop:
            joined.append((start, stop))
    return [
        Piece(a * HOP_S, b * HOP_S, float(2 ** (np.median(cents[a:b]) / 1200)), float(np.median(level_db[a:b])))
        for a, b in joined
    ]


def _long_enough(piece: Piece) -> bool:
    return piece.duration_s > max(SHORTEST_S, SHORTEST_PERIODS / piece.frequency_hz)
