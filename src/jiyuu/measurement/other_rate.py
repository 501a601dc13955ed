"""Whether a recording is the stimulus at another rate than its header says."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.alignment import Passages, explained, impulse_response
from jiyuu.signals.resampling import taken_at
from jiyuu.signals.transforms import irfft, next_fast_len, rfft
from jiyuu.stopping import checkpoint

RATES_HZ = (44_100, 48_000, 88_200, 96_000, 176_400, 192_000)
SAME_PERIOD = 1.5e-3  # what clocks may make of a distance
REPEATS, MORE = 0.5, 0.3  # share of a stretch that must come again, and by how much more than at its own rate
STRETCHES, NOISE_STRETCHES = 8, 2  # to a passage; of narrow noise a short one is like any other
SHORT = 0.03  # of a passage: how long a filter may be that tells one rate from another


def refuse_other_rate(
    record: FloatArray, response: FloatArray, passages: Passages, sample_rate_hz: float, place: int | None = None
) -> None:
    """Raises MeasurementError where the recording is the stimulus at another rate than its header says: by another
    clock every frequency comes at another time, and no short filter makes one out of the other."""
    if sample_rate_hz not in RATES_HZ:
        return
    true_hz = _rate_by_period(record, passages, sample_rate_hz)
    if true_hz is not None:
        raise MeasurementError(_other_rate(true_hz, sample_rate_hz))
    if passages.noisy:
        return
    if place is None:
        place = int(np.argmax(response[: record.size] ** 2))
    own = explained(record, response, passages, place, share=SHORT)
    if own > 0.5:
        return
    for rate in RATES_HZ:
        ratio = rate / sample_rate_hz
        if rate == sample_rate_hz or not 0.4 < ratio < 2.6:
            continue
        for turned, true_hz in ((ratio, rate), (1 / ratio, sample_rate_hz**2 / rate)):
            checkpoint()
            count = int((record.size - 1) / turned)
            if count < passages.passage_v.size or round(true_hz) not in RATES_HZ:
                continue
            other = taken_at(record, np.arange(count) * turned)
            response = impulse_response(other, passages)
            found = int(np.argmax(response[: other.size] ** 2))
            if not _comes_again(response, passages, found, sample_rate_hz):
                continue  # a ring that outlasts everything else looks like a filter at any rate
            if explained(other, response, passages, found, share=SHORT) > max(0.6, own + 0.3):
                raise MeasurementError(_other_rate(true_hz, sample_rate_hz))


def _other_rate(true_hz: float, sample_rate_hz: float) -> str:
    return (
        f"The recording runs {sample_rate_hz / true_hz:.4g} times as fast as the stimulus: its sample rate was "
        f"{true_hz:.0f} Hz and its header says {sample_rate_hz:.0f} Hz. Set recorder and file to one rate and record "
        "again."
    )


def _rate_by_period(record: FloatArray, passages: Passages, sample_rate_hz: float) -> float | None:
    """The rate by which the passages, whatever the filter made of them, come as far apart as they do; None where they
    come as they should, or where nothing repeats."""
    if passages.count < 2:
        return None
    # By its loudest stretch, whatever that is of the stimulus.
    length = passages.passage_v.size // (NOISE_STRETCHES if passages.noisy else STRETCHES)
    if record.size <= length:
        return None
    energy = np.concatenate([[0.0], np.cumsum(record**2)])
    loud, places = energy[length:] - energy[:-length], np.arange(record.size - length + 1)
    apart = round((1 + SAME_PERIOD) * passages.period) + 1
    within = (places >= apart) | (places + apart + length <= record.size)
    begin = int(np.argmax(np.where(within | ~within.any(), loud, -1.0)))
    stretch = record[begin : begin + length]

    def at(lag: float) -> float:
        """The most of it that comes again so much later, or came before."""
        reach, found = round(SAME_PERIOD * lag), 0.0
        for start in (begin - round(lag) - reach, begin + round(lag) - reach):
            if start >= 0 and start + length + 2 * reach <= record.size:
                size = next_fast_len(2 * length + 2 * reach)
                spectrum = rfft(record[start : start + length + 2 * reach], size) * np.conj(rfft(stretch, size))
                found = max(found, float(np.abs(irfft(spectrum, size)[: 2 * reach + 1]).max()))
        return found / max(float(stretch @ stretch), 1e-300)

    own, found = at(passages.period), dict[float, float]()
    for rate in RATES_HZ:
        lag = passages.period * rate / sample_rate_hz
        if rate != sample_rate_hz and lag + passages.passage_v.size / 2 < record.size:
            checkpoint()
            found[rate] = at(lag)
    # A ring is like itself at many a lag, but nowhere as much as where it comes again.
    most = max(found, key=found.__getitem__, default=None)
    return most if most is not None and found[most] > max(REPEATS, own + MORE) else None


def _comes_again(response: FloatArray, passages: Passages, place: int, sample_rate_hz: float) -> bool:
    """Whether the next passage, or the one before, stands where it should, about as strong."""
    near = round(0.004 * sample_rate_hz)

    def energy(at: int) -> float:
        return float(np.sum(response[np.arange(at - near, at + near) % response.size] ** 2))

    beside = max(energy(place + passages.period), energy(place - passages.period))
    return passages.count < 2 or beside > 0.1 * energy(place)
