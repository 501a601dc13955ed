"""What a rig is: something that plays volts into a filter and gives back what came out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Protocol

from jiyuu.arrays import FloatArray
from jiyuu.circuits.trims import Trims


@dataclass(frozen=True, slots=True)
class PanelSettings:
    """Where the controls and trims of the unit stand while it is played, and how warm it is."""

    cutoff_hz: float
    resonance_percent: float
    trims: Trims = field(default_factory=Trims)
    temperature_c: float = 25.0


class Rig(Protocol):
    """Plays a stimulus through the unit under test."""

    @property
    def sample_rate_hz(self) -> float:
        """Rate of stimulus and recording."""
        ...

    def play(
        self, stimulus_v: FloatArray, settings: PanelSettings, modes: Sequence[str], *,
        cutoff_cv_v: FloatArray | None = None,
    ) -> FloatArray:
        """stimulus_v (n,) volts -> (len(modes), m) volts as recorded; m ≥ n leaves room for latency. cutoff_cv_v (n,)
        volts at the 1 V/octave input, 0 V when not given."""
        ...

    def play_each(
        self, stimulus_v: FloatArray, settings: Sequence[PanelSettings], modes: Sequence[str], *,
        held_v: Sequence[float] | None = None,
    ) -> FloatArray:
        """The same stimulus at several settings, one after the other or side by side: (p, len(modes), m) volts.
        held_v (p,): volts that stand at the 1 V/octave input meanwhile, 0 V when not given."""
        ...
