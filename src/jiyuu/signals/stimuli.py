"""Stimuli besides the sweep: noise between silences, and tones one after the other."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError
from jiyuu.signals.sources import noise

GAP_S = 0.08


def noise_stimulus(
    *, level_v: float, sample_rate_hz: float, duration_s: float = 5.0, silence_s: float = 0.5, pink: bool = True,
    seed: int = 7,
) -> FloatArray:
    """silence, noise, silence, the same noise again, silence; level_v RMS. The same noise twice tells the clocks of
    player and recorder apart. Raises SignalError for durations that hold nothing."""
    if not (duration_s >= 0.5 and silence_s >= 0.1):
        raise SignalError("Noise needs at least 0.5 s of sound and 0.1 s of silence around it.")
    sound = noise(level_v=level_v, duration_s=duration_s, sample_rate_hz=sample_rate_hz, seed=seed, pink=pink)
    silence = np.zeros(round(silence_s * sample_rate_hz))
    return np.concatenate([silence, sound, silence, sound, silence])


def tones_stimulus(
    *, level_v: float, sample_rate_hz: float, from_hz: float = 20.0, to_hz: float = 20_000.0, per_octave: int = 12,
    shortest_s: float = 0.12, periods: int = 16, silence_s: float = 0.5,
) -> FloatArray:
    """Tones of peak level_v rising from from_hz to to_hz, per_octave of them, with gaps between; each lasts shortest_s
    or a number of periods, whichever is longer. Raises SignalError for a range that does not fit the rate."""
    if not 0 < from_hz < to_hz < 0.49 * sample_rate_hz:
        raise SignalError(f"Tones from {from_hz:g} to {to_hz:g} Hz do not fit a rate of {sample_rate_hz:g} Hz.")
    silence, gap = np.zeros(round(silence_s * sample_rate_hz)), np.zeros(round(GAP_S * sample_rate_hz))
    parts = [silence]
    for hertz in from_hz * 2 ** (np.arange(int(per_octave * np.log2(to_hz / from_hz)) + 1) / per_octave):
        count = round(max(shortest_s, periods / hertz) * sample_rate_hz)
        edge = max(round(0.004 * sample_rate_hz), 1)
        shape = np.minimum(1.0, np.minimum(np.arange(count), np.arange(count)[::-1]) / edge)
        parts += [level_v * np.sin(np.pi / 2 * shape) ** 2 * np.sin(2 * np.pi * hertz * np.arange(count)
                                                                   / sample_rate_hz), gap]
    return np.concatenate([*parts, silence])


def impulse(*, sample_rate_hz: float, level_v: float, burst_s: float, duration_s: float) -> FloatArray:
    """A burst of noise, always the same, at the beginning of a silence: what makes a filter ring or begin to whistle.
    level_v RMS while it lasts; (duration_s · sample_rate_hz,) volts."""
    record = np.zeros(round(duration_s * sample_rate_hz))
    count = round(burst_s * sample_rate_hz)
    record[:count] = level_v * np.random.default_rng(5).standard_normal(count)
    return record


def steps_stimulus(volts: FloatArray, *, sample_rate_hz: float, step_s: float) -> FloatArray:
    """A staircase of control volts (m,), each held for step_s. Raises SignalError without any, or not finite."""
    if not volts.size or not np.isfinite(volts).all():
        raise SignalError("A staircase needs finite volts for its steps; give for example 0,1,2,3.")
    return np.repeat(volts, round(step_s * sample_rate_hz))
