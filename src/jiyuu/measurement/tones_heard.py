"""What each tone of a stepped stimulus came back as, and what was recorded beside it: noise near it, mains hum, breaks.

Every tone is fitted alone where it is steady, with an offset and two harmonics; what that leaves tells the rest.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.waveform_faults import HARMONICS as MAINS_HARMONICS
from jiyuu.measurement.waveform_faults import MAINS_HZ, hum_in
from jiyuu.signals.transforms import rfft

SETTLING = 0.4  # share of a tone that is left for the filter to settle
HARMONICS = 3
NEAR_BINS = (3, 9)  # beside a tone, where its noise is read: nearer the fit has taken it away
NEIGHBOURS = 3  # tones on either side whose noise is as strong
HUM_S, LEAST_S = 5.0, 0.4  # looked through at once: for longer mains does not keep its pitch; of it, that tells
SAME_MAINS_HZ = 0.3
QUARTERS = 4
NOISY = 8.0  # standard deviations
SCATTERS = 3.0  # the mean square of four, at most, re what is expected
BROKEN = 0.1  # of a tone, by which a quarter of it may be off by ringing and noise
ALIKE = 5.0  # times as much as its neighbours'


@dataclass(frozen=True, slots=True, eq=False)
class HeardTone:
    """hertz as played; steady: where it is steady in the recording; into, out: complex peak volts of what was played
    and of what came; third_v: peak of its third harmonic; left (n,): what the fit leaves."""

    hertz: float
    steady: slice
    played_s: float
    into: complex
    out: complex
    third_v: float
    left: FloatArray

    @property
    def gain(self) -> complex:
        return self.out / self.into

    @property
    def noise_v(self) -> float:
        """RMS of what is left."""
        return float(np.sqrt(np.sum(self.left**2) / max(self.left.size - 2 * HARMONICS - 1, 1)))


def steady_part(tone: slice) -> slice:
    """Of a tone, without its settling and its end."""
    length = tone.stop - tone.start
    return slice(tone.start + int(SETTLING * length), tone.stop - length // 12)


def heard_tone(
    stimulus_v: FloatArray, record_v: FloatArray, tone: slice, lag: int, hertz: float, sample_rate_hz: float
) -> HeardTone:
    """tone: where it was played; lag: samples by which the recording (m,) is late."""
    steady = steady_part(tone)
    there = slice(steady.start + lag, steady.stop + lag)
    t = np.arange(steady.start, steady.stop) / sample_rate_hz
    angle = 2 * np.pi * hertz * t
    parts = [np.ones_like(t)]
    for harmonic in range(1, HARMONICS + 1):
        parts += [np.cos(harmonic * angle), np.sin(harmonic * angle)]
    design = np.stack(parts, axis=1)
    both = np.stack([stimulus_v[steady], record_v[there]], axis=1)
    found = np.linalg.lstsq(design, both, rcond=None)[0]
    left = record_v[there] - design @ found[:, 1]
    lines = found[1::2] - 1j * found[2::2]
    return HeardTone(hertz, there, float(t.mean()), complex(lines[0, 0]), complex(lines[0, 1]),
                     float(abs(lines[HARMONICS - 1, 1])), left)


def noise_near(tones: Sequence[HeardTone], sample_rate_hz: float) -> FloatArray:
    """(n,) RMS volts that white noise would have which is as strong as what was recorded near each tone, of tones in
    the order of their pitch: hardly any noise is as strong at every frequency."""
    power = np.array([_power_near(tone, sample_rate_hz) for tone in tones])
    padded = np.pad(power, NEIGHBOURS, mode="edge")
    return np.asarray(np.sqrt(np.lib.stride_tricks.sliding_window_view(padded, 2 * NEIGHBOURS + 1).mean(axis=1)))


def _power_near(tone: HeardTone, sample_rate_hz: float) -> float:
    window = np.hanning(tone.left.size)
    bins = np.arange(tone.left.size // 2 + 1)
    centre = tone.hertz * tone.left.size / sample_rate_hz
    away = np.abs(bins - centre)
    near = (away >= NEAR_BINS[0]) & (away < NEAR_BINS[1]) & (bins >= 2)
    for harmonic in range(2, HARMONICS + 1):
        near &= np.abs(bins - harmonic * centre) >= NEAR_BINS[0]
    if not near.any():
        return tone.noise_v**2
    spectrum = rfft(tone.left * window)
    return float(np.mean(np.abs(spectrum[near]) ** 2) / np.sum(window**2))


def less_hum(
    record_v: FloatArray, tones: Sequence[HeardTone], silence: slice, sample_rate_hz: float
) -> tuple[FloatArray, Notice | None]:
    """The recording (m,) without the mains hum that the tones leave over, and what is said of it. silence: ahead of the
    first tone."""
    order = sorted(tones, key=lambda tone: tone.steady.start)
    left_v = np.zeros(record_v.size)
    left_v[silence] = record_v[silence] - np.mean(record_v[silence]) if silence.stop > silence.start else 0.0
    for tone in order:
        left_v[tone.steady] = tone.left
    quiet = [silence, *(tone.steady for tone in order if not _beside_mains(tone, sample_rate_hz))]
    stretches = []
    ends = np.linspace(0, record_v.size, max(round(record_v.size / (HUM_S * sample_rate_hz)), 1) + 1).astype(int)
    for begin, end in itertools.pairwise(ends.tolist()):
        inside = [slice(max(part.start, begin) - begin, min(part.stop, end) - begin) for part in quiet
                  if part.start < end and part.stop > begin]
        if sum(part.stop - part.start for part in inside) > LEAST_S * sample_rate_hz:
            stretches.append((begin, end, inside))
    found = [hum for begin, end, inside in stretches
             if (hum := hum_in(left_v[begin:end], inside, sample_rate_hz)) is not None]
    # Mains hums all the time; what the harmonics of a tone or two look like does not.
    if 2 * len(found) <= len(stretches) or np.ptp([hum.mains_hz for hum in found]) > SAME_MAINS_HZ:
        return record_v, None
    loudest, less_v = max(found, key=lambda hum: hum.peak_v), record_v.copy()
    for begin, end, inside in stretches:
        hum = hum_in(left_v[begin:end], inside, sample_rate_hz, loudest)
        if hum is not None:
            less_v[begin:end] -= hum.wave_v(end - begin, sample_rate_hz)
    level = float(20 * np.log10(loudest.peak_v / max(float(np.abs(record_v).max()), 1e-12)))
    return less_v, Notice(Fault.HUM, None, {"mains_hz": loudest.mains_hz, "db": level})


def _beside_mains(tone: HeardTone, sample_rate_hz: float) -> bool:
    """Whether a harmonic of mains lies so near that the tone's own fit took part of it."""
    reach = sample_rate_hz / tone.left.size
    return any(abs(tone.hertz - min(max(round(tone.hertz / mains), 1), MAINS_HARMONICS) * mains) < reach
               for mains in MAINS_HZ)


def unsettled(tones: Sequence[HeardTone], noise_v: FloatArray, sample_rate_hz: float) -> FloatArray:
    """(n,) peak volts by which ringing may still move each tone: by how much more than noise makes it its quarters
    differ."""
    moved = np.array([np.mean(np.abs(_quarters(tone, sample_rate_hz)) ** 2) for tone in tones])
    by_noise = np.array([4 * noise**2 * QUARTERS / tone.left.size
                         for tone, noise in zip(tones, noise_v, strict=True)])
    return np.asarray(np.sqrt(np.maximum(moved - SCATTERS * by_noise, 0.0)))


def broken(tones: Sequence[HeardTone], noise_v: FloatArray, sample_rate_hz: float) -> list[int]:
    """Which of the tones (n,) did not last as they began: a quarter of one is off the whole by more than noise makes
    it, and than ringing does, which its neighbours in pitch show too. noise_v (n,): near each."""
    moves = np.array([np.abs(_quarters(tone, sample_rate_hz)).max() / abs(tone.out) for tone in tones])
    by_noise = [NOISY * 2 * noise * np.sqrt(QUARTERS / tone.left.size) / abs(tone.out)
                for tone, noise in zip(tones, noise_v, strict=True)]
    found = []
    for i, move in enumerate(moves):
        beside = np.delete(moves[max(i - 3, 0) : i + 4], min(i, 3))
        if move > BROKEN + by_noise[i] and move > ALIKE * np.median(beside):
            found.append(i)
    return found


def _quarters(tone: HeardTone, sample_rate_hz: float) -> ComplexArray:
    """(4,) peak volts by which each quarter of a tone is off the whole."""
    size = tone.left.size // QUARTERS
    turned = tone.left * np.exp(-2j * np.pi * tone.hertz / sample_rate_hz * np.arange(tone.left.size))
    return np.asarray(2 * turned[: QUARTERS * size].reshape(QUARTERS, size).mean(axis=1))
