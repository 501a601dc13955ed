"""A tone at rising levels, with gaps between: what is played to measure how a filter bends."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.errors import SignalError
from jiyuu.signals.transforms import rfft
from jiyuu.signals.two_tones import TwoTones

PERIODS = 24
LOWEST_HZ, HIGHEST_HZ = 10.0, 10_000.0
FADE_S = 0.01
SILENT_S, ALIKE_S, SHORTEST_S = 0.04, 0.02, 0.2  # a gap at least; by how much tones may differ; a tone at least
PURE = 0.02  # share of a tone that may be something else: a file of few bits
PAIR_S, PAIR_SETTLES_S = 1.8, 0.4  # of two tones behind the levels; until a filter has settled to them
HIGHEST_SHARE = 0.45  # of the rate


@dataclass(frozen=True, slots=True)
class DriveSteps:
    """frequency_hz, levels_v rising peak volts; what lasts how long; pair: two tones behind the levels, one place of a
    level left silent before them. Raises SignalError for what cannot be played."""

    frequency_hz: float
    levels_v: tuple[float, ...]
    shortest_s: float = 0.8
    gap_s: float = 0.1
    silence_s: float = 0.5
    pair: TwoTones | None = None

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
        behind_s = 0.0 if self.pair is None else self.tone_s + self.gap_s + PAIR_S + self.gap_s
        return 2 * self.silence_s + len(self.levels_v) * (self.tone_s + self.gap_s) + behind_s

    @property
    def highest_v(self) -> float:
        """Peak volts of all that is played."""
        return max(self.levels_v[-1], 0.0 if self.pair is None else 2 * self.pair.level_v)

    @property
    def pair_begins_s(self) -> float:
        """After the stimulus's beginning."""
        return self._begins_s(len(self.levels_v) + 1)

    def _begins_s(self, i: int) -> float:
        return self.silence_s + i * (self.tone_s + self.gap_s)

    def sounding(self, sample_rate_hz: float) -> NDArray[np.bool_]:
        """(n,) whether a level sounds."""
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

    def pair_middle(self, place: int, sample_rate_hz: float, edge_s: float) -> slice:
        """The samples at which a filter has settled to two tones, where the stimulus begins at `place`."""
        start = place + round((self.pair_begins_s + PAIR_SETTLES_S) * sample_rate_hz)
        return slice(start, start + round((PAIR_S - PAIR_SETTLES_S - edge_s) * sample_rate_hz))

    def record_v(self, sample_rate_hz: float) -> FloatArray:
        """(n,) volts. The tone runs on through the gaps, so that phases go on from level to level. Raises SignalError
        where the rate does not hold two tones."""
        if self.pair is not None and self.pair.third_hz[1] > HIGHEST_SHARE * sample_rate_hz:
            raise SignalError(f"of two tones of {self.pair.low_hz:g} and {self.pair.high_hz:g} Hz a product lies past "
                              f"what {sample_rate_hz:g} Hz holds; give a higher rate, or tones nearer to each other.")
        t = np.arange(round(self.duration_s * sample_rate_hz)) / sample_rate_hz
        shape = np.zeros(t.size)
        for i, level in enumerate(self.levels_v):
            here, faded = _faded(t, self._begins_s(i), self.tone_s)
            shape[here] += level * faded
        record = shape * np.sin(2 * np.pi * self.frequency_hz * t)
        if self.pair is not None:
            here, faded = _faded(t, self.pair_begins_s, PAIR_S)
            record[here] += faded * self.pair.wave_v(t[here])
        return np.asarray(record)


def _faded(t_s: FloatArray, begins_s: float, lasts_s: float) -> tuple[slice, FloatArray]:
    """Where it sounds, and (n,) 1 there with soft edges."""
    here = slice(*np.searchsorted(t_s, (begins_s, begins_s + lasts_s)).tolist())
    inside = np.minimum(t_s[here] - begins_s, begins_s + lasts_s - t_s[here])
    return here, np.asarray(np.sin(np.pi / 2 * np.clip(inside / FADE_S, 0, 1)) ** 2)


def steps_in(stimulus_v: FloatArray, sample_rate_hz: float) -> DriveSteps:
    """What a stimulus of this kind plays: its frequency, levels and times, read from the record itself. Raises
    SignalError where it is none."""
    sounding = np.abs(stimulus_v) > 1e-7 * np.abs(stimulus_v).max(initial=1e-30)
    places = np.flatnonzero(sounding)
    breaks = np.flatnonzero(np.diff(places) > SILENT_S * sample_rate_hz) if places.size else np.zeros(0, dtype=int)
    begins = places[np.concatenate([[0], breaks + 1])] if places.size else places
    ends = places[np.concatenate([breaks, [places.size - 1]])] + 1 if places.size else places
    lengths = ends - begins
    pair = None
    if begins.size > 3 and begins[-1] - begins[-2] > 1.5 * (begins[-2] - begins[-3]):
        fade = round(2 * FADE_S * sample_rate_hz)
        pair = _pair_in(stimulus_v[begins[-1] + fade : ends[-1] - fade], sample_rate_hz)
        begins, ends, lengths = begins[:-1], ends[:-1], lengths[:-1]
    wrong = SignalError("The stimulus is no ladder of levels; take the file that 'jiyuu stimulus drive' wrote.")
    if begins.size < 2 or np.ptp(lengths) > ALIKE_S * sample_rate_hz or lengths[0] < SHORTEST_S * sample_rate_hz:
        raise wrong
    fade = round(2 * FADE_S * sample_rate_hz)
    pieces = [stimulus_v[begin + fade : end - fade] for begin, end in zip(begins, ends, strict=True)]
    loudest = pieces[-1] * np.hanning(pieces[-1].size)
    padded = 1 << (int(np.log2(loudest.size)) + 4)
    hertz = float(np.abs(rfft(loudest, padded)).argmax()) * sample_rate_hz / padded
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
                      round(float(begins[0]) / sample_rate_hz, 3), pair)


def _pair_in(piece: FloatArray, sample_rate_hz: float) -> TwoTones:
    """Raises SignalError where it is not two tones of one level."""
    t = np.arange(piece.size) / sample_rate_hz
    window = np.hanning(piece.size)
    padded = 1 << (int(np.log2(piece.size)) + 2)
    hertz: list[float] = []
    left = piece
    for _ in range(2):
        spectrum = np.abs(rfft(left * window, padded))
        hertz.append(float(spectrum.argmax()) * sample_rate_hz / padded)
        left = piece - _fitted(piece, t, hertz)[1]
    half = piece.size // 2
    for _ in range(6):  # by how the phase of each goes on from the first half to the second
        amplitudes, _ = _fitted(piece, t, hertz)
        for i, other in enumerate(reversed(range(2))):
            alone = piece - np.real(amplitudes[other] * np.exp(2j * np.pi * hertz[other] * t))
            turned = alone * np.exp(-2j * np.pi * hertz[i] * t)
            first, second = (np.sum(part * np.hanning(half)) for part in (turned[:half], turned[half : 2 * half]))
            hertz[i] += float(np.angle(second / first)) * sample_rate_hz / (2 * np.pi * half)
    amplitudes, played = _fitted(piece, t, hertz)
    volts = np.abs(amplitudes)
    if np.std(piece - played) > PURE * np.std(piece) or np.ptp(volts) > PURE * volts.max():
        raise SignalError("What stands behind the levels of the stimulus is not two tones of one level; take the file "
                          "that 'jiyuu stimulus drive --two-tone' wrote.")
    low, high = sorted(hertz)
    return TwoTones(round(low, 3), round(high, 3), float(np.mean(volts)))


def _fitted(piece: FloatArray, t_s: FloatArray, hertz: list[float]) -> tuple[ComplexArray, FloatArray]:
    """(peak volts of tones at those places with their phase, what they make together (n,))."""
    turns = np.exp(2j * np.pi * np.outer(t_s, hertz))
    design = np.concatenate([turns.real, -turns.imag], axis=1)
    found = np.linalg.lstsq(design, piece, rcond=None)[0]
    return found[: len(hertz)] + 1j * found[len(hertz) :], np.asarray(design @ found)
