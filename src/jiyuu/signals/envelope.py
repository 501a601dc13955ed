"""The outline of a sound of any length: what it reaches in either direction, stretch by stretch."""

from __future__ import annotations

import io
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError
from jiyuu.stopping import checkpoint

STRETCHES = 600
BLOCK = 1 << 18


@dataclass(frozen=True, slots=True, eq=False)
class Envelope:
    """begins_s (k,), lowest and highest (k,) re full scale over all channels; seconds, rate, channels of the whole."""

    begins_s: FloatArray
    lowest: FloatArray
    highest: FloatArray
    seconds: float
    sample_rate_hz: int
    channels: int


def envelope_of(content: bytes) -> Envelope:
    """Of a file's bytes (WAV, FLAC), read in blocks. Raises SignalError where they hold no sound."""
    import soundfile

    try:
        with soundfile.SoundFile(io.BytesIO(content)) as file:
            if not file.frames:
                raise SignalError("The recording holds no samples; export it again.")
            size = max(-(-file.frames // STRETCHES), 1)
            lowest, highest = [], []
            for block in file.blocks(max(BLOCK // size, 1) * size, dtype="float32", always_2d=True):
                checkpoint()
                starts = np.arange(0, block.shape[0], size)
                lowest.append(np.minimum.reduceat(block.min(axis=1), starts))
                highest.append(np.maximum.reduceat(block.max(axis=1), starts))
            low, high = (np.concatenate(one).astype(float) for one in (lowest, highest))
            return Envelope(np.arange(low.size) * (size / file.samplerate), low, high, file.frames / file.samplerate,
                            int(file.samplerate), int(file.channels))
    except (soundfile.SoundFileError, RuntimeError) as error:
        raise SignalError("The recording cannot be read as WAV or FLAC; export it again.") from error
