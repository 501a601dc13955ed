"""Stages that stand between networks: the comb, which needs a past of its own, and the crusher, which needs a clock."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ
from jiyuu.field_words import asked as worded
from jiyuu.patch.controls import Finite
from jiyuu.patch.linear_stages import StagePart
from jiyuu.simulation.linear_render import GONE


class Comb(StagePart):
    """What comes back after a delay: y = x + feedback·D·y(t − 1/frequency), D a pole at damping_hz."""

    stage: Literal["comb"]
    frequency_hz: Annotated[Finite, worded("Frequency", unit="Hz", low=1, high=CUTOFF_MAXIMUM_HZ)] = 110.0
    feedback: Annotated[Finite, worded("Feedback", step=0.05, low=-0.99, high=0.99)] = 0.7
    damping_hz: Annotated[Finite, Field(ge=1, le=1e6)] | None = None
    mix: Annotated[Finite, worded("Mix", step=0.05, low=0, high=1)] = 1.0

    def gain(self, frequency_hz: FloatArray) -> tuple[ComplexArray, FloatArray]:
        """(gain (n,), group delay (n,) in s). Its phase never leaves ±90°: what comes back is less than what went in.
        """
        s = 2j * np.pi * np.asarray(frequency_hz, dtype=float)
        delay_s = 1 / self.frequency_hz
        turn = 0.0 if self.damping_hz is None else 1 / (2 * np.pi * self.damping_hz)
        back = self.feedback * np.exp(-s * delay_s) / (1 + s * turn)
        wet = 1 / (1 - back)
        total = 1 - self.mix + self.mix * wet
        slope = self.mix * wet**2 * 1j * back * (-delay_s - turn / (1 + s * turn))
        return np.asarray(total, dtype=np.complex128), np.asarray(-np.imag(slope / total))

    @property
    def ring_s(self) -> float:
        """Until it has died by GONE nats."""
        return GONE / max(-np.log(max(abs(self.feedback), 1e-12)), 1e-9) / self.frequency_hz + 0.01


class Crush(StagePart):
    """Held at every n/rate_hz, rounded to whole steps of 2·full_scale_v/2^bits; for what is small it is a wire."""

    stage: Literal["crush"]
    rate_hz: Annotated[Finite, worded("Rate", unit="Hz", low=20, high=768_000)] = 8000.0
    bits: Annotated[int, Field(ge=1, le=24, strict=True, title="Bits")] = 8
    full_scale_v: Annotated[Finite, worded("Full scale", unit="V", step=0.5, above=0, high=1000)] = 10.0

    @property
    def step_v(self) -> float:
        return 2 * self.full_scale_v / 2.0**self.bits
