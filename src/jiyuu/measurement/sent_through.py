"""What comes of a stimulus behind a network of lumped parts, as a noiseless recording of it would show."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.network_fit import NetworkFit
from jiyuu.signals.transforms import irfft, next_fast_len, rfft

RINGS_S = 2.0  # after which hardly anything is left that would come round


@dataclass(frozen=True, slots=True, eq=False)
class Played:
    """A stimulus on its way: its spectrum (m,) at bins_hz (m,), of `size` samples, the last of them silent."""

    bins_hz: FloatArray
    spectrum: ComplexArray
    size: int

    @classmethod
    def of(cls, stimulus_v: FloatArray, sample_rate_hz: float, *, followed: int = 0) -> Played:
        """stimulus_v (n,) volts; followed: samples that are of interest, if more than those."""
        size = next_fast_len(max(stimulus_v.size, followed) + round(RINGS_S * sample_rate_hz))
        bins_hz = np.asarray(np.fft.rfftfreq(size, 1 / sample_rate_hz), dtype=float)
        return cls(bins_hz, rfft(stimulus_v, size), size)

    def behind(self, network: NetworkFit) -> FloatArray:
        """(size,) volts; what still rings at its end comes round to its beginning."""
        return irfft(self.spectrum * network.at(self.bins_hz), self.size)
