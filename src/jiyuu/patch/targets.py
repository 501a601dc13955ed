"""What routes of a patch may move: where it stands, in which unit, between which stops."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.patch.between_stages import Comb
from jiyuu.patch.controls import AnyControl, EnvelopeControl, LfoControl, RandomControl, StepsControl
from jiyuu.patch.document import (
    AnyStage,
    Feedback,
    FilterStage,
    Gain,
    Pair,
    Patch,
    PatchSource,
    Resonator,
    Stereo,
    all_stages,
    stages_in,
)
from jiyuu.patch.linear_stages import AllPass, Formants
from jiyuu.patch.lowering import OUTPUT_LEVEL, OUTPUT_PAN
from jiyuu.patch.shapes import Shapes
from jiyuu.patch.stretches import MORPHS
from jiyuu.signals.source import SourceKind

AMOUNT_EDGE = 1000.0  # of a feedback
CUTOFF_HZ = (16.0, 22_000.0)  # of what states no stops of its own
PITCH_HZ, RATE_EDGES_HZ, LONGEST_S = (1.0, 20_000.0), (0.01, 5000.0), 600.0
COMB_EDGE, SPACING_EDGE, SHIFT_EDGE = 0.99, 10.0, 4.0
ENVELOPE_TIMES = ("delay_s", "attack_s", "hold_s", "decay_s", "release_s")


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
        return np.asarray(self.stands_at * np.exp2(added) if self.octaves else self.stands_at + added)

    def stopped(self, wanted: FloatArray) -> FloatArray:
        """After the stop."""
        return np.asarray(np.clip(wanted, -np.inf if self.low is None else self.low,
                                  np.inf if self.high is None else self.high))


def targets_of(patch: Patch) -> Iterator[Target]:
    """Everything that routes may move, where it stands."""
    decibels = {route.target for route in patch.routes if route.unit == "dB"}
    for stage in all_stages(patch.path):
        if stage.id:
            yield from _of_stage(stage, decibels)
    yield _level(OUTPUT_LEVEL, 1.0, decibels)
    yield Target(OUTPUT_PAN, "", 0.0, -1.0, 1.0)
    for name, control in patch.controls.items():
        yield from _of_control(name, control)
    for i, source in enumerate(patch.sources, start=1):
        yield from _of_source(f"source {i}", source, decibels)


def _of_stage(stage: AnyStage, decibels: set[str]) -> Iterator[Target]:
    own = stage.id
    if isinstance(stage, FilterStage):
        document = stage.document
        yield Target(f"{own}.cutoff", "Hz", document.cutoff_hz, stage.lowest_hz, stage.highest_hz, octaves=True)
        if stage.resonance_gain is None:
            yield Target(f"{own}.resonance", "%", document.resonance_percent, 0.0, 100.0)
        else:
            yield Target(f"{own}.resonance", "", stage.resonance_gain, 0.0, max(document.gain_at(100.0),
                                                                                  stage.resonance_gain))
        if document.chosen_mode == "morph":
            yield Target(f"{own}.morph", "", stage.morph, 0.0, 1.0)
    elif isinstance(stage, Gain):
        yield _level(f"{own}.level", stage.factor, decibels)
    elif isinstance(stage, Feedback):
        yield Target(f"{own}.feedback", "", stage.amount, -AMOUNT_EDGE, AMOUNT_EDGE)
    elif isinstance(stage, Pair):
        yield Target(f"{own}.cutoff", "Hz", stage.cutoff_hz, *CUTOFF_HZ, octaves=True)
        yield Target(f"{own}.spacing", "octaves", stage.spacing_octaves, -SPACING_EDGE, SPACING_EDGE)
    elif isinstance(stage, Stereo):
        yield Target(f"{own}.spacing", "octaves", stage.spacing_octaves, -SPACING_EDGE, SPACING_EDGE)
    elif isinstance(stage, Formants):
        yield Target(f"{own}.morph", "", stage.morph, 0.0, 1.0)
        yield Target(f"{own}.shift", "octaves", stage.shift_octaves, -SHIFT_EDGE, SHIFT_EDGE)
    elif isinstance(stage, Resonator):
        yield Target(f"{own}.cutoff", "Hz", stage.section.frequency_hz, CUTOFF_HZ[0], stage.range_hz, octaves=True)
    elif isinstance(stage, Shapes):
        for name, stands in zip(MORPHS, stage.ways, strict=False):
            yield Target(f"{own}.{name}", "", stands, 0.0, 1.0)
    elif isinstance(stage, AllPass | Comb):
        hertz = stage.cutoff_hz if isinstance(stage, AllPass) else stage.frequency_hz
        yield Target(f"{own}.cutoff", "Hz", hertz, *CUTOFF_HZ, octaves=True)
        yield Target(f"{own}.feedback", "", stage.feedback, -COMB_EDGE, COMB_EDGE)
        yield Target(f"{own}.mix", "", stage.mix, 0.0, 1.0)


def _of_control(name: str, control: AnyControl) -> Iterator[Target]:
    """A control's own fields; those of an envelope hold for a whole segment, as they are when it begins."""
    if isinstance(control, LfoControl | StepsControl | RandomControl) and control.rate_hz is not None:
        yield Target(f"{name}.rate_hz", "Hz", control.rate_hz, *RATE_EDGES_HZ)
    if isinstance(control, LfoControl):
        yield Target(f"{name}.phase", "turns", control.phase)
        yield Target(f"{name}.width", "", control.width, 0.01, 0.99)
    if isinstance(control, EnvelopeControl):
        for field in ENVELOPE_TIMES:
            yield Target(f"{name}.{field}", "s", getattr(control, field), 0.0, LONGEST_S)
        yield Target(f"{name}.sustain", "", control.sustain, 0.0, 1.0)


def _of_source(name: str, source: PatchSource, decibels: set[str]) -> Iterator[Target]:
    yield Target(f"{name}.pitch", "Hz", source.pitch_hz, *PITCH_HZ, octaves=True)
    yield _level(f"{name}.level", source.level_v, decibels, unit="V")
    if source.kind == SourceKind.PULSE:
        yield Target(f"{name}.width", "", source.width, 0.01, 0.99)


def _level(name: str, factor: float, decibels: set[str], *, unit: str = "") -> Target:
    if name in decibels and factor:
        return Target(name, "dB", float(20 * np.log10(abs(factor))), decibels=True)
    return Target(name, unit, factor)


def filter_of(patch: Patch, target: str) -> FilterStage:
    own = target.rpartition(".")[0]
    return next(stage for stage in all_stages(patch.path) if isinstance(stage, FilterStage) and stage.id == own)


def sign_of(patch: Patch, target: str) -> float:
    """Of the factor that a level in dB stands for."""
    own = target.rpartition(".")[0]
    stage = next((one for one in stages_in(patch.path) if isinstance(one, Gain) and one.id == own), None)
    return 1.0 if stage is None else float(stage.polarity)

