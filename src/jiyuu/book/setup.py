"""How a filter stands on the bench beyond its own knobs: sources, drive, what moves the cutoff, what comes next."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, model_validator

from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ, CUTOFF_MINIMUM_HZ
from jiyuu.circuits.reach import ControlSpan
from jiyuu.quantities import C4_HZ, signed, volts_of
from jiyuu.signals.source import Source, SourceKind

Volts = Annotated[float, Field(ge=-20, le=20, allow_inf_nan=False)]
NOMINAL_V = 5.0


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class SourceSetting(_Part):
    """One input of the filter."""

    kind: SourceKind = SourceKind.SAW
    pitch_hz: Annotated[float, Field(ge=1, le=20_000, allow_inf_nan=False)] = 110.0
    level_v: Annotated[float, Field(ge=0, le=100, allow_inf_nan=False)] = NOMINAL_V
    width: Annotated[float, Field(ge=0.01, le=0.99, allow_inf_nan=False)] = 0.25
    path: str | None = None

    def source(self) -> Source:
        path = None if self.path is None else Path(self.path)
        return Source(self.kind, self.pitch_hz, self.level_v, self.width, path)


class CutoffInput(_Part):
    """A control voltage patched to the cutoff: amount in % (100 is 1 V/octave), the volts it moves between, the volts
    it stands at."""

    amount_percent: Annotated[float, Field(ge=-100, le=100, allow_inf_nan=False)] = 0.0
    low_v: Volts = 0.0
    high_v: Volts = 5.0
    now_v: Volts = 0.0

    def span(self, name: str) -> ControlSpan:
        share = self.amount_percent / 100
        return ControlSpan(name, share * self.low_v, share * self.high_v, share * self.now_v, swings=True)


class Setup(_Part):
    """Everything of the Setup step that is not a knob of the filter. Frequencies in Hz, the rest in its name's unit."""

    inputs: Annotated[tuple[SourceSetting, ...], Field(min_length=1, max_length=3)] = (SourceSetting(),)
    drive_db: Annotated[float, Field(ge=-60, le=60, allow_inf_nan=False)] = 0.0
    next_limit_v: Annotated[float, Field(gt=0, le=100, allow_inf_nan=False)] = NOMINAL_V
    knob_low_hz: Annotated[float, Field(gt=0, le=CUTOFF_MAXIMUM_HZ, allow_inf_nan=False)] = C4_HZ / 16
    knob_high_hz: Annotated[float, Field(gt=0, le=CUTOFF_MAXIMUM_HZ, allow_inf_nan=False)] = C4_HZ * 64
    fine_cents: Annotated[float, Field(ge=-1200, le=1200, allow_inf_nan=False)] = 0.0
    fine_range_cents: Annotated[float, Field(ge=0, le=1200, allow_inf_nan=False)] = 700.0
    key_follow_percent: Annotated[float, Field(ge=0, le=200, allow_inf_nan=False)] = 0.0
    key_low_v: Volts = -2.0
    key_high_v: Volts = 3.0
    key_v: Volts = 0.0
    cvs: Annotated[tuple[CutoffInput, ...], Field(min_length=3, max_length=3)] = (
        CutoffInput(), CutoffInput(), CutoffInput(low_v=-5.0),
    )
    lowest_hz: Annotated[float, Field(ge=CUTOFF_MINIMUM_HZ, le=CUTOFF_MAXIMUM_HZ, allow_inf_nan=False)] = 16.0
    highest_hz: Annotated[float, Field(ge=CUTOFF_MINIMUM_HZ, le=CUTOFF_MAXIMUM_HZ, allow_inf_nan=False)] = 22_000.0

    @model_validator(mode="after")
    def _limits_in_order(self) -> Setup:
        if self.lowest_hz >= self.highest_hz:
            raise ValueError(f"the circuit's lowest cutoff {self.lowest_hz:g} Hz must lie under its highest, "
                             f"{self.highest_hz:g} Hz")
        return self

    def sources(self) -> list[Source]:
        return [setting.source() for setting in self.inputs]

    def controls(self, knob_hz: float) -> list[ControlSpan]:
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
            "fine_cents": 0.0, "key_follow_percent": 0.0, "key_v": 0.0,
            "cvs": tuple(cv.model_copy(update={"amount_percent": 0.0, "now_v": 0.0}) for cv in self.cvs),
        })

    def not_neutral(self, resonance_percent: float) -> list[str]:
        """What is not neutral, one short line each."""
        found = []
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
        if len(self.inputs) > 1:
            found.append(f"{len(self.inputs)} inputs mixed")
        if self.inputs[0].level_v != NOMINAL_V:
            found.append(f"Source at {self.inputs[0].level_v:.3g} V instead of {NOMINAL_V:g} V")
        return found
