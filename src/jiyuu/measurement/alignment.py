"""Where the stimulus is in a recording: repeated passages, place, clock offset."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from hashlib import blake2b

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.signals.resampling import taken_at
from jiyuu.signals.running import running_mean
from jiyuu.signals.transforms import irfft, next_fast_len, rfft
from jiyuu.stopping import checkpoint

HIGHEST_OFFSET_PPM = 1000.0
COMES_AGAIN = 0.1  # of a recording's energy, that a passage which does shares with the one before
BY_ITSELF = 1 << 20  # samples; longer ones are filled up to a length of small factors
KEPT_SAMPLES = 1 << 21  # of longer transforms none is kept for the next one


@dataclass(frozen=True, slots=True, eq=False)
class Passages:
    """One sweep and how often the stimulus plays it: first sample, period in samples (0 when played once); whether it
    is noise rather than a sweep."""

    passage_v: FloatArray
    start: int
    period: int
    count: int
    noisy: bool = False


def find_passages(stimulus_v: FloatArray) -> Passages:
    """Tell a stimulus of identical passages from a single one; the same object for the same stimulus, which is often
    recorded once a mode. Raises MeasurementError for a silent stimulus."""
    if stimulus_v.size > KEPT_SAMPLES:
        return _passages(stimulus_v)
    return _known_passages(ByContent(stimulus_v))


class ByContent:
    """An array that is known again by what it holds."""

    def __init__(self, values: FloatArray) -> None:
        self.values = values
        self.digest = blake2b(np.ascontiguousarray(values).tobytes(), digest_size=16).digest()

    def __eq__(self, other: object) -> bool:
        return isinstance(other, ByContent) and other.digest == self.digest

    def __hash__(self) -> int:
        return hash(self.digest)


@lru_cache(maxsize=4)
def _known_passages(stimulus: ByContent) -> Passages:
    return _passages(np.array(stimulus.values))  # a copy: what is kept must not change with its owner's


def _passages(stimulus_v: FloatArray) -> Passages:
    loud = np.flatnonzero(np.abs(stimulus_v) > 1e-4 * np.abs(stimulus_v).max(initial=0.0))
    if loud.size == 0:
        raise MeasurementError("The stimulus is silent; give the file that was played.")
    start, stop = int(loud[0]), int(loud[-1]) + 1
    sound = stimulus_v[start:stop]
    size = next_fast_len(2 * sound.size)
    correlation = irfft(np.abs(rfft(sound, size)) ** 2, size)[: sound.size].copy()
    shortest = sound.size // 40
    lag = shortest + int(np.argmax(correlation[shortest:])) if sound.size > 80 else 0
    if lag and correlation[lag] > 0.45 * correlation[0]:
        length = sound.size - lag * (sound.size // lag)
        length = length or lag
        count = sound.size // lag + (1 if length < lag else 0)
        first = sound[:length]
        same = all(
            np.abs(sound[i * lag : i * lag + length] - first).max() < 2e-3 * np.abs(first).max() for i in range(count)
        )
        if same and count > 1:
            return Passages(first, start, lag, count, is_noise(first))
    return Passages(sound, start, 0, 1, is_noise(sound))


def is_noise(passage_v: FloatArray) -> bool:
    """Whether a stimulus is noise rather than a sweep: the power of its bins scatters as that of noise does, whose
    logarithm lies 0.58 under that of its mean; a sweep's is smooth."""
    # A length of large factors takes ten times the memory; filled up by a hundredth, bins scatter as they did.
    size = passage_v.size if passage_v.size <= BY_ITSELF else next_fast_len(passage_v.size)
    power = np.abs(rfft(passage_v, size)) ** 2
    middle = power[power.size // 100 : power.size // 3]
    blocks = middle[: middle.size // 64 * 64].reshape(-1, 64)
    means = np.maximum(blocks.mean(axis=1), 1e-300)
    gap = np.mean(np.log(np.maximum(blocks, 1e-12 * means[:, np.newaxis])), axis=1) - np.log(means)
    return bool(np.median(gap) < -0.3)


def impulse_response(record: FloatArray, passages: Passages, *, regularisation: float = 1e-7) -> FloatArray:
    """Record deconvolved by one passage; negative times stand at the end of the array (length ≥ both together).

    The bins of noise have deep holes, which must not be blown up: there the floor is a share of their surroundings."""
    checkpoint()
    size = next_fast_len(record.size + passages.passage_v.size)
    if size > KEPT_SAMPLES:
        undoing = _undoing.__wrapped__(passages, size, regularisation)
    else:
        undoing = _undoing(passages, size, regularisation)
    return np.asarray(irfft(rfft(record, size) * undoing, size))


@lru_cache(maxsize=6)  # a measurement asks for three sizes, some ten times
def _undoing(passages: Passages, size: int, regularisation: float) -> ComplexArray:
    """(size//2 + 1,) what a spectrum is multiplied by to be that of the impulse response."""
    spectrum = rfft(passages.passage_v, size)
    power = np.abs(spectrum) ** 2
    floor = 0.1 * running_mean(power, 4096) if passages.noisy else regularisation * power.max()
    return np.asarray(np.conj(spectrum) / (power + floor))


def find_place(record: FloatArray, response: FloatArray, passages: Passages, sample_rate_hz: float) -> int:
    """Sample of the recording at which the first passage's impulse response peaks; response: the recording's own.

    Looks for the place where the energy of the impulse responses of all passages together is largest.
    Raises MeasurementError when nothing stands out."""
    checkpoint()
    width = max(int(0.004 * sample_rate_hz), 1)
    smooth = running_mean(response**2, width, "constant")
    total = smooth[: record.size].copy()
    # Only to the end of the recording: behind it stands what began before the recording did.
    for i in range(1, passages.count):
        later = min(i * passages.period, total.size)
        total[: total.size - later] += smooth[later : total.size]
    place = int(np.argmax(total))
    del total
    floor = float(np.median(smooth[: record.size]))
    # Noise deconvolved leaves noise of its own, but hardly ever twice its median over such a window. A ring that lasts
    # as long as the recording has no floor beside it, but explains nearly all that was recorded.
    stands_out = smooth[place] > (10 if passages.noisy else 100) * floor
    if not stands_out and explained(record, response, passages, place) < 0.5:
        raise MeasurementError(
            "The stimulus is not to be found in the recording; check that the two files belong together and that the "
            "recording is neither silent nor mostly noise."
        )
    low = max(place - width, 0)
    return low + int(np.argmax(response[low : place + width] ** 2))


def where_passages_are(
    record: FloatArray, response: FloatArray, passages: Passages, place: int, sample_rate_hz: float
) -> tuple[int, tuple[int, ...]]:
    """(first sample of the first passage, negative where the recording began after it; which passages are wholly in
    the recording), from the place that find_place gave, which may be that of a later passage."""
    if passages.count > 1:
        width = max(int(0.004 * sample_rate_hz), 1)

        def energy(at: int) -> float:
            around = np.arange(at - width, at + width) % response.size  # before the beginning stands at the end
            return float(np.sum(response[around] ** 2))

        floor = 2 * width * float(np.median(response**2))
        while place < passages.period - int(0.02 * sample_rate_hz):
            earlier, later = energy(place - passages.period), energy(place + (passages.count - 1) * passages.period)
            if earlier < max(30 * floor, 1e-4 * energy(place)) or earlier < later:
                break
            place -= passages.period
    length = passages.passage_v.size
    whole = tuple(
        i for i in range(passages.count)
        if place + i * passages.period >= -length // 500 and place + i * passages.period + 0.98 * length < record.size
    )
    return place, whole


def places_of_noise(
    record: FloatArray, passages: Passages, sample_rate_hz: float
) -> tuple[int, tuple[int, ...]] | None:
    """What find_place and where_passages_are tell of noise, where two clocks run apart by so much within a passage that
    high sounds no longer add up: at the clock by which the passages come again. None where they do not."""
    if passages.count < 2 or record.size < passages.period + passages.passage_v.size // 2:
        return None
    size = next_fast_len(2 * record.size)
    alike = irfft(np.abs(rfft(record, size)) ** 2, size)
    reach = min(round(HIGHEST_OFFSET_PPM * 1e-6 * passages.period), passages.period // 2)
    lag = passages.period - reach + int(np.argmax(alike[passages.period - reach : passages.period + reach + 1]))
    if alike[lag] < COMES_AGAIN * alike[0]:
        return None
    ratio = lag / passages.period
    turned = at_player_clock(record, 1e6 * (ratio - 1))
    response = impulse_response(turned, passages)
    try:
        place = find_place(turned, response, passages, sample_rate_hz)
    except MeasurementError:
        return None
    place, whole = where_passages_are(turned, response, passages, place, sample_rate_hz)
    return round(place * ratio), whole


def explained(
    record: FloatArray, response: FloatArray, passages: Passages, place: int, *, share: float = 1 / 3
) -> float:
    """How much of a passage's energy what follows a place of the impulse response makes out of the stimulus, for that
    share of the passage's length."""
    first = record[place : place + passages.passage_v.size]
    if first.size < 100:
        return 0.0
    kept = response[max(place - first.size // 50, 0) : place + round(first.size * share)]
    size = next_fast_len(kept.size + first.size)
    again = irfft(rfft(kept, size) * rfft(passages.passage_v, size), size)[min(place, first.size // 50) :][: first.size]
    return 1 - float(np.sum((first - again[: first.size]) ** 2)) / max(float(np.sum(first**2)), 1e-300)


def at_player_clock(record: FloatArray, ppm: float) -> FloatArray:
    """The recording resampled as a recorder on the player's clock would have taken it, sample 0 kept in place."""
    ratio = 1 + ppm * 1e-6
    count = int((record.size - 1) / ratio) + 1
    return taken_at(record, np.arange(count) * ratio)
