"""The patch document, *.patch.json: sources and a path of stages; docs/patch.schema.json is made from these models."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Annotated, Literal

import numpy as np
from pydantic import Field, ValidationError, model_validator

from jiyuu.arrays import FloatArray
from jiyuu.circuits.catalogue import circuit, circuits
from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ, CUTOFF_MINIMUM_HZ
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.network import BranchKind
from jiyuu.circuits.sections import Section
from jiyuu.errors import CircuitError
from jiyuu.field_words import asked as worded
from jiyuu.patch.between_stages import Comb, Crush
from jiyuu.patch.controls import Control, FigureDocument, Name, Part, Route
from jiyuu.patch.linear_stages import AllPass, Bank, Formants, StagePart
from jiyuu.patch.shapes import Shapes
from jiyuu.signals.source import Source, SourceKind

Finite = Annotated[float, Field(allow_inf_nan=False, strict=True)]
Level = Annotated[Finite, worded("Level", unit="dB", low=-200, high=120)]
Polarity = Literal[1, -1]
LEFT, RIGHT = "left", "right"


class PatchSource(Part):
    """What sounds: kind, pitch, peak volts; width of a pulse."""

    kind: Literal[
        SourceKind.SAW, SourceKind.SQUARE, SourceKind.PULSE, SourceKind.TRIANGLE, SourceKind.SINE, SourceKind.WHITE,
        SourceKind.PINK, SourceKind.CHORD, SourceKind.FIGURE, SourceKind.WASH,
        SourceKind.KNOCK, SourceKind.KNOCKS,
    ] = SourceKind.SAW
    pitch_hz: Annotated[Finite, Field(ge=1, le=20_000)] = 110.0
    level_v: Annotated[Finite, Field(ge=0, le=100)] = 5.0
    width: Annotated[Finite, Field(ge=0.01, le=0.99)] = 0.25

    def source(self) -> Source:
        return Source(SourceKind(self.kind), self.pitch_hz, self.level_v, self.width)


class Gain(StagePart):
    """A factor: level in dB, and a sign."""

    stage: Literal["gain"]
    db: Level = 0.0
    polarity: Polarity = 1

    @property
    def factor(self) -> float:
        return float(self.polarity * 10 ** (self.db / 20))


class Curve(Part):
    """A soft or hard limit, or a folder: silence in gives silence out, whatever the bias."""

    kind: Annotated[Literal["tanh", "asinh", "clip", "fold"], Field(title="Curve")] = "tanh"
    headroom_v: Annotated[Finite, worded("Headroom", unit="V", step=0.1, above=0, high=1e6)] = 1.0
    bias_v: Annotated[Finite, worded("Bias", unit="V", step=0.1, low=-1e6, high=1e6)] = 0.0

    @property
    def branch_kind(self) -> BranchKind:
        return BranchKind(self.kind)


class Shape(StagePart, Curve):
    """A curve between in and out."""

    stage: Literal["shape"]


class FilterStage(StagePart):
    """A filter where it stands: a catalogue circuit by its id, or a filter as a filter file holds it; what is stated
    here goes before what the filter says."""

    stage: Literal["filter"]
    filter: str | Filter
    mode: str | None = None
    cutoff_hz: Annotated[Finite | None, worded("Cutoff", unit="Hz", low=CUTOFF_MINIMUM_HZ, high=CUTOFF_MAXIMUM_HZ)
                         ] = None
    resonance_gain: Annotated[Finite | None, worded("Loop gain", step=0.1, low=0, high=1000)] = None
    resonance_percent: Annotated[Finite | None, worded("Resonance", unit="%", low=0, high=100)] = None
    parameters: dict[str, Finite] = Field(default_factory=dict)
    lowest_hz: Annotated[Finite, worded("Cutoff from", unit="Hz", low=CUTOFF_MINIMUM_HZ, high=CUTOFF_MAXIMUM_HZ)
                         ] = 16.0
    highest_hz: Annotated[Finite, worded("Cutoff to", unit="Hz", low=CUTOFF_MINIMUM_HZ, high=CUTOFF_MAXIMUM_HZ)
                          ] = 22_000.0

    @model_validator(mode="after")
    def _fits_its_circuit(self) -> FilterStage:
        if isinstance(self.filter, str) and self.filter not in circuits():
            raise ValueError(f"there is no circuit '{self.filter[:80]}'; choose one of: {', '.join(circuits())}")
        if self.resonance_gain is not None and self.resonance_percent is not None:
            raise ValueError("resonance_gain and resonance_percent exclude each other; give one")
        if self.lowest_hz >= self.highest_hz:
            raise ValueError("lowest_hz must lie under highest_hz")
        try:
            entry = circuit(self._document.circuit)
            entry.values(self.all_parameters)
            entry.mode(self.mode if self.mode is not None else self._document.mode)
        except CircuitError as error:
            raise ValueError(str(error).rstrip(".")) from error
        return self

    @property
    def _document(self) -> Filter:
        if isinstance(self.filter, Filter):
            return self.filter
        return Filter(name=self.filter, circuit=self.filter)

    @property
    def all_parameters(self) -> dict[str, float]:
        return {**self._document.parameters, **self.parameters}

    @property
    def document(self) -> Filter:
        """The filter as it stands here."""
        own = self._document
        return own.model_copy(update={
            "parameters": self.all_parameters, "mode": own.entry.mode(self.mode if self.mode is not None else own.mode),
            "cutoff_hz": own.cutoff_hz if self.cutoff_hz is None else self.cutoff_hz,
            "resonance_percent": own.resonance_percent if self.resonance_percent is None else self.resonance_percent,
        })

    @property
    def morph(self) -> float:
        """Where between lowpass and highpass its mode 'morph' stands."""
        return float(self.document.entry.values(self.all_parameters).get("morph", 0.0))

    @property
    def loop_gain(self) -> float:
        return self.document.gain_at(self.document.resonance_percent) if self.resonance_gain is None else (
            self.resonance_gain)


def morph_weights(morph: FloatArray | float) -> tuple[FloatArray, FloatArray]:
    """How much of lowpass and of highpass a state variable's mode 'morph' is."""
    return np.minimum(1.0, 2 - 2 * np.asarray(morph)), np.minimum(1.0, 2 * np.asarray(morph))


class Limb(Part):
    """One way of a parallel; an empty path is the dry signal."""

    path: tuple[Stage, ...] = ()
    level_db: Level = 0.0
    polarity: Polarity = 1
    pan: Annotated[Finite, worded("Pan", step=0.1, low=-1, high=1)] = 0.0
    sources: Annotated[tuple[PatchSource, ...], Field(max_length=8)] = ()

    def factor(self, side: str) -> float:
        """How loud it is on a side."""
        return float(self.polarity * 10 ** (self.level_db / 20) * panned(np.array([self.pan]), side)[0])


def panned(pan: FloatArray, side: str) -> FloatArray:
    """(n,) what a side gets: power stays the same, in the middle both get all of it as it is."""
    if not pan.any():
        return np.ones(pan.size)
    angle = 0.25 * np.pi * (pan + 1)
    return np.asarray(np.sqrt(2) * (np.cos(angle) if side == LEFT else np.sin(angle)))


class Parallel(StagePart):
    """The sum of its branches, all driven by the same input."""

    stage: Literal["parallel"]
    branches: Annotated[tuple[Limb, ...], Field(min_length=1, max_length=32)]


class Feedback(StagePart):
    """A path whose output comes back: `amount` times it, through a curve where there is one, is added to its input."""

    stage: Literal["feedback"]
    path: Annotated[tuple[Stage, ...], Field(min_length=1)]
    amount: Annotated[Finite, worded("Amount", step=0.1, low=-1000, high=1000)]
    through: Curve | None = None


class Stereo(StagePart):
    """Left and right apart; spacing moves all cutoffs of left down and of right up by half of it."""

    stage: Literal["stereo"]
    left: tuple[Stage, ...] = ()
    right: tuple[Stage, ...] = ()
    spacing_octaves: Annotated[Finite, worded("Spacing", unit="oct", step=0.1, low=-10, high=10)] = 0.0


class PairedFilter(Part):
    """A filter stage's fields without a cutoff: the pair says where it stands."""

    filter: str | Filter
    mode: str | None = None
    resonance_gain: Annotated[Finite, Field(ge=0, le=1000)] | None = None
    resonance_percent: Annotated[Finite, Field(ge=0, le=100)] | None = None
    parameters: dict[str, Finite] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _is_a_filter(self) -> PairedFilter:
        try:
            self.at(1000.0)
        except ValidationError as error:
            raise ValueError(error.errors()[0]["msg"].removeprefix("Value error, ")) from error
        return self

    def at(self, cutoff_hz: float) -> FilterStage:
        """As a stage of its own."""
        return FilterStage(stage="filter", cutoff_hz=cutoff_hz, **{name: getattr(self, name)
                                                                 for name in type(self).model_fields})


class Pair(StagePart):
    """Two filters behind one cutoff, `spacing_octaves` apart (second − first), each moved by its own `separate`."""

    stage: Literal["pair"]
    first: PairedFilter
    second: PairedFilter
    arrangement: Literal["series", "parallel", "stereo"] = "series"
    cutoff_hz: Annotated[Finite, worded("Cutoff", unit="Hz", low=CUTOFF_MINIMUM_HZ, high=CUTOFF_MAXIMUM_HZ)] = 1000.0
    spacing_octaves: Annotated[Finite, worded("Spacing", unit="oct", step=0.1, low=-10, high=10)] = 0.0
    separate: tuple[Annotated[Finite, Field(ge=-10, le=10)], Annotated[Finite, Field(ge=-10, le=10)]] = (0.0, 0.0)

    def path(self) -> tuple[AnyStage, ...]:
        """The same of plain stages: what comes in a row, beside each other, left and right; where the pair has an id,
        its filters are called ID.first and ID.second."""
        low, high = (
            float(np.clip(self.cutoff_hz * 2.0 ** (way * 0.5 * self.spacing_octaves + own), CUTOFF_MINIMUM_HZ,
                          CUTOFF_MAXIMUM_HZ))
            for way, own in zip((-1, 1), self.separate, strict=True))
        first, second = (
            one.at(hertz).model_copy(update={"id": None if self.id is None else f"{self.id}.{which}"})
            for one, hertz, which in ((self.first, low, "first"), (self.second, high, "second")))
        if self.arrangement == "series":
            return (first, second)
        if self.arrangement == "stereo":
            return (Stereo(stage="stereo", left=(first,), right=(second,)),)
        return (Parallel(stage="parallel", branches=(Limb(path=(first,)), Limb(path=(second,)))),)


class Resonator(StagePart):
    """Coil, capacitor and resistor behind an input that limits softly, as formant filters once were: two ranges to
    switch between, no loop, so that it never sounds by itself."""

    stage: Literal["resonator"]
    kind: Annotated[Literal["lowpass", "bandpass"], Field(title="Kind")] = "lowpass"
    range: Annotated[Literal["low", "high"], Field(title="Range", description="Up to where its cutoff can be turned.")
                     ] = "low"
    low_hz: Annotated[Finite, worded("Low range to", unit="Hz", low=CUTOFF_MINIMUM_HZ, high=CUTOFF_MAXIMUM_HZ)] = 800.0
    high_hz: Annotated[Finite, worded("High range to", unit="Hz", low=CUTOFF_MINIMUM_HZ, high=CUTOFF_MAXIMUM_HZ)
                       ] = 5000.0
    cutoff_hz: Annotated[Finite, worded("Cutoff", unit="Hz", low=CUTOFF_MINIMUM_HZ, high=CUTOFF_MAXIMUM_HZ)] = 500.0
    q: Annotated[Finite, worded("Q", step=0.5, low=0.3, high=30)] = 8.0
    headroom_v: Annotated[Finite, worded("Headroom", unit="V", step=0.1, above=0, high=1e6)] = 3.0

    @property
    def range_hz(self) -> float:
        """Up to where its cutoff goes."""
        return self.low_hz if self.range == "low" else self.high_hz

    @property
    def section(self) -> Section:
        """Behind the input: 1/(s² + s/Q + 1), or s/Q over the same."""
        hertz, damping = min(self.cutoff_hz, self.range_hz), 1 / self.q
        return Section(hertz, (0.0, 0.0, 1.0) if self.kind == "lowpass" else (0.0, damping, 0.0), (damping, 1.0))

    @property
    def input(self) -> Curve:
        return Curve(kind="tanh", headroom_v=self.headroom_v)


class Chord(StagePart):
    """Combs side by side, one a note of a chord over root_hz, together as loud as one; inversion: so many of its lowest
    notes stand an octave higher."""

    stage: Literal["chord"]
    root_hz: Annotated[Finite, worded("Root", unit="Hz", low=1, high=5000)] = 110.0
    semitones: Annotated[tuple[Annotated[Finite, Field(ge=-48, le=48)], ...], Field(min_length=1, max_length=8)
                         ] = (0.0, 4.0, 7.0)
    inversion: Annotated[int, Field(ge=0, le=7, strict=True, title="Inversion")] = 0
    feedback: Annotated[Finite, worded("Feedback", step=0.05, low=-0.99, high=0.99)] = 0.9
    damping_hz: Annotated[Finite, Field(ge=1, le=1e6)] | None = None
    mix: Annotated[Finite, worded("Mix", step=0.05, low=0, high=1)] = 1.0

    @model_validator(mode="after")
    def _has_notes_to_turn(self) -> Chord:
        if self.inversion >= len(self.semitones):
            raise ValueError(f"inversion {self.inversion} asks for more notes than the chord's {len(self.semitones)}")
        return self

    def notes_hz(self) -> tuple[float, ...]:
        """From the lowest to the highest."""
        notes = sorted(self.semitones)
        turned = [note + (12 if i < self.inversion else 0) for i, note in enumerate(notes)]
        return tuple(sorted(float(self.root_hz * 2 ** (note / 12)) for note in turned))

    def path(self) -> tuple[Parallel]:
        """The same of plain stages."""
        level_db = float(-20 * np.log10(len(self.semitones)))
        return (Parallel(stage="parallel", branches=tuple(
            Limb(path=(Comb(stage="comb", frequency_hz=hertz, feedback=self.feedback, damping_hz=self.damping_hz,
                            mix=self.mix),), level_db=level_db) for hertz in self.notes_hz())),)


AnyStage = (Gain | Shape | FilterStage | Parallel | Feedback | Stereo | Pair | Bank | Formants | Shapes | AllPass
            | Resonator | Comb | Chord | Crush)
Stage = Annotated[AnyStage, Field(discriminator="stage")]


class Patch(Part):
    """Sources, the path they go, what moves and what it moves."""

    format: Literal["jiyuu-patch"]
    version: Literal[1]
    name: Name
    sources: Annotated[tuple[PatchSource, ...], Field(max_length=8)] = ()
    path: Annotated[tuple[Stage, ...], Field(max_length=64)]
    controls: dict[Name, Control] = Field(default_factory=dict, max_length=64)
    routes: Annotated[tuple[Route, ...], Field(max_length=256)] = ()
    figure: FigureDocument | None = None
    notes: Annotated[str, Field(max_length=20_000)] = ""


Limb.model_rebuild()
Parallel.model_rebuild()
Feedback.model_rebuild()
Stereo.model_rebuild()
Patch.model_rebuild()


def inner_paths(stage: AnyStage) -> tuple[tuple[AnyStage, ...], ...]:
    """The paths inside a stage, none where it has none."""
    if isinstance(stage, Parallel):
        return tuple(limb.path for limb in stage.branches)
    if isinstance(stage, Feedback):
        return (stage.path,)
    return (stage.left, stage.right) if isinstance(stage, Stereo) else ()


def stages_in(path: Sequence[AnyStage]) -> Iterator[AnyStage]:
    """Every stage of a path, inner ones behind the one that holds them."""
    for stage in path:
        yield stage
        for inner in inner_paths(stage):
            yield from stages_in(inner)


def all_stages(path: tuple[AnyStage, ...]) -> Iterator[AnyStage]:
    """Every stage, the two filters of a pair among them."""
    for stage in stages_in(path):
        yield stage
        if isinstance(stage, Pair):
            yield from (one for one in stages_in(stage.path()) if isinstance(one, FilterStage))


def patch_schema() -> dict[str, object]:
    """JSON Schema of a patch file."""
    return Patch.model_json_schema()
