"""Controls, routes and the figure of a patch document: what moves, and what it moves."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from jiyuu.field_words import asked as worded

Finite = Annotated[float, Field(allow_inf_nan=False, strict=True)]
Seconds = Annotated[Finite, Field(ge=0, le=600)]
Share = Annotated[Finite, Field(ge=0, le=1)]
Rate = Annotated[Finite, Field(gt=0, le=5000)]
Name = Annotated[str, Field(min_length=1, max_length=120)]
Seed = Annotated[int, Field(ge=0, le=2**32 - 1, strict=True)]
FIGURE, NOISE = "figure", "noise"


class Part(BaseModel):
    """Closed to unknown fields, never changed once made."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class Timed(Part):
    """A rate in Hz, or how many beats a period lasts; a beat is four steps of the figure."""

    rate_hz: Rate | None = None
    beats: Annotated[Finite, Field(gt=0, le=4096)] | None = None

    @model_validator(mode="after")
    def _one_of_both(self) -> Timed:
        if (self.rate_hz is None) == (self.beats is None):
            raise ValueError("give rate_hz or beats, one of them")
        return self


class EnvelopeControl(Part):
    """gate: 'figure', another control (high above 0.5) or a rate in Hz."""

    kind: Literal["envelope"]
    delay_s: Seconds = 0.0
    attack_s: Seconds = 0.005
    hold_s: Seconds = 0.0
    decay_s: Seconds = 0.3
    sustain: Share = 0.5
    release_s: Seconds = 0.2
    curve: Literal["exponential", "linear"] = "exponential"
    loop: Literal["off", "always", "while_gated"] = "off"
    retrigger: Literal["from_zero", "from_where_it_is"] = "from_zero"
    gate: Name | Rate = FIGURE
    skip_slides: bool = False


class LfoControl(Timed):
    """±1, or 0 to 1 where unipolar."""

    kind: Literal["lfo"]
    shape: Literal["sine", "triangle", "rise", "fall", "square", "pulse"] = "sine"
    phase: Annotated[Finite, Field(ge=-1e6, le=1e6)] = 0.0
    width: Annotated[Finite, Field(gt=0, lt=1)] = 0.5
    unipolar: bool = False


class HoldControl(Part):
    """What `of` (a control or 'noise') was when the clock last rose."""

    kind: Literal["hold"]
    of: Name = NOISE
    clock: Name | Rate = FIGURE
    smooth_s: Seconds = 0.0
    seed: Seed = 0


class RandomControl(Part):
    """A new value at every n/rate."""

    kind: Literal["random"]
    rate_hz: Rate = 1.0
    smooth: Share = 0.0
    seed: Seed = 0


class StepsControl(Timed):
    """One value after the other."""

    kind: Literal["steps"]
    values: Annotated[tuple[Finite, ...], Field(min_length=1, max_length=256)]
    direction: Literal["forward", "back", "pendulum", "random"] = "forward"
    smooth_s: Seconds = 0.0
    seed: Seed = 0


class FigureControl(Part):
    """What of the figure."""

    kind: Literal["figure"]
    of: Literal["pitch", "gate", "accent", "velocity", "slide"] = "pitch"


class FollowerControl(Part):
    """The loudness of a band of a source."""

    kind: Literal["follower"]
    of: Name
    low_hz: Annotated[Finite, Field(ge=0, le=20_000)] = 20.0
    high_hz: Annotated[Finite, Field(ge=20, le=200_000)] = 20_000.0
    attack_s: Seconds = 0.005
    release_s: Seconds = 0.1
    gain_db: Annotated[Finite, Field(ge=-120, le=120)] = 0.0

    @model_validator(mode="after")
    def _band_in_order(self) -> FollowerControl:
        if self.low_hz >= self.high_hz:
            raise ValueError("low_hz must lie under high_hz")
        return self


class SignalControl(Part):
    """A source or a stage's output itself, volts × per_v, at the same instant."""

    kind: Literal["signal"]
    of: Name
    per_v: Annotated[Finite, Field(ge=-1e6, le=1e6)] = 1.0


class ConstantControl(Part):
    """Always the same."""

    kind: Literal["constant"]
    value: Annotated[Finite, Field(ge=-1e6, le=1e6)]


AnyControl = (EnvelopeControl | LfoControl | HoldControl | RandomControl | StepsControl | FigureControl
              | FollowerControl | SignalControl | ConstantControl)
Control = Annotated[AnyControl, Field(discriminator="kind")]


class FigureStep(Part):
    """A note, a tie or a rest."""

    semitones: Annotated[Finite, Field(ge=-120, le=120)] = 0.0
    gate: Share = 0.7
    accent: bool = False
    slide: bool = False
    tie: bool = False
    rest: bool = False
    velocity: Share = 1.0


class FigureDocument(Part):
    """Up to 32 steps over a root."""

    root_hz: Annotated[Finite, Field(ge=1, le=20_000)] = 55.0
    step_s: Annotated[Finite, Field(ge=0.005, le=60)] = 0.18
    slide_s: Seconds = 0.06
    swing: Annotated[Finite, worded("Swing", step=0.05, low=0, high=0.9, tip="Share of a step by which every second "
                                    "one comes late: 0 is even, 0.33 a triplet.")] = 0.0
    direction: Literal["forward", "back", "pendulum", "random"] = "forward"
    repeat: bool = True
    seed: Seed = 0
    steps: Annotated[tuple[FigureStep, ...], Field(min_length=1, max_length=32)]


class Route(Part):
    """amount: in the target's unit; amount_by: a control that multiplies it at every moment; accent_percent: by how
    much more where the figure is accented; unit 'dB' for levels."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)

    source: Annotated[Name, Field(alias="from")]
    target: Annotated[Name, Field(alias="to")]
    amount: Annotated[Finite, Field(ge=-1e6, le=1e6)] = 1.0
    unit: Literal["dB"] | None = None
    amount_by: Name | None = None
    accent_percent: Annotated[Finite, Field(ge=-1000, le=1000)] = 0.0


def references(control: object) -> list[tuple[str, str]]:
    """(field, control's name) of every other control that this one needs."""
    found: list[tuple[str, str]] = []
    if isinstance(control, FollowerControl | SignalControl):
        return found
    for field in ("gate", "clock", "of"):
        value = getattr(control, field, None)
        fixed = isinstance(control, FigureControl) or value in (FIGURE, NOISE)
        if isinstance(value, str) and not fixed:
            found.append((field, value))
    return found
