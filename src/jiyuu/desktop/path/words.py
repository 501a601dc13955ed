"""What a stage of the path is called in few words."""

from __future__ import annotations

from jiyuu.patch.between_stages import Comb, Crush
from jiyuu.patch.document import (
    AnyStage,
    Chord,
    Feedback,
    FilterStage,
    Gain,
    Pair,
    Parallel,
    PatchSource,
    Resonator,
    Shape,
    Stereo,
)
from jiyuu.patch.linear_stages import AllPass, Bank, Formants
from jiyuu.patch.shapes import Shapes
from jiyuu.quantities import shown_hz, signed
from jiyuu.signals.source import PITCHED, SourceKind

SHAPES = {"tanh": "soft curve", "asinh": "diode curve", "clip": "clipper", "fold": "folder"}
STAGES = {"gain": "Gain", "shape": "Curve", "filter": "Another filter", "parallel": "Branches beside each other",
          "stereo": "Left and right", "pair": "Pair of filters", "bank": "Bank of bands", "formants": "Formants",
          "shapes": "Shelves and peaks",
          "resonator": "Coil and capacitor", "comb": "Comb", "chord": "Combs on a chord", "crush": "Crusher",
          "allpass": "All-pass chain", "feedback": "Loop round the stage"}


def stage_name(stage: AnyStage) -> str:
    """By its own id, else by what it does."""
    found = _what(stage)
    return found if stage.id is None else f"{stage.id}: {found}"


def source_name(source: PatchSource) -> str:
    """'saw 55.00 Hz'."""
    kind = SourceKind(source.kind)
    return f"{kind.value} {shown_hz(source.pitch_hz)}" if kind in PITCHED else kind.value


def _what(stage: AnyStage) -> str:
    if isinstance(stage, Gain):
        return f"gain {signed(stage.db)} dB" + (", inverted" if stage.polarity < 0 else "")
    if isinstance(stage, Shape):
        return f"{SHAPES[stage.kind]} {stage.headroom_v:g} V"
    if isinstance(stage, FilterStage):
        return f"{stage.document.entry.title} {shown_hz(stage.document.cutoff_hz)}"
    if isinstance(stage, Feedback):
        return f"loop {signed(stage.amount, 2)}"
    if isinstance(stage, Parallel):
        return f"{len(stage.branches)} branches"
    if isinstance(stage, Pair):
        return f"pair in {stage.arrangement} {shown_hz(stage.cutoff_hz)}"
    if isinstance(stage, Bank):
        return f"bank of {stage.bands}"
    if isinstance(stage, Formants):
        return f"formants {stage.from_} to {stage.to}"
    if isinstance(stage, Shapes):
        what = f"{len(stage.settings)} settings" if stage.ways else f"{len(stage.bands)} shapes"
        return what + (", bypassed" if stage.bypass else "")
    if isinstance(stage, AllPass):
        return f"{stage.stages} all-passes {shown_hz(stage.cutoff_hz)}"
    if isinstance(stage, Comb):
        return f"comb {shown_hz(stage.frequency_hz)}"
    if isinstance(stage, Resonator):
        return f"resonator {shown_hz(stage.section.frequency_hz)}, Q {stage.q:g}"
    if isinstance(stage, Chord):
        return f"combs on {len(stage.semitones)} notes over {shown_hz(stage.root_hz)}"
    if isinstance(stage, Crush):
        return f"crusher {stage.bits} bits {shown_hz(stage.rate_hz)}"
    assert isinstance(stage, Stereo)
    return f"left, right {signed(stage.spacing_octaves, 2)} oct"
