"""What routes of a patch may move: where it stands, in which unit, between which stops."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.patch.controls import LfoControl
from jiyuu.patch.document import Feedback, FilterStage, Gain, Patch, stages_in
from jiyuu.patch.lowering import OUTPUT_LEVEL

AMOUNT_EDGE = 1000.0  # of a feedback
PITCH_HZ, RATE_EDGES_HZ = (1.0, 20_000.0), (0.01, 5000.0)


@dataclass(frozen=True, slots=True)
class Target:
    """What a route can move: unit and value where it stands, its stops (None: none), whether amounts are octaves on it,
    decibels, or plain."""

    name: str
    unit: str
    stands_at: float
    low: float | None = None
    high: float | None = None
    octaves: bool = False
    decibels: bool = False

    def wanted(self, added: FloatArray) -> FloatArray:
        """In its own unit, before the stop."""
        return np.asarray(self.stands_at * 2.0**added if self.octaves else self.stands_at + added)

    def stopped(self, wanted: FloatArray) -> FloatArray:
        """After the stop."""
        return np.asarray(np.clip(wanted, -np.inf if self.low is None else self.low,
                                  np.inf if self.high is None else self.high))


def targets_of(patch: Patch) -> Iterator[Target]:
    """Everything that routes may move, where it stands."""
    decibels = {route.target for route in patch.routes if route.unit == "dB"}
    for stage in stages_in(patch.path):
        if not stage.id:
            continue
        if isinstance(stage, FilterStage):
            document = stage.document
            yield Target(f"{stage.id}.cutoff", "Hz", document.cutoff_hz, stage.lowest_hz, stage.highest_hz,
                         octaves=True)
            name = f"{stage.id}.resonance"
            if stage.resonance_gain is None:
                yield Target(name, "%", document.resonance_percent, 0.0, 100.0)
            else:
                yield Target(name, "", stage.resonance_gain, 0.0, max(document.gain_at(100.0), stage.resonance_gain))
        elif isinstance(stage, Gain):
            yield _level(f"{stage.id}.level", stage.factor, decibels)
        elif isinstance(stage, Feedback):
            yield Target(f"{stage.id}.feedback", "", stage.amount, -AMOUNT_EDGE, AMOUNT_EDGE)
    yield _level(OUTPUT_LEVEL, 1.0, decibels)
    for name, control in patch.controls.items():
        if isinstance(control, LfoControl) and control.rate_hz is not None:
            yield Target(f"{name}.rate_hz", "Hz", control.rate_hz, *RATE_EDGES_HZ)
    for i, source in enumerate(patch.sources, start=1):
        yield Target(f"source {i}.pitch", "Hz", source.pitch_hz, *PITCH_HZ, octaves=True)
        yield _level(f"source {i}.level", source.level_v, decibels, unit="V")


def _level(name: str, factor: float, decibels: set[str], *, unit: str = "") -> Target:
    if name in decibels and factor:
        return Target(name, "dB", float(20 * np.log10(abs(factor))), decibels=True)
    return Target(name, unit, factor)


def filter_of(patch: Patch, target: str) -> FilterStage:
    own = target.rpartition(".")[0]
    return next(stage for stage in stages_in(patch.path) if isinstance(stage, FilterStage) and stage.id == own)


def sign_of(patch: Patch, target: str) -> float:
    """Of the factor that a level in dB stands for."""
    own = target.rpartition(".")[0]
    stage = next((one for one in stages_in(patch.path) if isinstance(one, Gain) and one.id == own), None)
    return 1.0 if stage is None else float(stage.polarity)
