"""The filter in hand heard as it moves: streamed from the patch round it, so that what is turned meanwhile is heard.

What is no single network a side (combs, crushers, banks) is computed for a round of it and played over and over."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.bench.heard import FULL_SCALE_V, HEARD_RATE_HZ, Heard, moving_record, round_s
from jiyuu.bench.live import BLOCK, SETTLED_BLOCKS, AnyVoice, Looped, Turned, kind_of
from jiyuu.bench.patched import patch_of
from jiyuu.bench.standing import Standing
from jiyuu.patch.streamed import StreamedPatch, is_streamed
from jiyuu.signals.looped import SEAM_S, seamless


class Recorded(Looped):
    """Computed for a round of it."""

    def __init__(self, standing: Standing) -> None:
        made = seamless(moving_record(standing, seconds=round_s(standing) + SEAM_S), HEARD_RATE_HZ)
        super().__init__(made, kind_of(standing, Heard.MOVING), Heard.MOVING)
        self._cutoff_hz = standing.standing_hz


class Streamed:
    """Computed while it sounds. Drive and trim glide, and the cutoff where something moves it; everything else makes
    another voice. near: the place in its round from which on it will be heard."""

    def __init__(self, standing: Standing, *, near: int = 0) -> None:
        self.kind, self.what = kind_of(standing, Heard.MOVING), Heard.MOVING
        self.match = 1.0
        self._began = self._stands = self._wanted = Turned.of(standing)
        self._rail_v = standing.document.tolerances.rail_v
        self._stream = StreamedPatch(
            patch_of(standing, standing.document.name), round_s(standing), HEARD_RATE_HZ,
            place=max(near - SETTLED_BLOCKS * BLOCK, 0),
            turnable=f"{standing.setup.in_hand}.cutoff")
        for _ in range(SETTLED_BLOCKS):
            self.block()

    @property
    def place(self) -> int:
        """Sample of its round that comes next."""
        return self._stream.place

    @property
    def cutoff_hz(self) -> float:
        """Where the knob stands by now."""
        return self._stands.cutoff_hz

    def turn(self, wanted: Turned) -> None:
        self._wanted = wanted

    def go_to(self, place: int) -> None:
        """So that it plays in step with another."""
        self._stream.go_to(place)

    def block(self) -> FloatArray:
        """(BLOCK,) re full scale."""
        stands, then, began = self._stands, self._stands.towards(self._wanted), self._began
        self._stands = then
        way = np.linspace(0.0, 1.0, BLOCK, endpoint=False)
        turned = float(np.log2(stands.cutoff_hz / began.cutoff_hz)), float(np.log2(then.cutoff_hz / began.cutoff_hz))
        sound_v = self._stream.push((stands.drive + (then.drive - stands.drive) * way) / began.drive, turned)
        sound_v = np.clip(np.nan_to_num(sound_v, nan=0.0) / max(began.trim, 1e-6), -self._rail_v, self._rail_v)
        return np.asarray(sound_v * (stands.trim + (then.trim - stands.trim) * way) / FULL_SCALE_V)


def moving_voice(standing: Standing, *, near: int = 0) -> AnyVoice:
    """Raises CircuitError or SignalError where it cannot be played."""
    if is_streamed(patch_of(standing, standing.document.name)):
        return Streamed(standing, near=near)
    return Recorded(standing)
