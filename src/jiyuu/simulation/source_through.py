"""A source behind a small-signal response, quickly: for a level that follows a hand."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.signals.transforms import irfft, rfft


class SourceThrough:
    """Holds the spectrum of a source, so that only the response changes from call to call.

    record_v (n,) volts at sample_rate_hz, taken as one period of an endless sound."""

    def __init__(self, record_v: FloatArray, sample_rate_hz: float) -> None:
        self._size = record_v.size
        self._spectrum = rfft(record_v)
        self._octave = np.log2(np.maximum(np.fft.rfftfreq(record_v.size, 1 / sample_rate_hz), 1e-3))

    def output_v(self, frequency_hz: FloatArray, gain: ComplexArray) -> FloatArray:
        """(n,) volts behind a response known at frequency_hz (m,), read between its points on the octave scale; below
        and above, its ends hold."""
        octave = np.log2(frequency_hz)
        level = np.interp(self._octave, octave, np.log(np.maximum(np.abs(gain), 1e-12)))
        angle = np.interp(self._octave, octave, np.unwrap(np.angle(gain)))
        return np.asarray(irfft(self._spectrum * np.exp(level + 1j * angle), self._size))

    def peak_v(self, frequency_hz: FloatArray, gain: ComplexArray) -> float:
        """Highest volts of the output."""
        return float(np.abs(self.output_v(frequency_hz, gain)).max())
