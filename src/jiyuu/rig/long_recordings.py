"""Where a stimulus stands in a recording that is too long to be measured as a whole: found by reading once through."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import scipy

from jiyuu.arrays import ComplexArray, Float32Array, FloatArray
from jiyuu.errors import MeasurementError, SignalError
from jiyuu.measurement.alignment import Passages, find_passages
from jiyuu.measurement.drive import HOP_S, ladder_in, seen_s
from jiyuu.signals.drive_steps import DriveSteps, steps_in
from jiyuu.signals.recordings import MOST_MEASURED, in_blocks
from jiyuu.signals.transforms import irfft, next_fast_len, rfft
from jiyuu.stopping import checkpoint

THIN_HZ, FULL_HZ = 12_000.0, 44_100.0  # at about these rates it is looked for, first in an eighth of the time
AT_ONCE, EDGE = 3 << 17, 16  # samples that are read, and thinned ones that suffer from where reading stopped
FADE = 1024  # samples at either end of a stretch, so that no hum cut off there sounds like a click
TOGETHER = 16  # samples over which a peak may be spread by clocks that differ
CLEAR = 20.0  # times the median: noise and hum reach 5
BEFORE_S, AFTER_S = 1.0, 5.0  # that are read with it


@dataclass(frozen=True, slots=True)
class Part:
    """Samples of a file from start to stop."""

    start: int
    stop: int


def part_with(path: Path, stimulus_v: FloatArray, sample_rate_hz: int) -> Part:
    """The part of a recording in which a stimulus (n,) stands, with what is heard around it: where it is clearest.
    Raises SignalError, with what to do, where it stands nowhere or is itself too long."""
    first, last = (round(seconds * sample_rate_hz) for seconds in (BEFORE_S, AFTER_S))
    if 2 * (stimulus_v.size + first + last) > MOST_MEASURED:
        raise SignalError(f"The stimulus is {stimulus_v.size / sample_rate_hz:.0f} s long; at {sample_rate_hz} Hz no "
                          "part of a recording that holds so much can be measured at once. Play a shorter one.")
    ladder = _ladder(stimulus_v, sample_rate_hz)
    if ladder is not None:
        begins = _ladder_place(path, ladder, sample_rate_hz)
        return Part(max(begins - first, 0), begins + stimulus_v.size + last)
    passages = find_passages(stimulus_v)
    for grain in dict.fromkeys(max(int(sample_rate_hz / rate_hz), 1) for rate_hz in (THIN_HZ, FULL_HZ)):
        clear, place = _clearest(path, passages, sample_rate_hz, grain)
        if clear > CLEAR:
            begins = place * grain - passages.start
            return Part(max(begins - first, 0), begins + stimulus_v.size + last)
    raise _nowhere(path)


def _ladder(stimulus_v: FloatArray, sample_rate_hz: int) -> DriveSteps | None:
    """What it plays where it is one tone at rising levels: few bins hold all of that, and by its whole spectrum it
    would be looked for in vain."""
    try:
        return steps_in(stimulus_v, sample_rate_hz)
    except SignalError:
        return None


def _ladder_place(path: Path, steps: DriveSteps, sample_rate_hz: int) -> int:
    """Sample at which a ladder begins in the channel that it fits best. Raises SignalError where it is in none."""
    hop = max(round(HOP_S * sample_rate_hz), 1)
    looks: list[ComplexArray] = []
    with in_blocks(path, AT_ONCE // hop * hop, overlap=0) as (rate, blocks):
        _alike(path, rate, sample_rate_hz)
        for begin, block in blocks:
            checkpoint()
            turns = np.exp(-2j * np.pi * steps.frequency_hz / rate * np.arange(begin, begin + block.shape[0]))
            cells = (np.nan_to_num(block) * turns[:, np.newaxis])[: block.shape[0] // hop * hop]
            looks.append(cells.reshape(-1, hop, block.shape[1]).mean(axis=1))
    seen, width = np.concatenate(looks), max(round(seen_s(steps) / HOP_S), 1)
    best: tuple[float, int] | None = None
    for channel in seen.T:
        try:
            place, fit = ladder_in(np.abs(scipy.ndimage.uniform_filter1d(channel, width)), sample_rate_hz, steps)
        except MeasurementError:
            continue
        if best is None or fit > best[0]:
            best = fit, place
    if best is None:
        raise _nowhere(path)
    return best[1] * hop


def _alike(path: Path, rate: int, sample_rate_hz: int) -> None:
    if rate != sample_rate_hz:
        raise SignalError(f"{path} has a rate of {rate} Hz and the stimulus {sample_rate_hz} Hz; record at the "
                          "rate of the stimulus.")


def _nowhere(path: Path) -> SignalError:
    return SignalError(f"The stimulus is not to be found in {path}; check that the files belong together, or cut out "
                       "the part that was recorded with it.")


def _thinned(samples: FloatArray, grain: int) -> Float32Array:
    """(channels, k // grain) from (k, channels): one sample of so many, less what would fold down."""
    thin = scipy.signal.resample_poly(samples, 1, grain, axis=0) if grain > 1 else samples
    return np.ascontiguousarray(thin.T, dtype=np.float32)


def _thin_stretches(
    blocks: Iterable[tuple[int, FloatArray]], grain: int, size: int, overlap: int
) -> Iterator[tuple[int, Float32Array]]:
    """(first, (channels, k)) of thinned samples, each stretch with the last `overlap` of the one before; blocks hold
    2·EDGE·grain samples of the one before, so that nothing is told by where reading stopped."""
    held: list[Float32Array] = []
    place = 0
    for begin, block in blocks:
        thin = _thinned(block, grain)
        if held:
            held[-1] = held[-1][:, : held[-1].shape[1] - EDGE]
        held.append(thin[:, EDGE if begin else 0 :])
        while sum(part.shape[1] for part in held) >= size + EDGE:
            whole = np.concatenate(held, axis=1)
            yield place, whole[:, :size]
            held = [whole[:, size - overlap :]]
            place += size - overlap
    rest = np.concatenate(held, axis=1)
    if place == 0 or rest.shape[1] > overlap:
        yield place, rest


def _clearest(path: Path, passages: Passages, sample_rate_hz: int, grain: int) -> tuple[float, int]:
    """(how far the clearest place of the first passage stands out, it), of samples thinned by grain; it may lie before
    the file. By phase rather than size (Knapp and Carter 1976, IEEE Trans. ASSP): what a filter, hum or another level
    does hides nothing. The size is evened out so coarsely that passages leave it their comb, or each would have ghosts
    a period away. Every passage speaks for the place of the first."""
    played = _thinned(passages.passage_v[:, np.newaxis], grain)[0]
    later = [round(i * passages.period / grain) for i in range(passages.count)]
    whole = later[-1] + played.size + 2 * FADE
    reach = 2 * whole  # samples of the recording looked at together
    size = next_fast_len(reach + played.size)
    turn = np.conj(rfft(played, size))
    turn /= np.maximum(np.abs(turn), np.float32(1e-30))
    even = 65 + 16 * size // max(passages.period // grain, 1) if passages.count > 1 else 65
    fade = (0.5 - 0.5 * np.cos(np.pi * (np.arange(FADE) + 0.5) / FADE)).astype(np.float32)
    best = 0.0, 0
    with in_blocks(path, AT_ONCE // grain * grain, overlap=2 * EDGE * grain) as (rate, blocks):
        _alike(path, rate, sample_rate_hz)
        for begin, stretch in _thin_stretches(blocks, grain, reach, whole):
            for channel in stretch:
                checkpoint()
                if not np.isfinite(channel).all():
                    continue  # what is wrong with it is said when all has been read
                own, ends = channel - channel.mean(), min(FADE, channel.size)
                own[:ends] *= fade[:ends]
                own[own.size - ends :] *= fade[:ends][::-1]
                heard = rfft(own, size)
                heard /= scipy.ndimage.uniform_filter1d(np.abs(heard), even) + np.float32(1e-30)
                found = scipy.ndimage.uniform_filter1d(irfft(heard * turn, size) ** 2, TOGETHER, mode="wrap")
                # Of sizes and not of powers: all of them count for more than one of them alone.
                together = np.sum([np.roll(np.sqrt(found), -lag) for lag in later], axis=0) ** 2
                place = int(np.argmax(together))
                clear = float(together[place]) / max(float(np.median(together)), 1e-30)
                if clear > best[0]:
                    best = clear, begin + (place if place < reach else place - size)
    return best
