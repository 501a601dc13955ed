"""Which channel of a recording is the unit's: by what of the stimulus is in it, never by mere loudness."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.signals.long_record import Record
from jiyuu.signals.recordings import LongRecording, Recording
from jiyuu.signals.transforms import irfft, next_fast_len, rfft

NAMES = ("left", "right")
WIRE = 0.97  # share of a channel's energy that the stimulus itself makes: it is a loopback
FOUND = 0.02
ALIKE = 1e-9


def channel_of(
    recording: Recording, stimulus_v: FloatArray | None, wanted: str | None = None
) -> tuple[FloatArray, Notice | None]:
    """(volts (n,), why that one; None where there was nothing to choose). stimulus_v: None for tones. Raises
    SignalError for a channel there is not."""
    channels = recording.channels_v
    if wanted is not None:
        if wanted not in NAMES:
            raise SignalError(f"--channel '{wanted}' is neither left nor right.")
        place = NAMES.index(wanted)
        if place >= channels.shape[0]:
            raise SignalError(f"The recording is mono and has no {wanted} channel; leave --channel out.")
        return channels[place], None
    if channels.shape[0] < 2 or np.abs(channels[0] - channels[1]).max() <= ALIKE * np.abs(channels).max():
        return channels[0], None
    sounding = [i for i in range(2) if np.ptp(channels[i]) > 0]
    if len(sounding) < 2:
        return channels[sounding[0] if sounding else 0], None
    if stimulus_v is None:
        shares = [_tonal(channel) for channel in channels[:2]]
        place = int(np.argmax(shares))
        return channels[place], _taken(place, "its tone is the clearer one")
    shares = [_wire_share(channel, stimulus_v) for channel in channels[:2]]
    heard = [_heard(channel, stimulus_v) for channel in channels[:2]]
    place = int(np.argmax(heard))
    if min(heard) > FOUND * max(heard) and max(shares) > WIRE and min(shares) < WIRE:
        place = int(np.argmin(shares))
        return channels[place], _taken(place, "the other one is the stimulus itself, as a loopback has it")
    return channels[place], _taken(place, "the stimulus is clearer in it")


def louder_record(recording: LongRecording, wanted: str | None = None) -> tuple[Record, Notice | None]:
    """(a record of any length in volts, why that one; None where there was nothing to choose): for levels, where
    nothing else is known of what was played. Raises SignalError for a channel there is not."""
    channels = recording.channels
    if wanted is not None and wanted not in NAMES:
        raise SignalError(f"--channel '{wanted}' is neither left nor right.")
    if wanted is not None:
        if NAMES.index(wanted) >= len(channels):
            raise SignalError(f"The recording is mono and has no {wanted} channel; leave --channel out.")
        return channels[NAMES.index(wanted)], None
    if len(channels) < 2:
        return channels[0], None
    apart, peaks = 0.0, np.zeros(2)
    for left, right in zip(channels[0].blocks(), channels[1].blocks(), strict=True):
        apart = max(apart, float(np.abs(left - right).max()))
        peaks = np.maximum(peaks, [np.abs(left).max(), np.abs(right).max()])
    if apart <= ALIKE * peaks.max():
        return channels[0], None
    place = int(np.argmax(peaks))
    return channels[place], _taken(place, "it is the louder one")


def _taken(place: int, why: str) -> Notice:
    return Notice(Fault.CHANNEL_CHOSEN, None, {"taken": NAMES[place], "why": why})


def _correlated(channel: FloatArray, stimulus_v: FloatArray) -> tuple[float, float]:
    """(largest square of the correlation, re both energies; its crest over what is usual)."""
    own = channel - channel.mean()
    size = next_fast_len(own.size + stimulus_v.size)
    # Whitened a little: a lowpass or hum must not hide what there is of the stimulus.
    product = rfft(own, size) * np.conj(rfft(stimulus_v, size))
    correlation = irfft(product, size)
    energy = float(np.sum(own**2) * np.sum(stimulus_v**2))
    share = float(np.max(correlation**2)) / max(energy, 1e-300)
    white = np.abs(irfft(product / np.maximum(np.abs(product), 1e-12 * np.abs(product).max()), size))
    return share, float(white.max() / np.median(white))


def _wire_share(channel: FloatArray, stimulus_v: FloatArray) -> float:
    return _correlated(channel, stimulus_v)[0]


def _heard(channel: FloatArray, stimulus_v: FloatArray) -> float:
    return _correlated(channel, stimulus_v)[1]


def _tonal(channel: FloatArray) -> float:
    """Share of its energy in the strongest line, mains and DC aside."""
    own = (channel - channel.mean())[: 1 << 18]
    power = np.abs(rfft(own * np.hanning(own.size))) ** 2
    top = int(np.argmax(power))
    return float(np.sqrt(np.mean(own**2))) * float(power[max(top - 3, 0) : top + 4].sum() / max(power.sum(), 1e-300))
