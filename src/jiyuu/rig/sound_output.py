"""Where sound goes: the machine's own output, or a stand-in that keeps what it was given."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Generator
from typing import Any, Protocol

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError

Fill = Callable[[int], FloatArray]  # so many samples re full scale, (count,)
OUTPUT_RATE_HZ = 48_000
BUFFER_MS = 20  # with what is computed at a time and the ceiling's look ahead, what is turned is heard in 50


class SoundOutput(Protocol):
    """Asks `fill` for samples of OUTPUT_RATE_HZ from a thread of its own, from start to stop."""

    def start(self, fill: Fill) -> None: ...

    def stop(self) -> None: ...


class DeviceOutput:
    """The output that the system calls its default, opened only while something is played."""

    def __init__(self) -> None:
        self._device: Any = None

    def start(self, fill: Fill) -> None:
        """Raises SignalError where the machine has no output, or will not give it."""
        import miniaudio

        try:
            self._device = miniaudio.PlaybackDevice(
                output_format=miniaudio.SampleFormat.FLOAT32, nchannels=2, sample_rate=OUTPUT_RATE_HZ,
                buffersize_msec=BUFFER_MS, app_name="Jiyuu",
                # Without this list a machine with no output would be given one that throws the sound away.
                backends=[miniaudio.Backend.PULSEAUDIO, miniaudio.Backend.ALSA, miniaudio.Backend.JACK],
            )
            frames = _frames(fill)
            next(frames)
            self._device.start(frames)
        except miniaudio.MiniaudioError as error:
            self.stop()
            raise SignalError("No sound output could be opened on this machine; connect one, or save the sound as a "
                              "file (Book, Save sound).") from error

    def stop(self) -> None:
        device, self._device = self._device, None
        if device is not None:
            device.close()


class SoundingOutput:
    """An output that is opened for the first sound and closed after the last; `make` says which one."""

    def __init__(self, make: Callable[[], SoundOutput] = DeviceOutput) -> None:
        self.make = make
        self._open: SoundOutput | None = None

    @property
    def is_open(self) -> bool:
        return self._open is not None

    def open(self, fill: Fill) -> None:
        """Have `fill` heard, unless it is heard already. Raises SignalError where the machine has no output."""
        if self._open is None:
            output = self.make()
            output.start(fill)
            self._open = output

    def close(self) -> None:
        output, self._open = self._open, None
        if output is not None:
            output.stop()


def _frames(fill: Fill) -> Generator[bytes, int, None]:
    """Two equal channels as the output wants them."""
    count = yield b""
    while True:
        count = yield np.repeat(fill(count).astype(np.float32), 2).tobytes()


class StandInOutput:
    """Plays into memory in real time, so that listening can be tried where there is no output."""

    PIECE_S = 0.01

    def __init__(self) -> None:
        self._thread: threading.Thread | None = None
        self._stop = threading.Event()
        self._pieces: list[FloatArray] = []

    @property
    def heard(self) -> FloatArray:
        """Everything played so far, (n,) re full scale."""
        return np.concatenate([np.zeros(0), *self._pieces])

    def start(self, fill: Fill) -> None:
        self._stop.clear()
        self._thread = threading.Thread(target=self._run, args=(fill,), daemon=True)
        self._thread.start()

    def _run(self, fill: Fill) -> None:
        begun, played = time.monotonic(), 0.0
        while not self._stop.is_set():
            self._pieces.append(fill(round(self.PIECE_S * OUTPUT_RATE_HZ)))
            played += self.PIECE_S
            self._stop.wait(max(0.0, begun + played - time.monotonic()))

    def stop(self) -> None:
        self._stop.set()
        if self._thread is not None:
            self._thread.join()
            self._thread = None
