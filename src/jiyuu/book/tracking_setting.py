"""How a filter is tracked: from which pitch, over which volts, at which resonance, within which tolerance."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.trims import Trims
from jiyuu.errors import JiyuuError
from jiyuu.quantities import parse_scale, volts_between
from jiyuu.rig.tracking_request import (
    START_HZ,
    SWEPT_FROM_HZ,
    TrackingRequest,
    whistle_percent,
)

MOST_STEPS = 200
FARTHEST_V = 12.0


class TrackingSetting(BaseModel):
    """start_hz: pitch meant at 0 V. by_sweeps None: wherever the drawing does not whistle. resonance_percent None: a
    little past the onset. target: whether the offset trim is to bring 0 V to start_hz."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    start_hz: Annotated[float, Field(ge=8, le=8000, allow_inf_nan=False)] | None = None
    from_v: Annotated[float, Field(ge=-10, le=10, allow_inf_nan=False)] = 0.0
    to_v: Annotated[float, Field(ge=-10, le=10, allow_inf_nan=False)] = 8.0
    step_v: Annotated[float, Field(ge=0.01, le=10, allow_inf_nan=False)] = 1.0
    scale: Annotated[str, Field(max_length=2000)] = ""
    key_follow_percent: Annotated[float, Field(ge=5, le=200, allow_inf_nan=False)] = 100.0
    resonance_percent: Annotated[float, Field(ge=0, le=100, allow_inf_nan=False)] | None = None
    by_sweeps: bool | None = None
    tolerance_cents: Annotated[float, Field(gt=0, le=1200, allow_inf_nan=False)] = 5.0
    reference_v: Annotated[float, Field(ge=-10, le=10, allow_inf_nan=False)] | None = None
    temperature_c: Annotated[float, Field(ge=-20, le=80, allow_inf_nan=False)] = 25.0
    tune_offset: bool = False
    hold_s: Annotated[float, Field(ge=0, le=120, allow_inf_nan=False)] = 0.0
    note: Annotated[str, Field(max_length=500)] = ""

    @model_validator(mode="after")
    def _leads_somewhere(self) -> TrackingSetting:
        if self.to_v <= self.from_v:
            raise ValueError(f"the last volts ({self.to_v:g}) must lie above the first ({self.from_v:g})")
        if (self.to_v - self.from_v) / self.step_v > MOST_STEPS:
            raise ValueError(f"steps of {self.step_v:g} V make more than {MOST_STEPS}; take larger ones")
        if self.scale.strip():
            volts = self.volts()
            if not 2 <= len(volts) <= MOST_STEPS or len(set(volts)) < 2:
                raise ValueError(f"a scale needs at least two different notes and at most {MOST_STEPS}")
            if max(abs(v) for v in volts) > FARTHEST_V:
                raise ValueError(f"the scale leads more than {FARTHEST_V:g} V from 0 V; bring '0 V is' nearer")
        return self

    def volts(self, *, swept: bool = False) -> tuple[float, ...]:
        """What the filter is given at every step: the notes typed, or the range with both ends among it. Sweeps see no
        higher than some ten kilohertz."""
        if self.scale.strip():
            zero_hz = self.start_hz or (SWEPT_FROM_HZ if swept else START_HZ)
            try:
                played_hz = parse_scale(self.scale, one_hz=zero_hz)
            except JiyuuError as error:
                raise ValueError(str(error).rstrip(".")) from error
            return tuple(round(self.key_follow_percent / 100 * volts_between(zero_hz, hz), 9) for hz in played_hz)
        to_v = min(self.to_v, self.from_v + 6.0) if swept else self.to_v
        count = int((to_v - self.from_v) / self.step_v + 1e-6) + 1
        return tuple(float(v) for v in np.round(self.from_v + self.step_v * np.arange(count), 9))

    def sweeps(self, document: Filter) -> bool:
        """Whether the filter is tracked by sweeps."""
        return whistle_percent(document) is None if self.by_sweeps is None else self.by_sweeps

    def first_hz(self, document: Filter) -> float:
        """Pitch meant at 0 V."""
        if self.start_hz is not None:
            return self.start_hz
        return SWEPT_FROM_HZ if self.sweeps(document) else START_HZ

    def whistles_at(self, document: Filter) -> float:
        """Position of the resonance control while it is tracked."""
        if self.resonance_percent is not None:
            return self.resonance_percent
        return 0.0 if self.sweeps(document) else whistle_percent(document) or 100.0

    def request(self, document: Filter, mode: str, trims: Trims) -> TrackingRequest:
        swept, start_hz = self.sweeps(document), self.first_hz(document)
        volts = self.volts(swept=swept)
        reference = self.reference_v if self.reference_v in volts else None
        at = volts[0] if reference is None else reference
        return TrackingRequest(
            document, mode, self.whistles_at(document), start_hz=start_hz, volts=volts, by_sweeps=swept, trims=trims,
            temperature_c=self.temperature_c, tolerance_cents=self.tolerance_cents, reference_v=reference,
            hold_s=0.0 if swept else self.hold_s,
            key_follow_percent=self.key_follow_percent if self.scale.strip() else None,
            target_hz=start_hz * 2.0**at if self.tune_offset else None,
        )

    def changed(self, **changes: Any) -> TrackingSetting:
        """With some of it changed. Raises pydantic's ValidationError for what is out of range."""
        return TrackingSetting.model_validate({**self.model_dump(), **changes})
