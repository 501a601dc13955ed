"""How a filter stands on the bench beyond its own knobs: the patch round it, what moves the cutoff, what comes next."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field, model_validator

from jiyuu.bench.setting import Setting
from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ, CUTOFF_MINIMUM_HZ
from jiyuu.circuits.reach import ControlSpan
from jiyuu.field_words import asked
from jiyuu.patch.controls import Control, FigureDocument, Name, Route
from jiyuu.patch.document import AnyStage, FilterStage, Parallel, Stage
from jiyuu.patch.editing import place_of, places, stage_at
from jiyuu.patch.lowering import splits
from jiyuu.patch.stretches import parted
from jiyuu.quantities import C4_HZ, signed, volts_of
from jiyuu.signals.source import Source, SourceKind

NOMINAL_V = 5.0
MOST_SOURCES = 8
IN_HAND = "filter"


Octaves = Annotated[float, asked("Spacing", unit="oct", step=0.1, low=-10, high=10)]


class SourceSetting(Setting):
    """One input of the filter."""

    kind: Annotated[SourceKind, Field(title="Source")] = SourceKind.SAW
    pitch_hz: Annotated[float, asked("Pitch", unit="Hz", low=1, high=20_000, tip="110 Hz, A2 or −1.25 V.")] = 110.0
    level_v: Annotated[float, asked("Level", unit="V", step=0.5, low=0, high=100, tip="Peak volts at the panel.")
                       ] = NOMINAL_V
    width: Annotated[float, asked("Pulse width", step=0.05, low=0.01, high=0.99,
                                  tip="Share of the period that a pulse is high.")] = 0.25
    path: str | None = None

    def source(self) -> Source:
        path = None if self.path is None else Path(self.path)
        return Source(self.kind, self.pitch_hz, self.level_v, self.width, path)


class CutoffInput(Setting):
    """A control voltage patched to the cutoff: amount in % (100 is 1 V/octave), the volts it moves between, the volts
    it stands at."""

    amount_percent: Annotated[float, asked("Amount", unit="%", step=10, low=-100, high=100,
                                           tip="100 % is 1 V/octave; negative amounts close the filter.")] = 0.0
    low_v: Annotated[float, asked("Moves from", unit="V", step=0.5, low=-20, high=20)] = 0.0
    high_v: Annotated[float, asked("Moves to", unit="V", step=0.5, low=-20, high=20)] = 5.0
    now_v: Annotated[float, asked("Stands at", unit="V", step=0.5, low=-20, high=20)] = 0.0

    def span(self, name: str) -> ControlSpan:
        share = self.amount_percent / 100
        return ControlSpan(name, share * self.low_v, share * self.high_v, share * self.now_v, swings=True)


class Setup(Setting):
    """Everything that is not a knob of the filter: the patch it stands in. path: the stages between level and trim,
    that of the id `in_hand` standing for the filter itself; empty where there is nothing else. tied: filters of the
    path whose cutoff goes with the one in hand, so many octaves above it: several behind one knob."""

    inputs: Annotated[tuple[SourceSetting, ...], Field(min_length=1, max_length=MOST_SOURCES, title="Source")] = (
        SourceSetting(),)
    path: Annotated[tuple[Stage, ...], Field(max_length=64, title="Path")] = ()
    in_hand: Name = IN_HAND
    tied: Annotated[dict[Name, Octaves], Field(max_length=64, title="Tied")] = Field(default_factory=dict)
    side: Annotated[Literal["left", "right"], Field(
        title="Side", description="Which of two is looked at, where the path splits.")] = "left"
    controls: Annotated[dict[Name, Control], Field(max_length=64, title="Controls")] = Field(default_factory=dict)
    routes: Annotated[tuple[Route, ...], Field(max_length=256, title="Routes")] = ()
    figure: FigureDocument | None = None
    drive_db: Annotated[float, asked("Drive", unit="dB", low=-60, high=60, tip="Gain ahead of the filter.")] = 0.0
    next_limit_v: Annotated[float, asked("Next module's limit ±", unit="V", step=0.5, above=0, high=100,
                                         tip="Peak volts that what comes next takes without overload.")] = NOMINAL_V
    trim_db: Annotated[float, asked("Trim", unit="dB", low=-60, high=60,
                                    tip="Gain behind the filter, ahead of what comes next.")] = 0.0
    knob_low_hz: Annotated[float, asked("Knob from", unit="Hz", above=0, high=CUTOFF_MAXIMUM_HZ,
                                        tip="Cutoff at the lower end of the knob's travel.")] = C4_HZ / 16
    knob_high_hz: Annotated[float, asked("Knob to", unit="Hz", above=0, high=CUTOFF_MAXIMUM_HZ,
                                         tip="Cutoff at the upper end of the knob's travel.")] = C4_HZ * 64
    fine_cents: Annotated[float, asked("Fine", unit="cents", step=10, low=-1200, high=1200, tip="Fine tuning.")] = 0.0
    fine_range_cents: Annotated[float, asked("Fine's range", unit="cents", step=100, low=0, high=1200)] = 700.0
    key_follow_percent: Annotated[float, asked("Key follow", unit="%", step=10, low=0, high=200,
                                               tip="100 % is 1 V/octave.")] = 0.0
    key_low_v: Annotated[float, asked("Lowest key", unit="V", low=-20, high=20)] = -2.0
    key_high_v: Annotated[float, asked("Highest key", unit="V", low=-20, high=20)] = 3.0
    key_v: Annotated[float, asked("Key held", unit="V", step=1 / 12, low=-20, high=20, tip="0 V is C4.")] = 0.0
    cvs: Annotated[tuple[CutoffInput, ...], Field(min_length=3, max_length=3, title="CV")] = (
        CutoffInput(), CutoffInput(), CutoffInput(low_v=-5.0),
    )
    lowest_hz: Annotated[float, asked("Circuit from", unit="Hz", low=CUTOFF_MINIMUM_HZ, high=CUTOFF_MAXIMUM_HZ,
                                      tip="Lowest cutoff the circuit reaches.")] = 16.0
    highest_hz: Annotated[float, asked("Circuit to", unit="Hz", low=CUTOFF_MINIMUM_HZ, high=CUTOFF_MAXIMUM_HZ,
                                       tip="Highest cutoff the circuit reaches.")] = 22_000.0

    @model_validator(mode="after")
    def _limits_in_order(self) -> Setup:
        if self.lowest_hz >= self.highest_hz:
            raise ValueError(f"the circuit's lowest cutoff {self.lowest_hz:g} Hz must lie under its highest, "
                             f"{self.highest_hz:g} Hz")
        return self

    @model_validator(mode="after")
    def _filter_in_path(self) -> Setup:
        if self.path:
            place = place_of(self.path, self.in_hand)
            if place is None or not isinstance(stage_at(self.path, place), FilterStage):
                raise ValueError("the filter in hand must stay in its path; put another filter in hand to take it out")
            if any(stage_at(self.path, place[:depth]).off for depth in range(1, len(place) + 1, 2)):
                raise ValueError("the filter in hand cannot be switched off, nor what holds it")
            holders = [stage_at(self.path, place[:depth]) for depth in range(1, len(place), 2)]
            if any(limb.sources for holder in holders if isinstance(holder, Parallel) for limb in holder.branches):
                raise ValueError("beside the filter in hand no branch can have a source of its own; put the branches "
                                 "ahead of it or behind it")
        filters = {stage.id for _, stage in places(self.path) if isinstance(stage, FilterStage)}
        lost = [name for name in self.tied if name not in filters - {self.in_hand}]
        if lost:
            raise ValueError(f"tied: there is no other filter '{lost[0]}' in the path; tie one that is there")
        return self

    @property
    def reads_files(self) -> bool:
        """Whether what is played may become another without anything here being changed."""
        return any(one.path is not None for one in self.inputs)

    @property
    def surrounds(self) -> bool:
        """Whether anything else in the path is heard."""
        return any(stage.id != self.in_hand and not stage.off for _, stage in places(self.path))

    @property
    def joined(self) -> tuple[AnyStage, ...]:
        """The path as far as it is one network with the filter in hand, which is measured with it."""
        return self._parted[1]

    @property
    def ahead(self) -> tuple[AnyStage, ...]:
        """What stands ahead of that and is heard, but not measured: up to the last comb or crusher."""
        return self._parted[0]

    @property
    def behind(self) -> tuple[AnyStage, ...]:
        """What stands behind that and is heard, but not measured: from the next comb or crusher on."""
        return self._parted[2]

    @property
    def _parted(self) -> tuple[tuple[AnyStage, ...], tuple[AnyStage, ...], tuple[AnyStage, ...]]:
        place = place_of(self.path, self.in_hand) if self.path else None
        return ((), self.path, ()) if place is None else parted(self.path, place[0], self.side)

    @property
    def joins(self) -> bool:
        """Whether anything else is one network with the filter in hand."""
        return any(stage.id != self.in_hand and not stage.off for _, stage in places(self.joined))

    @property
    def path_json(self) -> list[object]:
        """What of the path decides what a run finds; empty where nothing joins the filter."""
        if not self.joins:
            return []
        side = [self.side] if splits(self.joined) else []
        tied = [self.tied] if self.tied else []
        return [*side, *tied, *(stage.model_dump(mode="json", exclude_defaults=True) for stage in self.joined)]

    @property
    def moves_cutoff(self) -> bool:
        """Whether anything but the knob has a say in where the cutoff stands."""
        return bool(self.fine_cents or (self.key_follow_percent and self.key_v)
                    or any(cv.amount_percent and cv.now_v for cv in self.cvs))

    @property
    def trim(self) -> float:
        """What stands behind the filter, as a factor."""
        return float(10 ** (self.trim_db / 20))

    @property
    def output_limit_v(self) -> float:
        """Peak volts at the filter's output that the next module takes behind the trim."""
        return self.next_limit_v / self.trim

    @property
    def source_names(self) -> str:
        """'the saw + sine'."""
        return "the " + " + ".join(setting.kind.value for setting in self.inputs)

    def sources(self) -> list[Source]:
        return [setting.source() for setting in self.inputs]

    def cutoff_controls(self, knob_hz: float) -> list[ControlSpan]:
        """What moves the cutoff, the knob first; the knob's travel always holds where it stands."""
        low, high = sorted((volts_of(self.knob_low_hz), volts_of(self.knob_high_hz)))
        now = volts_of(knob_hz)
        key = self.key_follow_percent / 100
        return [
            ControlSpan("Knob", min(low, now), max(high, now), now),
            ControlSpan("Fine", -self.fine_range_cents / 1200, self.fine_range_cents / 1200, self.fine_cents / 1200),
            ControlSpan("Key", key * self.key_low_v, key * self.key_high_v, key * self.key_v, swings=True),
            *(cv.span(f"CV {number}") for number, cv in enumerate(self.cvs, start=1)),
        ]

    def neutral(self) -> Setup:
        """Nothing moves the cutoff but its knob, nothing drives the filter, one saw of the nominal level."""
        return self.model_copy(update={
            "inputs": (self.inputs[0].model_copy(update={"level_v": NOMINAL_V}),), "drive_db": 0.0,
            "path": (), "tied": {}, "trim_db": 0.0, "fine_cents": 0.0, "key_follow_percent": 0.0, "key_v": 0.0,
            "cvs": tuple(cv.model_copy(update={"amount_percent": 0.0, "now_v": 0.0}) for cv in self.cvs),
        })

    def not_neutral(self, resonance_percent: float) -> list[str]:
        """What is not neutral, one short line each."""
        found = []
        if self.surrounds:
            count = sum(not stage.off for _, stage in places(self.path)) - 1
            found.append(f"Path with {count} more {'stage' if count == 1 else 'stages'}")
        if resonance_percent:
            found.append(f"Resonance at {resonance_percent:.4g} %")
        if self.fine_cents:
            found.append(f"Fine at {signed(self.fine_cents, 0)} cents")
        if self.key_follow_percent:
            found.append(f"Key follow at {self.key_follow_percent:.4g} %")
        found += [
            f"CV {number} at {signed(cv.amount_percent, 0)} %, standing at {signed(cv.now_v)} V"
            for number, cv in enumerate(self.cvs, start=1) if cv.amount_percent
        ]
        if self.drive_db:
            found.append(f"Drive at {signed(self.drive_db)} dB")
        if self.trim_db:
            found.append(f"Trim at {signed(self.trim_db)} dB")
        if len(self.inputs) > 1:
            found.append(f"{len(self.inputs)} inputs mixed")
        if self.inputs[0].level_v != NOMINAL_V:
            found.append(f"Source at {self.inputs[0].level_v:.3g} V instead of {NOMINAL_V:g} V")
        return found
