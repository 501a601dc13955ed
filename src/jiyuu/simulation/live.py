"""A network played while it is turned: blocks in, blocks out, with a short and constant delay.

The record renderer looks far ahead and asks what it needs; here filters are short (−80 dB), everything a block needs is
a few matrix products, and the controls go straight from where they stood to where they are wanted within each block.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.lib.stride_tricks import as_strided, sliding_window_view

from jiyuu.arrays import FloatArray
from jiyuu.circuits.network import Network
from jiyuu.simulation.kernels import Stepper

BEFORE, BEHIND = 24, 24  # samples on either side that interpolation and decimation look at
DELAY = BEFORE + 1 + BEHIND  # samples from in to out
BETA = 8.0  # Kaiser window: 80 dB
PASSED = 0.9  # of half the rate: where the decimation's slope lies in the middle


@lru_cache(maxsize=8)
def _upward(phases: int) -> FloatArray:
    """(2·BEFORE + 1, phases) weights of the samples around for every fraction of one."""
    n = np.arange(-BEFORE, BEFORE + 1)[:, np.newaxis]
    t = n - np.arange(phases)[np.newaxis, :] / phases
    window = np.i0(BETA * np.sqrt(np.clip(1 - (t / (BEFORE + 1)) ** 2, 0, None))) / np.i0(BETA)
    taps = np.sinc(t) * window
    return np.asarray(taps / taps.sum(axis=0))


@lru_cache(maxsize=8)
def _downward(factor: int) -> FloatArray:
    """(2·BEHIND·factor + 1,) lowpass over fine samples."""
    t = np.arange(-BEHIND * factor, BEHIND * factor + 1) / factor
    window = np.i0(BETA * np.sqrt(1 - (t / BEHIND) ** 2)) / np.i0(BETA)
    taps = np.sinc(PASSED * t) * window
    return np.asarray(taps / taps.sum())


class LiveRenderer:
    """One network, one output; what goes in comes out DELAY samples later."""

    def __init__(
        self, network: Network, mode: str, *, sample_rate_hz: float, factor: int, start_v: FloatArray | None = None
    ) -> None:
        self._stepper = Stepper(network, [network.output_index(mode)], 0.5 / (sample_rate_hz * factor))
        if start_v is not None:
            self._stepper.states[0] = start_v
        self._factor = factor
        self._input = np.zeros(2 * BEFORE + 1)
        self._fine = np.zeros(2 * BEHIND * factor)

    def push(
        self, input_v: FloatArray, *, cutoff_hz: tuple[float, float], gain: tuple[float, float]
    ) -> FloatArray:
        """(n,) volts for n in; cutoff and gain go from the first value to the second meanwhile, the cutoff evenly in
        octaves."""
        way = np.linspace(0.0, 1.0, 2 * self._factor * input_v.size + 1)
        omega = 2 * np.pi * cutoff_hz[0] * (np.ones(1) if cutoff_hz[0] == cutoff_hz[1] else
                                            (cutoff_hz[1] / cutoff_hz[0]) ** way)
        k = np.full(1, gain[0]) if gain[0] == gain[1] else gain[0] + (gain[1] - gain[0]) * way
        return self.push_moved(input_v, omega, k)

    def push_moved(self, input_v: FloatArray, omega: FloatArray, gain: FloatArray) -> FloatArray:
        """(n,) volts for n in; omega rad/s and gain at every half step from BEFORE + 1 samples ahead of the block's
        first to as many ahead of what follows it (2·factor·n + 1,), or one, for all controls of that kind alike, or
        (controls, …) for each."""
        n, factor = input_v.size, self._factor
        window = np.concatenate([self._input, input_v])
        # Half steps of this block, the end of its last one included: the first of the next.
        phases = 2 * factor
        u = (_windows(window, 2 * BEFORE + 1)[: n + 1] @ _upward(phases)).reshape(-1)[: phases * n + 1]
        fine = self._stepper.step(u, omega, gain)[0]
        # The last output's window is one fine sample longer than what is there; its weight is next to nothing.
        whole = np.concatenate([self._fine, fine, fine[-1:]])
        self._input, self._fine = window[n:], whole[factor * n : -1]
        # Every stretch between two samples by every stretch of the taps, then what belongs to one sample together.
        taps = _downward(factor)
        shares = whole[:-1].reshape(-1, factor) @ taps[:-1].reshape(-1, factor).T
        own = as_strided(shares, (n, 2 * BEHIND), (shares.strides[0], shares.strides[0] + shares.strides[1]))
        return np.asarray(own.sum(axis=1) + taps[-1] * whole[2 * BEHIND * factor :: factor][:n])


def _windows(record: FloatArray, length: int) -> FloatArray:
    """(m, length), one beginning at every sample, each copied: a product of matrices is then one pass."""
    return np.ascontiguousarray(sliding_window_view(record, length))
