"""What each tone of a stepped stimulus came back as, and what was recorded beside it: noise near it, mains hum, breaks.

Every tone is fitted alone where it is steady, with an offset and two harmonics; what that leaves tells the rest.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.mains_hum import HARMONICS as MAINS_HARMONICS
from jiyuu.measurement.mains_hum import MAINS_HZ, Hum, hum_in
from jiyuu.signals.transforms import rfft

SETTLING = 0.4  # share of a tone that is left for the filter to settle
HARMONICS = 3
APART = 1e-9  # squared share by which lines must differ that are told apart
NEAR_BINS = (3, 9)  # beside a tone, where its noise is read: nearer the fit has taken it away
NEIGHBOURS = 3  # tones on either side whose noise is as strong
HUM_S, LEAST_S = 5.0, 1.0  # looked through at once: for longer mains does not keep its pitch; of it, that tells
SAME_MAINS_HZ, LOUDER, UNLIKE = 0.3, 3.0, 0.3  # by which what hums in a stretch may differ from what does in most
QUARTERS = 4
UNFELT = 0.01  # re what noise moves
NOISY = 8.0  # standard deviations
SCATTERS = 3.0  # the mean square of four, at most, re what is expected
BROKEN = 0.1  # of a tone, by which a quarter of it may be off by ringing and noise
ALIKE = 5.0  # times as much as its neighbours'


@dataclass(frozen=True, slots=True, eq=False)
class HeardTone:
    """hertz as played; steady: where it is steady in the recording, from begin_s on after the stimulus began; into,
    out: complex peak volts of what was played and of what came; third: of its third harmonic; left (n,): what the fit
    leaves; quarters (QUARTERS,): peak volts by which each quarter of it is off the whole; near_v: RMS that white noise
    would have which is as strong as what is left near it."""

    hertz: float
    steady: slice
    begin_s: float
    played_s: float
    into: complex
    out: complex
    third: complex
    left: FloatArray
    quarters: ComplexArray
    near_v: float

    @property
    def gain(self) -> complex:
        return self.out / self.into

    @property
    def third_v(self) -> float:
        """Its peak."""
        return abs(self.third)

    @property
    def noise_v(self) -> float:
        """RMS of what is left."""
        return _noise_v(self.left)

    def less(self, ring_v: FloatArray, sample_rate_hz: float) -> HeardTone:
        """As if ring_v (n,) had not been recorded there; as it is where nobody would feel that."""
        if np.abs(ring_v).max() < UNFELT * self.noise_v / np.sqrt(ring_v.size):
            return self
        lines, left, quarters = _fitted(ring_v[np.newaxis], self.hertz, self.begin_s, sample_rate_hz)
        left = self.left - left
        return replace(self, out=self.out - complex(lines[0, 0]), third=self.third - complex(lines[0, 2]), left=left,
                       quarters=self.quarters - quarters, near_v=_near_v(left, self.hertz, sample_rate_hz))


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
    begin_s = steady.start / sample_rate_hz
    lines, left, quarters = _fitted(np.stack([record_v[there], stimulus_v[steady]]), hertz, begin_s, sample_rate_hz)
    return HeardTone(hertz, there, begin_s, begin_s + 0.5 * (left.size - 1) / sample_rate_hz, complex(lines[1, 0]),
                     complex(lines[0, 0]), complex(lines[0, 2]), left, quarters, _near_v(left, hertz, sample_rate_hz))


def _fitted(
    records_v: FloatArray, hertz: float, begin_s: float, sample_rate_hz: float
) -> tuple[ComplexArray, FloatArray, ComplexArray]:
    """(complex peaks (r, HARMONICS) of a tone and its harmonics in records (r, n) from begin_s on, what they leave of
    the first (n,), by how much each quarter of it is off them (QUARTERS,)), an offset taken along."""
    count = records_v.shape[1]
    angle = 2 * np.pi * hertz * (begin_s + np.arange(count) / sample_rate_hz)
    design = np.empty((2 * HARMONICS + 1, count))
    design[0] = 1.0
    cosine, sine = np.cos(angle, out=design[1]), np.sin(angle, out=design[2])
    for place in range(3, 2 * HARMONICS + 1, 2):  # each harmonic by the one before: no more cosines are taken
        design[place] = design[place - 2] * cosine - design[place - 1] * sine
        design[place + 1] = design[place - 1] * cosine + design[place - 2] * sine
    # High up a harmonic may be folded back onto the tone or the offset: then they are told apart by nothing.
    weights = np.linalg.lstsq(design @ design.T, design @ records_v.T, rcond=APART)[0]
    left = records_v[0] - weights[:, 0] @ design
    size = count // QUARTERS
    quarters = [2 * complex(left[part] @ cosine[part], -(left[part] @ sine[part])) / size
                for part in (slice(i * size, (i + 1) * size) for i in range(QUARTERS))]
    return np.asarray((weights[1::2] - 1j * weights[2::2]).T), left, np.array(quarters)


def noise_near(tones: Sequence[HeardTone]) -> FloatArray:
    """(n,) RMS volts that white noise would have which is as strong as what was recorded near each tone, of tones in
    the order of their pitch: hardly any noise is as strong at every frequency."""
    padded = np.pad([tone.near_v**2 for tone in tones], NEIGHBOURS, mode="edge")
    return np.asarray(np.sqrt(np.lib.stride_tricks.sliding_window_view(padded, 2 * NEIGHBOURS + 1).mean(axis=1)))


def _near_v(left: FloatArray, hertz: float, sample_rate_hz: float) -> float:
    """As HeardTone has it."""
    bins = np.arange(left.size // 2 + 1)
    centre = hertz * left.size / sample_rate_hz
    away = np.abs(bins - centre)
    near = (away >= NEAR_BINS[0]) & (away < NEAR_BINS[1]) & (bins >= 2)
    for harmonic in range(2, HARMONICS + 1):
        near &= np.abs(bins - harmonic * centre) >= NEAR_BINS[0]
    if not near.any():
        return _noise_v(left)
    window = np.hanning(left.size)
    spectrum = rfft(left * window)
    return float(np.sqrt(np.mean(np.abs(spectrum[near]) ** 2) / np.sum(window**2)))


def _noise_v(left: FloatArray) -> float:
    return float(np.sqrt(left @ left / max(left.size - 2 * HARMONICS - 1, 1)))


def less_hum(
    record_v: FloatArray, tones: Sequence[HeardTone], silence: slice, sample_rate_hz: float, *, rest: bool = False
) -> tuple[FloatArray, Hum | None]:
    """The recording (m,) without the mains hum that the tones leave over, and what hums. silence: ahead of the first
    tone; rest: whether most of it is gone, and what is left may be more of it here and less there."""
    order = sorted(tones, key=lambda tone: tone.steady.start)
    left_v = np.zeros(record_v.size)
    left_v[silence] = record_v[silence] - np.mean(record_v[silence]) if silence.stop > silence.start else 0.0
    for tone in order:
        left_v[tone.steady] = tone.left
    quiet = [silence, *(tone.steady for tone in order if not _beside_mains(tone, sample_rate_hz))]
    stretches = _stretches(quiet, record_v.size, sample_rate_hz)
    found = [hum for begin, end, inside in stretches
             if (hum := hum_in(left_v[begin:end], inside, sample_rate_hz)) is not None]
    # Mains hums all the time, and as loud; what the harmonics of a tone or two look like does not, nor what rings on.
    if found:
        usual_hz, usual_v = (float(np.median([getattr(hum, name) for hum in found])) for name in ("mains_hz", "peak_v"))
        found = [hum for hum in found
                 if abs(hum.mains_hz - usual_hz) <= SAME_MAINS_HZ and (rest or hum.peak_v < LOUDER * usual_v)]
    if 2 * len(found) <= len(stretches):
        return record_v, None
    told = max(found, key=lambda hum: hum.peak_v) if rest else min(found, key=lambda hum: abs(hum.peak_v - usual_v))
    less_v = record_v.copy()
    hums = [(begin, hum) for begin, end, inside in stretches
            if (hum := hum_in(left_v[begin:end], inside, sample_rate_hz, told)) is not None
            and (rest or hum.off(told) < UNLIKE)]
    for begin, end, _ in stretches if hums else []:
        there, hum = min(hums, key=lambda one: abs(one[0] - begin))  # what rings hides it: then as beside
        less_v[begin:end] -= hum.wave_v(end - begin, sample_rate_hz, first=begin - there)
    return less_v, told


def _stretches(quiet: Sequence[slice], size: int, sample_rate_hz: float) -> list[tuple[int, int, list[slice]]]:
    """(begin, end, what of it is quiet, from its begin on) of stretches that are long enough to tell of hum."""
    ends = np.linspace(0, size, max(round(size / (HUM_S * sample_rate_hz)), 1) + 1).astype(int).tolist()
    found: list[tuple[int, int, list[slice]]] = []
    begin = 0
    for end in ends[1:]:
        inside = [slice(max(part.start, begin) - begin, min(part.stop, end) - begin) for part in quiet
                  if part.start < end and part.stop > begin]
        if sum(part.stop - part.start for part in inside) > LEAST_S * sample_rate_hz:
            found.append((begin, end, inside))
            begin = end  # else it is looked at together with the next
    return found


def _beside_mains(tone: HeardTone, sample_rate_hz: float) -> bool:
    """Whether a harmonic of mains lies so near that the tone's own fit took part of it."""
    reach = sample_rate_hz / tone.left.size
    return any(abs(tone.hertz - min(max(round(tone.hertz / mains), 1), MAINS_HARMONICS) * mains) < reach
               for mains in MAINS_HZ)


def unsettled(tones: Sequence[HeardTone], noise_v: FloatArray) -> FloatArray:
    """(n,) peak volts by which ringing may still move each tone: by how much more than noise makes it its quarters
    differ."""
    moved = np.array([np.mean(np.abs(tone.quarters) ** 2) for tone in tones])
    by_noise = np.array([4 * noise**2 * QUARTERS / tone.left.size
                         for tone, noise in zip(tones, noise_v, strict=True)])
    return np.asarray(np.sqrt(np.maximum(moved - SCATTERS * by_noise, 0.0)))


def broken(tones: Sequence[HeardTone], noise_v: FloatArray) -> list[int]:
    """Which of the tones (n,) did not last as they began: a quarter of one is off the whole by more than noise makes
    it, and than ringing does, which its neighbours in pitch show too. noise_v (n,): near each."""
    moves = np.array([np.abs(tone.quarters).max() / abs(tone.out) for tone in tones])
    by_noise = [NOISY * 2 * noise * np.sqrt(QUARTERS / tone.left.size) / abs(tone.out)
                for tone, noise in zip(tones, noise_v, strict=True)]
    found = []
    for i, move in enumerate(moves):
        beside = np.delete(moves[max(i - 3, 0) : i + 4], min(i, 3))
        if move > BROKEN + by_noise[i] and move > ALIKE * np.median(beside):
            found.append(i)
    return found
