"""A network played while it is turned: blocks in, blocks out, with a short and constant delay.

The record renderer looks far ahead and asks what it needs; here filters are short (−80 dB), everything a block needs is
a few matrix products, and the controls go straight from where they stood to where they are wanted within each block.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from jiyuu.arrays import FloatArray
from jiyuu.circuits.network import Network
from jiyuu.simulation.kernels import integrate

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
        self._network, self._factor = network, factor
        self._half_step_s = 0.5 / (sample_rate_hz * factor)
        self._rows = [network.output_index(mode)]
        self._states = None if start_v is None else np.atleast_2d(start_v)
        self._input = np.zeros(2 * BEFORE + 1)
        self._fine = np.zeros(2 * BEHIND * factor)

    def push(
        self, input_v: FloatArray, *, cutoff_hz: tuple[float, float], gain: tuple[float, float]
    ) -> FloatArray:
        """(n,) volts for n in; cutoff and gain go from the first value to the second meanwhile, the cutoff evenly in
        octaves."""
        n, factor = input_v.size, self._factor
        window = np.concatenate([self._input, input_v])
        # Half steps of this block, the end of its last one included: the first of the next.
        points = sliding_window_view(window, 2 * BEFORE + 1)[: n + 1] @ _upward(2 * factor)
        u = points.reshape(-1)[: 2 * factor * n + 1, np.newaxis]
        way = np.linspace(0.0, 1.0, u.size)[:, np.newaxis]
        still = cutoff_hz[0] == cutoff_hz[1]
        omega = np.full((1, 1), 2 * np.pi * cutoff_hz[0]) if still else \
            2 * np.pi * cutoff_hz[0] * (cutoff_hz[1] / cutoff_hz[0]) ** way
        k = np.full((1, 1), gain[0]) if gain[0] == gain[1] else gain[0] + (gain[1] - gain[0]) * way
        fine, self._states = integrate([self._network], u_v=u, omega=omega, gain=k, half_step_s=self._half_step_s,
                                       rows=self._rows, states=self._states)
        self._input = window[n:]
        whole = np.concatenate([self._fine, fine[0, :, 0]])
        self._fine = whole[factor * n :]
        taps = _downward(factor)
        padded = np.append(whole, whole[-1])  # the last output's window is one fine sample longer than a whole number
        return np.asarray(sliding_window_view(padded, taps.size)[::factor][:n] @ taps)
