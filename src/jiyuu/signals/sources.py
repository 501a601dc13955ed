"""Sources in volts: sine, triangle, saw, pulse, noise, chord, tide figure, wave wash, knocks. All are arrays at a
sample rate; what has corners is band-limited."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError
from jiyuu.signals import series_kernel
from jiyuu.signals.transforms import irfft, rfft
from jiyuu.stopping import checkpoint


def _times(duration_s: float, sample_rate_hz: float) -> FloatArray:
    count = round(duration_s * sample_rate_hz)
    if count < 1:
        raise SignalError(f"A duration of {duration_s:g} s holds no sample at {sample_rate_hz:g} Hz; make it longer.")
    return np.arange(count) / sample_rate_hz


def _checked_pitch(frequency_hz: float, sample_rate_hz: float) -> None:
    if not 0 < frequency_hz < sample_rate_hz / 2:
        raise SignalError(f"A pitch of {frequency_hz:g} Hz does not fit a rate of {sample_rate_hz:g} Hz.")


def sine(frequency_hz: float, *, level_v: float, duration_s: float, sample_rate_hz: float) -> FloatArray:
    """A sine of peak level_v starting at 0 V, shape (duration·rate,)."""
    _checked_pitch(frequency_hz, sample_rate_hz)
    return np.asarray(level_v * np.sin(2 * np.pi * frequency_hz * _times(duration_s, sample_rate_hz)))


def saw(frequency_hz: float, *, level_v: float, duration_s: float, sample_rate_hz: float) -> FloatArray:
    """A rising saw between ±level_v (before band limiting): Fourier series up to half the rate."""
    _checked_pitch(frequency_hz, sample_rate_hz)
    return level_v * _saw_shape(frequency_hz, _times(duration_s, sample_rate_hz), 0.0, sample_rate_hz)


def pulse(
    frequency_hz: float, *, level_v: float, duration_s: float, sample_rate_hz: float, width: float = 0.5
) -> FloatArray:
    """A pulse of the width given (0 to 1, ½ is a square) between ±level_v, without DC: difference of two saws.
    Raises SignalError for another width."""
    _checked_pitch(frequency_hz, sample_rate_hz)
    if not 0 < width < 1:
        raise SignalError(f"A pulse width of {width:g} is out of range; give a share of the period between 0 and 1.")
    times = _times(duration_s, sample_rate_hz)
    return level_v * (
        _saw_shape(frequency_hz, times, 0.0, sample_rate_hz) - _saw_shape(frequency_hz, times, width, sample_rate_hz)
    )


def triangle(frequency_hz: float, *, level_v: float, duration_s: float, sample_rate_hz: float) -> FloatArray:
    """A triangle between ±level_v (before band limiting): Fourier series up to half the rate."""
    _checked_pitch(frequency_hz, sample_rate_hz)
    phase = 2 * np.pi * frequency_hz * _times(duration_s, sample_rate_hz)
    harmonic = np.arange(1, int(sample_rate_hz / 2 / frequency_hz) + 1)
    odd = np.where(harmonic % 2 == 1, (-1.0) ** (harmonic // 2), 0.0)
    return np.asarray(8 / np.pi**2 * level_v * _series(phase, odd / harmonic**2))


MOVED = 64  # samples in which a moving pitch counts as one
STRETCH, SHORT_STRETCH = 1 << 16, 1 << 13  # samples of a series summed at once, compiled and otherwise
MUCH = 1 << 24  # sines, summed in less time than compiled code takes to be linked first


CHORD_RATIOS = (1.0, 1.25, 1.5)  # a pure major triad


def chord(frequency_hz: float, *, level_v: float, duration_s: float, sample_rate_hz: float) -> FloatArray:
    """Three saws in a pure major triad on frequency_hz; together within ±level_v before band limiting."""
    return np.asarray(sum(
        saw(ratio * frequency_hz, level_v=level_v / len(CHORD_RATIOS), duration_s=duration_s,
            sample_rate_hz=sample_rate_hz)
        for ratio in CHORD_RATIOS
    ))


@dataclass(frozen=True, slots=True)
class FigureStep:
    """One step of a figure: semitones over its root, accented or not, slid into from the one before or not."""

    semitones: int
    accent: bool = False
    slide: bool = False


TIDE_FIGURE = (
    FigureStep(0, accent=True), FigureStep(0), FigureStep(7), FigureStep(12, slide=True), FigureStep(10, accent=True),
    FigureStep(3), FigureStep(5, slide=True), FigureStep(0, accent=True),
)
STEP_S, SLIDE_S, SOUNDING = 0.18, 0.06, 0.7  # sounding: share of a step that sounds, when no slide follows
UNACCENTED = 0.6


def tide_figure(frequency_hz: float, *, level_v: float, duration_s: float, sample_rate_hz: float) -> FloatArray:
    """Eight steps of a saw over frequency_hz, with accents and slides, over and over for duration_s.

    Accented steps reach ±level_v, the others 0.6 of it."""
    times = _times(duration_s, sample_rate_hz)
    number = (times / STEP_S).astype(int)
    within = times - number * STEP_S
    steps = np.arange(number[-1] + 2)
    figure = [TIDE_FIGURE[i % len(TIDE_FIGURE)] for i in steps]
    pitch = np.array([step.semitones for step in figure], dtype=float)
    before = np.concatenate([[pitch[0]], pitch[:-1]])
    slides = np.array([step.slide for step in figure])
    level = np.array([1.0 if step.accent else UNACCENTED for step in figure])
    way = np.clip(within / SLIDE_S, 0, 1)
    semitones = np.where(slides[number], before[number] + (pitch - before)[number] * way, pitch[number])
    phase = np.cumsum(frequency_hz * 2 ** (semitones / 12)) / sample_rate_hz
    _checked_pitch(frequency_hz * 2 ** (pitch.max() / 12), sample_rate_hz)
    ceiling_hz = frequency_hz * 2 ** (pitch.max() / 12)
    harmonic = np.arange(1, int(sample_rate_hz / 2 / ceiling_hz) + 1)
    shape = _series(2 * np.pi * phase, -((-1.0) ** harmonic) / harmonic)
    held = np.where(slides[number + 1], STEP_S, SOUNDING * STEP_S)
    edge = 0.003  # short enough to be a step, long enough not to click
    gate = np.clip(within / edge, 0, 1) * np.clip((held - within) / edge, 0, 1)
    return np.asarray(2 / np.pi * level_v * shape * gate * level[number])


def moving(
    kind: str, pitch_hz: FloatArray, level_v: FloatArray, width: FloatArray, sample_rate_hz: float
) -> FloatArray:
    """A sine, triangle, saw, square or pulse whose pitch, peak volts and width (n,) move from sample to sample, within
    the rate: as many harmonics as the highest pitch of every stretch leaves room for, the upper ones falling off so
    that none comes or goes with a step. Raises SignalError for a pitch past half the rate."""
    _checked_pitch(float(pitch_hz.max(initial=1.0)), sample_rate_hz)
    turns = np.concatenate([[0.0], np.cumsum(pitch_hz[:-1]) / sample_rate_hz]) if pitch_hz.size else np.zeros(0)
    phase = 2 * np.pi * (turns - np.floor(turns))
    if kind == "sine":
        return np.asarray(level_v * np.sin(phase))
    shape = np.empty(phase.size)
    for part in _stretches(pitch_hz):
        count = int(sample_rate_hz / 2 / pitch_hz[part].max())
        n = np.arange(1, max(count, 1) + 1)
        falling = np.sinc(n * float(pitch_hz[part].mean()) * 2 / sample_rate_hz)
        if kind == "triangle":
            odd = np.where(n % 2 == 1, 8 / np.pi**2 / n**2 * (-1.0) ** ((n - 1) // 2), 0.0)
            shape[part] = _series(phase[part], odd * falling)
            continue
        sines = -((-1.0) ** n) / n * falling
        shape[part] = 2 / np.pi * _series(phase[part], sines)
        if kind != "saw":
            later = phase[part] - 2 * np.pi * (0.5 if kind == "square" else width[part])
            shape[part] -= 2 / np.pi * _series(later, sines)
    return np.asarray(level_v * shape)


def _stretches(pitch_hz: FloatArray) -> Iterator[slice]:
    """Of MOVED samples each; where the pitch stands still, all of that as one."""
    edges = list(range(0, pitch_hz.size, MOVED))
    still = [bool((pitch_hz[edge : edge + MOVED] == pitch_hz[edge]).all()) for edge in edges]
    start = 0
    for i, edge in enumerate(edges):
        goes_on = (i + 1 < len(edges) and still[i] and still[i + 1] and pitch_hz[edges[i + 1]] == pitch_hz[edge])
        if not goes_on:
            yield slice(start, edge + MOVED)
            start = edge + MOVED


def wave_wash(*, level_v: float, duration_s: float, sample_rate_hz: float, seed: int) -> FloatArray:
    """Pink noise that swells and falls back like waves, one in about four seconds; peaks near level_v, loops."""
    pink = noise(level_v=1.0, duration_s=duration_s, sample_rate_hz=sample_rate_hz, seed=seed, pink=True)
    waves = max(round(duration_s / 4), 1)
    turn = waves * _times(duration_s, sample_rate_hz) / duration_s
    rise = 3 * (turn % 1) * np.exp(1 - 3 * (turn % 1))  # 1 a third of the way through a wave
    swell = 0.12 + 0.88 * rise
    washed = pink * swell
    return np.asarray(level_v * washed / np.abs(washed).max())


KNOCKS_AT, TICKS_AT = (0, 3, 6), {1: 0.25, 2: 0.5, 4: 1.0, 5: 0.25, 7: 0.5}  # steps of a bar of eight; ticks' levels
FALLS_S, KNOCK_S, TICK_S, TICKED_HZ = 0.025, 0.16, 0.03, 3000.0
KNOCK_FROM = 4.0  # times the pitch that it falls to
TICK_LEVEL = 0.5  # re a low knock


def knock_figure(
    frequency_hz: float, *, level_v: float, duration_s: float, sample_rate_hz: float, ticks: bool
) -> FloatArray:
    """Low knocks that fall to frequency_hz, over and over in bars of eight steps; with ticks of high noise between
    them, or alone."""
    _checked_pitch(KNOCK_FROM * frequency_hz, sample_rate_hz)
    times = _times(duration_s, sample_rate_hz)
    bar = 8 * STEP_S
    sound = np.zeros(times.size)
    for start in np.arange(0, duration_s, bar):
        for step in KNOCKS_AT:
            since = times - (start + step * STEP_S)
            on = since >= 0
            t = since[on]
            turns = frequency_hz * (t + (KNOCK_FROM - 1) * FALLS_S * (1 - np.exp(-t / FALLS_S)))
            sound[on] += np.sin(2 * np.pi * turns) * np.exp(-t / KNOCK_S)
        for step, level in TICKS_AT.items() if ticks else ():
            begin = round((start + step * STEP_S) * sample_rate_hz)
            room = min(round(8 * TICK_S * sample_rate_hz), sound.size - begin)
            if room > 0:
                sound[begin : begin + room] += TICK_LEVEL * level * _tick(room, sample_rate_hz)
    return np.asarray(level_v * sound / max(float(np.abs(sound).max(initial=0.0)), 1e-12))


def _tick(count: int, sample_rate_hz: float) -> FloatArray:
    """(count,) noise above TICKED_HZ that dies away."""
    t = np.arange(count) / sample_rate_hz
    white = rfft(np.random.default_rng(31).standard_normal(count))
    hertz = np.fft.rfftfreq(count, 1 / sample_rate_hz)
    high = irfft(white * hertz**2 / (hertz**2 + TICKED_HZ**2), count)
    return np.asarray(high / np.abs(high).max() * np.exp(-t / TICK_S))


def _saw_shape(frequency_hz: float, times: FloatArray, turn: float, sample_rate_hz: float) -> FloatArray:
    phase = 2 * np.pi * (frequency_hz * times - turn)
    harmonic = np.arange(1, int(sample_rate_hz / 2 / frequency_hz) + 1)
    inside = harmonic[harmonic * frequency_hz < sample_rate_hz / 2]
    return np.asarray(2 / np.pi * _series(phase, -((-1.0) ** inside) / inside))


def _series(phase: FloatArray, sines: FloatArray) -> FloatArray:
    """Σ sines[n − 1]·sin(n·phase): no sine a harmonic, which is what a second of a low saw otherwise waits for."""
    much = phase.size * sines.size > MUCH
    summed, stretch = (series_kernel.summed, STRETCH) if much else (_clenshaw, SHORT_STRETCH)
    total = np.empty(phase.size)
    for start in range(0, phase.size, stretch):
        checkpoint()
        total[start : start + stretch] = summed(phase[start : start + stretch], sines)
    return total


def _clenshaw(phase: FloatArray, sines: FloatArray) -> FloatArray:
    """As the compiled one, four times as slow."""
    twice = 2 * np.cos(phase)
    newer, older, next_one = np.zeros((3, phase.size))
    for amount in sines[::-1].tolist():
        np.multiply(twice, newer, out=next_one)
        next_one -= older
        next_one += amount
        older, newer, next_one = newer, next_one, older
    return np.asarray(newer * np.sin(phase))


def noise(*, level_v: float, duration_s: float, sample_rate_hz: float, seed: int, pink: bool = False) -> FloatArray:
    """Gaussian noise of RMS level_v; white, or pink (−3 dB per octave above 10 Hz). Same seed, same noise."""
    count = _times(duration_s, sample_rate_hz).size
    white = np.random.default_rng(seed).standard_normal(count)
    if pink:
        spectrum = rfft(white)
        frequency_hz = np.fft.rfftfreq(count, 1 / sample_rate_hz)
        white = irfft(spectrum / np.sqrt(np.maximum(frequency_hz, 10.0)), count)
    return np.asarray(level_v * white / np.sqrt(np.mean(white**2)))
