"""The exponential sweep: every octave takes equal time, and each order of distortion separates in time after
deconvolution (Farina 2000, AES 108th Convention).

The stimulus plays the same sweep twice, with silence before, between and after. Two identical passages tell the
clock offset of a recorder from any delay in the filter, and their difference tells the noise.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError


@dataclass(frozen=True, slots=True)
class SweepPlan:
    """A stimulus of two sweeps. Frequencies in Hz, times in s, level in V peak."""

    from_hz: float = 10.0
    to_hz: float = 21_500.0
    sweep_s: float = 5.0
    silence_s: float = 0.5
    level_v: float = 1.0
    fade_octaves: float = 0.4


def sweep_stimulus(plan: SweepPlan, *, sample_rate_hz: float) -> FloatArray:
    """silence, sweep, silence, sweep, silence; constant level but for the fades at both ends of each sweep.

    Raises SignalError when the sweep does not fit the rate."""
    if not 0 < plan.from_hz < plan.to_hz <= 0.49 * sample_rate_hz:
        raise SignalError(
            f"A sweep from {plan.from_hz:g} to {plan.to_hz:g} Hz does not fit a rate of {sample_rate_hz:g} Hz; "
            f"end it at {0.49 * sample_rate_hz:g} Hz or lower."
        )
    if not (plan.sweep_s > 0 and plan.silence_s >= 0 and np.isfinite(plan.level_v)):
        raise SignalError("A sweep needs a duration above 0 s, silences of 0 s or more and a finite level.")
    once = _sweep(plan, sample_rate_hz)
    silence = np.zeros(round(plan.silence_s * sample_rate_hz))
    return np.concatenate([silence, once, silence, once, silence])


def _sweep(plan: SweepPlan, sample_rate_hz: float) -> FloatArray:
    count = round(plan.sweep_s * sample_rate_hz)
    octaves = np.log2(plan.to_hz / plan.from_hz)
    position = np.arange(count) / count * octaves  # octaves above the start
    rate = plan.sweep_s / (octaves * np.log(2))
    shape = np.sin(2 * np.pi * plan.from_hz * rate * (2**position - 1))
    # The fade at the top may be short: there an octave holds many cycles.
    up = np.clip(position / plan.fade_octaves, 0, 1)
    down = np.clip((octaves - position) / (plan.fade_octaves / 8), 0, 1)
    return np.asarray(plan.level_v * shape * np.sin(np.pi / 2 * up) ** 2 * np.sin(np.pi / 2 * down) ** 2)
