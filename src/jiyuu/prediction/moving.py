"""A patch while it moves: what its controls do, where every target goes between its bounds, and what sounds, as level
over time and frequency."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.patch.document import Patch
from jiyuu.patch.inside import is_inner
from jiyuu.patch.motion import Motion, Span
from jiyuu.patch.playing import play_patch, sources_record
from jiyuu.patch.targets import Target
from jiyuu.signals.controls.figure import swung_s
from jiyuu.signals.transforms import rfft
from jiyuu.stopping import checkpoint

RATE_HZ = 48_000
ROWS_HZ = 1000.0  # of what is drawn of controls and targets
WINDOW, COLUMNS = 4096, 400
PER_OCTAVE, LOWEST_HZ, OCTAVES = 24, 20.0, 10
FLOOR_DB = -120.0
LONGEST_S = 16.0


@dataclass(frozen=True, slots=True)
class Sung:
    """A note of the figure: where it begins and ends (s), octaves over the figure's root, what it bears."""

    start_s: float
    stop_s: float
    octaves: float
    accent: bool
    slide: bool
    tie: bool


@dataclass(frozen=True, slots=True, eq=False)
class Moves:
    """times_s (n,); controls and targets' values (n,) by name; a span for every target; notes in order."""

    times_s: FloatArray
    controls: Mapping[str, FloatArray]
    targets: tuple[Target, ...]
    wanted: Mapping[str, FloatArray]
    values: Mapping[str, FloatArray]
    spans: tuple[Span, ...]
    notes: tuple[Sung, ...]

    def span(self, name: str) -> Span | None:
        return next((span for span in self.spans if span.target.name == name), None)


@dataclass(frozen=True, slots=True, eq=False)
class Spectrogram:
    """level_db (f, t) re 1 V peak over frequency_hz (f,), even in octaves, and time_s (t,); sound_v (n,) at RATE_HZ."""

    time_s: FloatArray
    frequency_hz: FloatArray
    level_db: FloatArray
    sound_v: FloatArray


def moves_of(patch: Patch, seconds: float) -> Moves:
    """Milliseconds of work: fit for every move of a hand. Raises CircuitError as Motion does."""
    times_s = np.arange(round(seconds * ROWS_HZ)) / ROWS_HZ
    motion = Motion(patch, seconds)
    controls = {name: motion.control(name, times_s) for name, control in patch.controls.items()
                if not is_inner(control)}
    targets = tuple(motion.targets)
    wanted = {target.name: motion.wanted(target, times_s) for target in targets}
    return Moves(
        times_s, controls, targets, wanted, {target.name: target.stopped(wanted[target.name]) for target in targets},
        tuple(motion.span(target, times_s) for target in targets), tuple(_sung(patch, motion, seconds)),
    )


def between(moves: Moves, name: str, low: float, high: float) -> Moves:
    """The same with one target stretched between two other bounds: quick enough for every move of a hand."""
    span, wanted = moves.span(name), moves.wanted[name]
    if span is None or not span.wanted_greatest > span.wanted_least:
        return moves
    place = np.log2 if span.target.octaves else np.asarray
    at, ends = place(wanted), (float(place(low)), float(place(high)))
    stretched = ends[0] + (ends[1] - ends[0]) * (at - at.min()) / np.ptp(at)
    asked = np.asarray(2.0**stretched if span.target.octaves else stretched)
    got = span.target.stopped(asked)
    now = Span(span.target, float(got.min()), float(got.max()), low, high, float(np.mean(got != asked)))
    return replace(moves, wanted={**moves.wanted, name: asked}, values={**moves.values, name: got},
                   spans=tuple(now if one is span else one for one in moves.spans))


def _sung(patch: Patch, motion: Motion, seconds: float) -> Iterator[Sung]:
    figure = patch.figure
    if figure is None:
        return
    # In the middle of each step nothing glides any more.
    for i in range(int(np.ceil(seconds / figure.step_s))):
        start = swung_s(i, figure.step_s, figure.swing)
        own_s = swung_s(i + 1, figure.step_s, figure.swing) - start
        at = np.array([start + 0.02 * own_s, start + 0.999 * own_s])
        heard = motion.played(("gate", "pitch", "accent", "slide"), at)
        if heard["gate"][0] < 0.5:
            continue
        gate = motion.played(("gate",), start + own_s * np.linspace(0.02, 0.999, 40))["gate"]
        length = own_s if (gate > 0.5).all() else own_s * float(np.mean(gate > 0.5))
        yield Sung(start, start + length, float(heard["pitch"][1]), bool(heard["accent"][0] > 0.5),
                   bool(heard["slide"][0] > 0.5), False)


def spectrogram_of(patch: Patch, seconds: float) -> Spectrogram:
    """What sounds. Raises CircuitError or SignalError as play_patch does."""
    played = sources_record(patch, seconds, RATE_HZ)
    sound = play_patch(patch, played[np.newaxis], RATE_HZ, own_sources=True, checked=False).mean(axis=0)
    checkpoint()
    return Spectrogram(*spectrogram(sound, RATE_HZ), sound)


def spectrogram(record_v: FloatArray, sample_rate_hz: float) -> tuple[FloatArray, FloatArray, FloatArray]:
    """(times, frequencies, levels): the loudest line in every half semitone, dB re 1 V peak."""
    hop = max(record_v.size // COLUMNS, 64)
    padded = np.pad(record_v, WINDOW // 2)
    starts = np.arange(0, record_v.size, hop)
    shape = np.hanning(WINDOW)
    pieces = np.lib.stride_tricks.sliding_window_view(padded, WINDOW)[starts[starts + WINDOW <= padded.size]]
    lines = np.abs(rfft(pieces * shape, axis=1)) * (2 / shape.sum())
    hertz = LOWEST_HZ * 2.0 ** (np.arange(PER_OCTAVE * OCTAVES + 1) / PER_OCTAVE)
    edges = hertz[:, np.newaxis] * 2.0 ** (np.array([-0.5, 0.5]) / PER_OCTAVE) * WINDOW / sample_rate_hz
    levels = np.empty((hertz.size, pieces.shape[0]))
    top = lines.shape[1] - 1
    for row, (low, high) in enumerate(edges):
        first, last = int(np.clip(np.floor(low), 0, top)), int(np.clip(np.ceil(high), 1, top))
        if last - first > 2:
            levels[row] = lines[:, int(np.ceil(low)) : max(int(high), int(np.ceil(low))) + 1].max(axis=1)
        else:  # between two lines of the transform
            share = float(np.clip(0.5 * (low + high), 0, top)) - first
            levels[row] = lines[:, first] + min(share, 1.0) * (lines[:, min(first + 1, top)] - lines[:, first])
    return (starts[: pieces.shape[0]] / sample_rate_hz, hertz,
            np.asarray(np.maximum(20 * np.log10(np.maximum(levels, 1e-12)), FLOOR_DB)))
