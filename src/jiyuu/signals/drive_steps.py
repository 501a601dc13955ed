"""A tone at rising levels, with gaps between: what is played to measure how a filter bends."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError

PERIODS = 24
LOWEST_HZ, HIGHEST_HZ = 10.0, 10_000.0
FADE_S = 0.01
SILENT_S, ALIKE_S, SHORTEST_S = 0.04, 0.02, 0.2  # a gap at least; by how much tones may differ; a tone at least
PURE = 0.02  # share of a tone that may be something else: a file of few bits


@dataclass(frozen=True, slots=True)
class DriveSteps:
    """frequency_hz, levels_v rising peak volts; what lasts how long. Raises SignalError for what cannot be played."""

    frequency_hz: float
    levels_v: tuple[float, ...]
    shortest_s: float = 0.8
    gap_s: float = 0.1
    silence_s: float = 0.5

    def __post_init__(self) -> None:
        if not LOWEST_HZ <= self.frequency_hz <= HIGHEST_HZ:
            raise SignalError(f"a frequency of {self.frequency_hz:g} Hz is out of range; give 10 Hz to 10 kHz.")
        rising = np.array(self.levels_v)
        if not rising.size or not np.isfinite(rising).all() or rising[0] <= 0 or (np.diff(rising) <= 0).any():
            raise SignalError("levels have to rise, and lie above 0 V; give for example -40:30:2 (dB re 1 V).")
        if rising.size > 200 or rising[-1] > 1000:
            raise SignalError("at most 200 levels are played, up to 1000 V; give fewer, or lower ones.")

    @property
    def tone_s(self) -> float:
        return max(self.shortest_s, PERIODS / self.frequency_hz)

    @property
    def duration_s(self) -> float:
        return 2 * self.silence_s + len(self.levels_v) * (self.tone_s + self.gap_s)

    def _begins_s(self, i: int) -> float:
        return self.silence_s + i * (self.tone_s + self.gap_s)

    def sounding(self, sample_rate_hz: float) -> NDArray[np.bool_]:
        """(n,) whether a tone sounds."""
        found = np.zeros(round(self.duration_s * sample_rate_hz), dtype=bool)
        for i in range(len(self.levels_v)):
            start = round(self._begins_s(i) * sample_rate_hz)
            found[start : start + round(self.tone_s * sample_rate_hz)] = True
        return found

    def middles(self, place: int, sample_rate_hz: float, edge_s: float) -> list[slice]:
        """Of every tone the samples that lie edge_s from its ends, where the stimulus begins at `place`."""
        edge, length = round(edge_s * sample_rate_hz), round(self.tone_s * sample_rate_hz)
        starts = [place + round(self._begins_s(i) * sample_rate_hz) for i in range(len(self.levels_v))]
        return [slice(start + edge, start + length - edge) for start in starts]

    def record_v(self, sample_rate_hz: float) -> FloatArray:
        """(n,) volts. The tone runs on through the gaps, so that phases go on from level to level."""
        t = np.arange(round(self.duration_s * sample_rate_hz)) / sample_rate_hz
        shape = np.zeros(t.size)
        for i, level in enumerate(self.levels_v):
            inside = np.minimum(t - self._begins_s(i), self._begins_s(i) + self.tone_s - t)
            shape += level * np.sin(np.pi / 2 * np.clip(inside / FADE_S, 0, 1)) ** 2
        return np.asarray(shape * np.sin(2 * np.pi * self.frequency_hz * t))


def steps_in(stimulus_v: FloatArray, sample_rate_hz: float) -> DriveSteps:
    """What a stimulus of this kind plays: its frequency, levels and times, read from the record itself. Raises
    SignalError where it is none."""
    sounding = np.abs(stimulus_v) > 1e-7 * np.abs(stimulus_v).max(initial=1e-30)
    places = np.flatnonzero(sounding)
    breaks = np.flatnonzero(np.diff(places) > SILENT_S * sample_rate_hz) if places.size else np.zeros(0, dtype=int)
    begins = places[np.concatenate([[0], breaks + 1])] if places.size else places
    ends = places[np.concatenate([breaks, [places.size - 1]])] + 1 if places.size else places
    lengths = ends - begins
    wrong = SignalError("The stimulus is no ladder of levels; take the file that 'jiyuu stimulus drive' wrote.")
    if begins.size < 2 or np.ptp(lengths) > ALIKE_S * sample_rate_hz or lengths[0] < SHORTEST_S * sample_rate_hz:
        raise wrong
    fade = round(2 * FADE_S * sample_rate_hz)
    pieces = [stimulus_v[begin + fade : end - fade] for begin, end in zip(begins, ends, strict=True)]
    loudest = pieces[-1] * np.hanning(pieces[-1].size)
    padded = 1 << (int(np.log2(loudest.size)) + 4)
    hertz = float(np.abs(np.fft.rfft(loudest, padded)).argmax()) * sample_rate_hz / padded
    if not LOWEST_HZ <= hertz <= HIGHEST_HZ:
        raise wrong
    for _ in range(4):  # by how the phase goes on from the first half to the second
        t = np.arange(pieces[-1].size) / sample_rate_hz
        turned = pieces[-1] * np.exp(-2j * np.pi * hertz * t)
        whole = round(int(0.5 * t.size * hertz / sample_rate_hz) / hertz * sample_rate_hz)
        hertz += float(np.angle(turned[whole : 2 * whole].sum() / turned[:whole].sum())) * sample_rate_hz / (
            2 * np.pi * whole)

    def level(piece: FloatArray) -> float:
        turns = 2 * np.pi * hertz / sample_rate_hz * np.arange(piece.size)
        basis = np.stack([np.cos(turns), np.sin(turns)], axis=1)
        found = np.linalg.lstsq(basis, piece, rcond=None)[0]
        if np.std(piece - basis @ found) > PURE * np.std(piece):
            raise wrong
        return float(np.hypot(*found))

    volts = [level(piece) for piece in pieces]
    pitch_s = float(np.mean(np.diff(begins))) / sample_rate_hz
    tone_s = float(np.mean(lengths)) / sample_rate_hz
    return DriveSteps(round(hertz, 4), tuple(volts), round(tone_s, 3), round(pitch_s - round(tone_s, 3), 3),
                      round(float(begins[0]) / sample_rate_hz, 3))
