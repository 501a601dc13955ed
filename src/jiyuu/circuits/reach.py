"""Where the cutoff can really go: knob, fine tuning, key follow and control voltages, each a span in octaves.

The converter adds them (1 V/octave), the circuit stops at its limits and the ear at its own. What lies outside is
travel of a control that does nothing.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ, CUTOFF_MINIMUM_HZ
from jiyuu.errors import CircuitError
from jiyuu.quantities import hz_of_volts, volts_of

EAR_LOW_HZ, EAR_HIGH_HZ = 20.0, 20_000.0
LONGEST_SILENT_PERCENT = 0.5  # dead travel below this is not worth a sentence


@dataclass(frozen=True, slots=True)
class ControlSpan:
    """One control of the cutoff. low, high: what it adds at the ends of its travel, now: what it adds as it stands;
    octaves (volts at 1 V/octave). The knob's are absolute, volts re C4."""

    name: str
    low: float
    high: float
    now: float
    swings: bool = False  # moves by itself while playing (key, CV), not by hand

    def __post_init__(self) -> None:
        if not all(np.isfinite((self.low, self.high, self.now))):
            raise CircuitError(f"{self.name}: give finite volts.")


@dataclass(frozen=True, slots=True)
class DeadPart:
    """A part of a control's travel that does nothing while the others stand as they do.

    share: of its travel; end: 'upper' or 'lower'; why: 'circuit' or 'ear'; limit_hz: where it stops; because: the
    control that already holds the cutoff there, None when the span itself is too long."""

    control: str
    share: float
    end: str
    why: str
    limit_hz: float
    because: str | None
    because_octaves: float


@dataclass(frozen=True, slots=True)
class Reach:
    """now_hz: where the cutoff stands; low_hz, high_hz: where it can go, within the circuit's limits; wanted_low_hz,
    wanted_high_hz: where the controls would take it; dead: travel that does nothing."""

    controls: tuple[ControlSpan, ...]
    now_hz: float
    low_hz: float
    high_hz: float
    wanted_low_hz: float
    wanted_high_hz: float
    lowest_hz: float
    highest_hz: float
    dead: tuple[DeadPart, ...]


def reach(
    controls: Sequence[ControlSpan], *, lowest_hz: float = CUTOFF_MINIMUM_HZ, highest_hz: float = CUTOFF_MAXIMUM_HZ
) -> Reach:
    """The first control is the knob, in volts re C4; the others add to it.

    Raises CircuitError for limits the wrong way round or without a control."""
    if not controls:
        raise CircuitError("A cutoff needs at least its knob.")
    if not 0 < lowest_hz < highest_hz:
        raise CircuitError(f"The cutoff's limits {lowest_hz:g} and {highest_hz:g} Hz are the wrong way round.")
    now = sum(control.now for control in controls)
    low = sum(min(control.low, control.high) for control in controls)
    high = sum(max(control.low, control.high) for control in controls)
    floor, ceiling = volts_of(lowest_hz), volts_of(highest_hz)

    def stopped(volts: float) -> float:
        return hz_of_volts(min(max(volts, floor), ceiling))

    dead: list[DeadPart] = []
    for control in controls:
        dead += _dead_parts(control, controls, now - control.now, lowest_hz, highest_hz)
    return Reach(
        tuple(controls), stopped(now), stopped(low), stopped(high), hz_of_volts(low), hz_of_volts(high), lowest_hz,
        highest_hz, tuple(dead),
    )


def _dead_parts(
    control: ControlSpan, controls: Sequence[ControlSpan], others: float, lowest_hz: float, highest_hz: float
) -> list[DeadPart]:
    low, high = sorted((control.low, control.high))
    if high - low < 1e-9:
        return []
    found = []
    upper = [(highest_hz, "circuit"), (EAR_HIGH_HZ, "ear")]
    lower = [(lowest_hz, "circuit"), (EAR_LOW_HZ, "ear")]
    # The limit that is met first counts: past the ear's the circuit's is of no use to anyone.
    top_hz, top_why = min(upper)
    bottom_hz, bottom_why = max(lower)
    over = (others + high - volts_of(top_hz)) / (high - low)
    under = (volts_of(bottom_hz) - others - low) / (high - low)
    # A control with a negative amount reaches the top at the lower end of its travel.
    turned = control.low > control.high
    for share, limit_hz, why, end, sign in (
        (over, top_hz, top_why, "lower" if turned else "upper", +1),
        (under, bottom_hz, bottom_why, "upper" if turned else "lower", -1),
    ):
        share = float(np.clip(share, 0.0, 1.0))
        if 100 * share < LONGEST_SILENT_PERCENT:
            continue
        pushing = [c for c in controls if c is not control and sign * c.now > 0.05 and c is not controls[0]]
        blamed = max(pushing, key=lambda c: sign * c.now, default=None)
        if blamed is None and control is not controls[0] and share > 0.999:
            blamed = controls[0]
        found.append(DeadPart(
            control.name, share, end, why, limit_hz, None if blamed is None else blamed.name,
            0.0 if blamed is None else blamed.now,
        ))
    return found
