"""Sources in volts: sine, saw, pulse, noise. All are arrays at a sample rate; saw and pulse are band-limited."""

from __future__ import annotations

import numpy as np

from jiyuu.circuits.network import FloatArray
from jiyuu.errors import SignalError


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
    """A pulse of the width given (0 to 1, ½ is a square) between ±level_v, without DC: difference of two saws."""
    _checked_pitch(frequency_hz, sample_rate_hz)
    if not 0 < width < 1:
        raise SignalError(f"A pulse width of {width:g} is out of range; give a share of the period between 0 and 1.")
    times = _times(duration_s, sample_rate_hz)
    return level_v * (
        _saw_shape(frequency_hz, times, 0.0, sample_rate_hz) - _saw_shape(frequency_hz, times, width, sample_rate_hz)
    )


def _saw_shape(frequency_hz: float, times: FloatArray, turn: float, sample_rate_hz: float) -> FloatArray:
    phase = 2 * np.pi * (frequency_hz * times - turn)
    total = np.zeros(times.size)
    for harmonic in range(1, int(sample_rate_hz / 2 / frequency_hz) + 1):
        if harmonic * frequency_hz < sample_rate_hz / 2:
            total -= np.cos(np.pi * harmonic) * np.sin(harmonic * phase) / harmonic
    return 2 / np.pi * total


def noise(*, level_v: float, duration_s: float, sample_rate_hz: float, seed: int, pink: bool = False) -> FloatArray:
    """Gaussian noise of RMS level_v; white, or pink (−3 dB per octave above 10 Hz). Same seed, same noise."""
    count = _times(duration_s, sample_rate_hz).size
    white = np.random.default_rng(seed).standard_normal(count)
    if pink:
        spectrum = np.fft.rfft(white)
        frequency_hz = np.fft.rfftfreq(count, 1 / sample_rate_hz)
        white = np.fft.irfft(spectrum / np.sqrt(np.maximum(frequency_hz, 10.0)), count)
    return np.asarray(level_v * white / np.sqrt(np.mean(white**2)))
