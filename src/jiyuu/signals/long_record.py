"""Records of any length: in memory while they are short, in a file without a name when they are long.

Whatever plays a record asks for a stretch of it and adds what it made to another, so that ten minutes need no more
memory than ten seconds. A file is gone with its record.
"""

from __future__ import annotations

import os
import tempfile
import weakref
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import IO

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError
from jiyuu.stopping import checkpoint

KEPT = 1 << 19  # samples of a record that stay in memory
BLOCK = 1 << 16  # samples at a time where nothing else decides
PLACE = 8  # bytes of a sample


class Record:
    """Samples in order, silence on either side; made by adding to its end."""

    def __init__(self) -> None:
        self._parts: list[FloatArray] = []
        self._file: IO[bytes] | None = None
        self.size = 0

    @classmethod
    def of(cls, samples: FloatArray) -> Record:
        """samples (n,) that are in memory already; they are not copied."""
        record = cls()
        record._parts, record.size = [samples], samples.size
        return record

    @classmethod
    def gathered(cls, blocks: Iterable[FloatArray]) -> Record:
        """Of all blocks (k,) in turn."""
        record = cls()
        for block in blocks:
            checkpoint()
            record.add(block)
        return record

    def add(self, block: FloatArray) -> None:
        """block (k,) behind what there is. Raises SignalError where the disk is full."""
        if self._file is None and self.size + block.size <= KEPT:
            self._parts.append(np.array(block, dtype=float))
        else:
            if self._file is None:
                self._begin_file()
            self._write(block)
        self.size += block.size

    def _begin_file(self) -> None:
        try:
            self._file = tempfile.TemporaryFile(prefix="jiyuu-", buffering=0)  # noqa: SIM115
        except OSError as error:
            raise _no_room(error) from error
        weakref.finalize(self, self._file.close)
        for part in self._parts:
            self._write(part)
        self._parts = []

    def _write(self, block: FloatArray) -> None:
        assert self._file is not None
        if not block.size:
            return
        left = np.ascontiguousarray(block, dtype=float).data.cast("B")
        try:
            while left:
                left = left[self._file.write(left) :]
        except OSError as error:
            raise _no_room(error) from error

    def read(self, start: int, stop: int) -> FloatArray:
        """(stop − start,) samples, 0 where there are none."""
        low, high = max(start, 0), min(stop, self.size)
        if high <= low:
            return np.zeros(max(stop - start, 0))
        found = self._there(low, high)
        return found if (low, high) == (start, stop) else np.pad(found, (low - start, stop - high))

    def _there(self, low: int, high: int) -> FloatArray:
        if self._file is None:
            if len(self._parts) > 1:
                self._parts = [np.concatenate(self._parts)]
            return self._parts[0][low:high]
        found = np.empty(high - low)
        room, at = found.data.cast("B"), low * PLACE
        while room:
            count = os.preadv(self._file.fileno(), [room], at)  # wherever others read or write meanwhile
            if not count:
                raise SignalError("A file of work in progress was cut off; run it again.")
            room, at = room[count:], at + count
        return found

    def blocks(self, size: int = BLOCK) -> Iterator[FloatArray]:
        """All of it, so many samples at a time."""
        for start in range(0, self.size, size):
            checkpoint()
            yield self.read(start, min(start + size, self.size))

    def whole(self) -> FloatArray:
        """(n,) at once."""
        return self.read(0, self.size)


def mapped(made_of: Callable[..., FloatArray], *records: Record) -> Record:
    """made_of a block (k,) of each record, all of one length, block by block."""
    return Record.gathered(made_of(*blocks) for blocks in zip(*(one.blocks() for one in records), strict=True))


def weighted(records: Sequence[Record], weights: Sequence[float]) -> Record:
    """Their sum, each times its weight."""
    return mapped(lambda *blocks: np.tensordot(np.asarray(weights, dtype=float), np.stack(blocks), axes=1), *records)


def _no_room(error: OSError) -> SignalError:
    # Asking for the folder once more might fail for the same reason.
    folder = tempfile.tempdir or os.environ.get("TMPDIR") or "/tmp"
    return SignalError(f"{folder} has no room for the work in progress ({error.strerror}); free some, or name another "
                       "folder in TMPDIR.")
