"""Where a stimulus stands in a recording that is too long to be measured as a whole: found by reading once through."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import scipy.fft
from scipy.ndimage import uniform_filter1d
from scipy.signal import resample_poly

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError
from jiyuu.measurement.alignment import Passages, find_passages
from jiyuu.signals.recordings import MOST_MEASURED, in_blocks
from jiyuu.signals.transforms import next_fast_len
from jiyuu.stopping import checkpoint

THIN_HZ = 12_000.0  # at about this rate it is looked for first, in an eighth of the time
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
    passages = find_passages(stimulus_v)
    for grain in dict.fromkeys((max(int(sample_rate_hz / THIN_HZ), 1), 1)):
        clear, place = _clearest(path, passages, sample_rate_hz, grain)
        if clear > CLEAR:
            begins = place * grain - passages.start
            return Part(max(begins - first, 0), begins + stimulus_v.size + last)
    raise SignalError(f"The stimulus is not to be found in {path}; check that the files belong together, or cut out "
                      "the part that was recorded with it.")


def _thinned(samples: FloatArray, grain: int) -> FloatArray:
    """(channels, k // grain) from (k, channels): one sample of so many, less what would fold down."""
    return np.asarray(resample_poly(samples, 1, grain, axis=0).T) if grain > 1 else samples.T


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
    turn = np.conj(scipy.fft.rfft(played.astype(np.float32), size))
    turn /= np.maximum(np.abs(turn), np.float32(1e-30))
    even = 65 + 16 * size // max(passages.period // grain, 1) if passages.count > 1 else 65
    fade = 0.5 - 0.5 * np.cos(np.pi * (np.arange(FADE) + 0.5) / FADE)
    best = 0.0, 0
    with in_blocks(path, reach * grain, overlap=whole * grain) as (rate, blocks):
        if rate != sample_rate_hz:
            raise SignalError(f"{path} has a rate of {rate} Hz and the stimulus {sample_rate_hz} Hz; record at the "
                              "rate of the stimulus.")
        for begin, block in blocks:
            for channel in _thinned(block, grain):
                checkpoint()
                if not np.isfinite(channel).all():
                    continue  # what is wrong with it is said when all has been read
                own, ends = channel - channel.mean(), min(FADE, channel.size)
                own[:ends] *= fade[:ends]
                own[own.size - ends :] *= fade[:ends][::-1]
                heard = scipy.fft.rfft(own.astype(np.float32), size)
                heard /= uniform_filter1d(np.abs(heard), even) + np.float32(1e-30)
                found = uniform_filter1d(scipy.fft.irfft(heard * turn, size) ** 2, TOGETHER, mode="wrap")
                # Of sizes and not of powers: all of them count for more than one of them alone.
                together = np.sum([np.roll(np.sqrt(found), -lag) for lag in later], axis=0) ** 2
                place = int(np.argmax(together))
                clear = float(together[place]) / max(float(np.median(together)), 1e-30)
                if clear > best[0]:
                    best = clear, begin // grain + (place if place < reach else place - size)
    return best
