"""WAV and FLAC records: samples × full scale are volts.

Files are opened without trust: the size is known before anything is allocated, and every way a file can be unusable
has its own sentence.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError
from jiyuu.signals.long_record import BLOCK, Record
from jiyuu.whole_file import written_whole

if TYPE_CHECKING:
    from soundfile import SoundFile

LOWEST_RATE_HZ, HIGHEST_RATE_HZ = 44_100, 192_000
LONGEST_S = 1800.0
MOST_MEASURED = 16_000_000  # samples of all channels: five and a half minutes of one at 48 kHz
FULL_SCALE_V = 10.0


@dataclass(frozen=True, slots=True, eq=False)
class Recording:
    """channels_v (channels, n) in volts, at sample_rate_hz; cut_short: the file holds more than was asked for."""

    channels_v: FloatArray
    sample_rate_hz: int
    cut_short: bool = False

    @property
    def loudest_v(self) -> FloatArray:
        """(n,) the channel with the most energy: a mono source recorded in stereo is found without asking."""
        return np.asarray(self.channels_v[int(np.argmax(np.mean(self.channels_v**2, axis=1)))])


@dataclass(frozen=True, slots=True, eq=False)
class LongRecording:
    """The same of any length: a record in volts for each channel."""

    channels: list[Record]
    sample_rate_hz: int


def read_recording(
    path: Path, *, full_scale_v: float = FULL_SCALE_V, may_be_silent: bool = False, at_most_s: float = LONGEST_S
) -> Recording:
    """A WAV or FLAC file, mono or stereo, 44.1–192 kHz, 16/24-bit or float; at_most_s: what lies behind that is looked
    through, but not returned. Raises SignalError with what to do."""
    with _opened(path, full_scale_v) as file:
        channels_v = np.empty((file.channels, min(file.frames, round(at_most_s * file.samplerate))))
        filled = 0
        for block in _blocks(file, path, may_be_silent=may_be_silent):
            taken = block[: channels_v.shape[1] - filled]
            channels_v[:, filled : filled + taken.shape[0]] = taken.T
            filled += taken.shape[0]
        channels_v *= full_scale_v
        return Recording(channels_v, file.samplerate, cut_short=filled < file.frames)


def read_to_measure(path: Path, *, full_scale_v: float = FULL_SCALE_V) -> Recording:
    """The same for what is measured as a whole, in a few times its size of memory: refused over MOST_MEASURED samples.
    Raises SignalError with what to do."""
    with _opened(path, full_scale_v) as file:
        longest_s = MOST_MEASURED / file.channels / file.samplerate
        if file.frames > longest_s * file.samplerate:
            raise SignalError(
                f"{path} is {file.frames / file.samplerate:.0f} s long; at {file.samplerate} Hz and {file.channels} "
                f"channel{'s' * (file.channels > 1)} at most {longest_s:.0f} s are measured at once. Cut out the part "
                f"needed{', or keep one channel' * (file.channels > 1)}."
            )
    return read_recording(path, full_scale_v=full_scale_v)


def size_of(path: Path) -> tuple[int, int]:
    """(samples of a channel, rate in Hz) of a file. Raises SignalError with what to do."""
    with _opened(path, FULL_SCALE_V) as file:
        return file.frames, file.samplerate


def may_be_measured(path: Path, *, full_scale_v: float = FULL_SCALE_V) -> bool:
    """Whether a file is short enough for `read_to_measure`. Raises SignalError with what to do."""
    with _opened(path, full_scale_v) as file:
        return bool(file.frames * file.channels <= MOST_MEASURED)


@contextmanager
def in_blocks(path: Path, size: int, *, overlap: int) -> Iterator[tuple[int, Iterator[tuple[int, FloatArray]]]]:
    """(rate in Hz, stretches of a file of any length as they are asked for: first sample and (k, channels) re full
    scale; each repeats the last `overlap` samples of the one before). Raises SignalError with what to do."""
    with _opened(path, FULL_SCALE_V) as file:
        def stretches() -> Iterator[tuple[int, FloatArray]]:
            place, held = 0, [np.zeros((0, file.channels))]
            for samples in _blocks(file, path, may_be_silent=False):
                held.append(samples)
                while sum(part.shape[0] for part in held) >= size:
                    whole = np.concatenate(held)
                    yield place, whole[:size]
                    held = [whole[size - overlap :]]
                    place += size - overlap
            rest = np.concatenate(held)
            if place == 0 or rest.shape[0] > overlap:
                yield place, rest

        yield file.samplerate, stretches()


def read_part(path: Path, start: int, stop: int, *, full_scale_v: float = FULL_SCALE_V) -> Recording:
    """Samples from start to stop of a file that has been looked through, as far as it goes. Raises SignalError with
    what to do."""
    with _opened(path, full_scale_v) as file:
        file.seek(min(max(start, 0), file.frames))
        samples = file.read(max(stop - max(start, 0), 0), dtype="float64", always_2d=True)
        return Recording(samples.T * full_scale_v, file.samplerate, cut_short=True)


def read_long(path: Path, *, full_scale_v: float = FULL_SCALE_V, may_be_silent: bool = False) -> LongRecording:
    """The same without holding all of it in memory. Raises SignalError with what to do."""
    with _opened(path, full_scale_v) as file:
        channels = [Record() for _ in range(file.channels)]
        for block in _blocks(file, path, may_be_silent=may_be_silent):
            for record, samples in zip(channels, block.T, strict=True):
                record.add(samples * full_scale_v)
        return LongRecording(channels, file.samplerate)


@contextmanager
def _opened(path: Path, full_scale_v: float) -> Iterator[SoundFile]:
    """A file that can be one of ours."""
    import soundfile

    if not (np.isfinite(full_scale_v) and full_scale_v > 0):
        raise SignalError(f"full scale {full_scale_v:g} V is invalid; give a value above 0 V.")
    if not path.exists():
        raise SignalError(f"{path} does not exist; check the name.")
    if path.is_dir():
        raise SignalError(f"{path} is a folder; give a WAV or FLAC file.")
    if path.stat().st_size == 0:
        raise SignalError(f"{path} is empty; record it again.")
    try:
        with soundfile.SoundFile(os.fsencode(path)) as file:
            rate = file.samplerate
            if not LOWEST_RATE_HZ <= rate <= HIGHEST_RATE_HZ:
                raise SignalError(
                    f"{path} has a rate of {rate} Hz; record at {LOWEST_RATE_HZ} to {HIGHEST_RATE_HZ} Hz."
                )
            if file.channels > 2:
                raise SignalError(f"{path} has {file.channels} channels; give a mono or stereo file.")
            _check_declared_size(path, file.frames, rate, file.channels)
            yield file
    except (soundfile.SoundFileError, RuntimeError, OSError) as error:
        raise SignalError(f"{path} cannot be read as WAV or FLAC; export it again as WAV.") from error


def _blocks(file: SoundFile, path: Path, *, may_be_silent: bool) -> Iterator[FloatArray]:
    """(k, channels) re full scale, one after the other; what is wrong with them is said when all have been seen."""
    seen, finite, sounds = 0, True, False
    while (samples := file.read(BLOCK, dtype="float64", always_2d=True)).shape[0]:
        seen += samples.shape[0]
        finite = finite and bool(np.isfinite(samples).all())
        sounds = sounds or bool(samples.any())
        yield samples
    if not seen:
        raise SignalError(f"{path} holds no samples; record it again.")
    if seen < file.frames:
        raise SignalError(
            f"{path} is cut short: it promises {file.frames} samples and holds {seen}; copy or record it again."
        )
    if not finite:
        raise SignalError(f"{path} holds samples that are not numbers (NaN or infinity); export it again.")
    if not may_be_silent and not sounds:
        raise SignalError(f"{path} is silent; check the cable and the recording level.")


def _check_declared_size(path: Path, frames: int, rate: int, channels: int) -> None:
    if frames / rate > LONGEST_S:
        raise SignalError(
            f"{path} says it is {frames / rate:.0f} s long; "
            f"at most {LONGEST_S:.0f} s are read. Cut out the part needed."
        )
    size = path.stat().st_size
    with path.open("rb") as file:
        if file.read(4) != b"RIFF":
            return
        file.seek(12)
        while len(chunk := file.read(8)) == 8:
            promised, here = int.from_bytes(chunk[4:], "little"), file.tell()
            # Recorders that stream leave the length at its largest value; then the file itself decides.
            if chunk[:4] == b"data" and here + promised > size and promised < 0xFFFFFF00:
                raise SignalError(
                    f"{path} is cut short: its header promises {promised} bytes of sound and it has {size - here}; "
                    "copy or record it again."
                )
            file.seek(promised + promised % 2, os.SEEK_CUR)


def write_recording(
    path: Path, channels_v: FloatArray, sample_rate_hz: int, *, full_scale_v: float = FULL_SCALE_V,
    inputs: Iterable[Path] = (),
) -> None:
    """Writes float WAV, whole or not at all. channels_v (n,) or (channels, n) volts; inputs: what must not be written
    onto. Raises JiyuuError where it cannot be written."""
    channels = [Record.of(channel) for channel in np.atleast_2d(channels_v)]
    write_long(path, channels, sample_rate_hz, full_scale_v=full_scale_v, inputs=inputs)


def write_long(
    path: Path, channels: Sequence[Record], sample_rate_hz: int, *, full_scale_v: float = FULL_SCALE_V,
    inputs: Iterable[Path] = (),
) -> None:
    """The same of records of any length, in volts. Raises JiyuuError as write_recording does."""
    import soundfile

    with written_whole(path, inputs=inputs) as temporary:
        try:
            with soundfile.SoundFile(os.fsencode(temporary), "w", sample_rate_hz, len(channels), "FLOAT",
                                     format="WAV") as file:
                for blocks in zip(*(channel.blocks() for channel in channels), strict=True):
                    file.write(np.stack(blocks, axis=1) / full_scale_v)
        except soundfile.LibsndfileError as error:  # no OSError, although it mostly is a full disk
            raise SignalError(f"{path} could not be written: {error.error_string} Is the disk full?") from error
