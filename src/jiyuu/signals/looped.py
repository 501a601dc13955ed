"""A record that sounds on: looped without a seam, changed for another while it sounds, never above the ceiling."""

from __future__ import annotations

import threading

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.signals.ceiling import CEILING_DB

SEAM_S, CHANGE_S = 0.05, 0.03


def seamless(record: FloatArray, sample_rate_hz: float) -> FloatArray:
    """record (n,) shortened by its seam: its end fades into its beginning, so that it can follow itself."""
    seam = min(round(SEAM_S * sample_rate_hz), record.size // 4)
    if seam == 0:
        return record
    turn = 0.5 * np.pi * (np.arange(seam) + 0.5) / seam
    joined = np.array(record[: record.size - seam], dtype=float)
    joined[:seam] = record[:seam] * np.sin(turn) ** 2 + record[record.size - seam :] * np.cos(turn) ** 2
    return joined


class LoopPlayer:
    """Hands out what a sound output asks for. `play` and `fade_out` come from one thread, `fill` from another.

    What is handed out is cut off at the ceiling whatever it was given: records are expected to lie under it already."""

    def __init__(self, sample_rate_hz: float, *, ceiling_db: float = CEILING_DB) -> None:
        self._change = max(1, round(CHANGE_S * sample_rate_hz))
        self._ceiling = 10 ** (ceiling_db / 20)
        self._lock = threading.Lock()
        self._now: _Voice | None = None
        self._going: list[_Voice] = []

    def play(self, record: FloatArray, *, loop: bool) -> None:
        """record (n,) re full scale, from its beginning; a record that sounds gives way to it within CHANGE_S."""
        with self._lock:
            self._let_go()
            self._now = _Voice(np.asarray(record, dtype=float), loop=loop, rise=self._change)

    def fade_out(self) -> None:
        """Silence within CHANGE_S."""
        with self._lock:
            self._let_go()

    @property
    def sounding(self) -> bool:
        with self._lock:
            return self._now is not None or bool(self._going)

    def fill(self, count: int) -> FloatArray:
        """The next `count` samples, zeros where nothing is left to play."""
        with self._lock:
            out = np.zeros(count)
            if self._now is not None:
                out += self._now.take(count)
                if self._now.over:
                    self._now = None
            for voice in self._going:
                out += voice.take(count)
            self._going = [voice for voice in self._going if not voice.over]
        return np.asarray(np.clip(out, -self._ceiling, self._ceiling))

    def _let_go(self) -> None:
        if self._now is not None:
            self._now.fall(self._change)
            self._going.append(self._now)
            self._now = None


class _Voice:
    def __init__(self, record: FloatArray, *, loop: bool, rise: int) -> None:
        self._record, self._loop = record, loop
        self._place = 0  # samples handed out so far
        self._rise, self._falls_from, self._fall = rise, -1, 1
        self.over = record.size == 0

    def fall(self, count: int) -> None:
        self._falls_from, self._fall = self._place, count

    def take(self, count: int) -> FloatArray:
        index = self._place + np.arange(count)
        self._place += count
        if self._loop:
            sound = self._record[index % self._record.size]
        else:
            sound = np.where(index < self._record.size, self._record[np.minimum(index, self._record.size - 1)], 0.0)
            self.over = self._place >= self._record.size
        share = np.minimum(1.0, (index + 0.5) / self._rise)
        if self._falls_from >= 0:
            share = np.minimum(share, np.clip(1 - (index - self._falls_from + 0.5) / self._fall, 0.0, 1.0))
            self.over |= self._place >= self._falls_from + self._fall
        return np.asarray(sound * np.sin(0.5 * np.pi * share) ** 2)
