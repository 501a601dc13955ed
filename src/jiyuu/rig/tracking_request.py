"""What a run of the Tracking step is asked for. Apart from the run itself, so that asking needs no measuring code."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.linear import onset
from jiyuu.circuits.trims import Trims
from jiyuu.remembered import Remembered

START_HZ, SWEPT_FROM_HZ = 32.70319566257483, 130.8127826502993  # C1; C3, for below it a sweep sees no passband
VOLTS = tuple(float(v) for v in range(9))
SWEPT_VOLTS = tuple(float(v) for v in range(7))
PAST_ONSET = 1.1  # a build's onset may lie higher than the drawing's
_WHISTLES: Remembered[tuple[float | None]] = Remembered(8)  # filters of a shelf


@dataclass(frozen=True, slots=True)
class TrackingRequest:
    """Everything a run needs. start_hz: where the knob stands at 0 V; volts (m,) in the order played;
    resonance_percent: with the filter whistling, or what the sweeps are made at; by_sweeps: track without a tone;
    key_follow_percent: how much of the keys' volts these volts are, None where no keys are played."""

    mode: str
    resonance_percent: float
    start_hz: float = START_HZ
    volts: tuple[float, ...] = VOLTS
    by_sweeps: bool = False
    trims: Trims = field(default_factory=Trims)
    temperature_c: float = 25.0
    tolerance_cents: float = 5.0
    reference_v: float | None = None
    hold_s: float = 0.0  # after the staircase at its first step, for drift
    key_follow_percent: float | None = None
    target_hz: float | None = None  # what the reference step should give, for the offset trim


def whistle_percent(document: Filter) -> float | None:
    """A position of the resonance control at which a build of the drawing whistles, with room for its trim; None
    where the drawing never does. It is asked for several times in a row, and takes milliseconds."""
    known = _WHISTLES.get(document)
    if known is None:
        known = (_found_percent(document),)
        _WHISTLES.keep(document, known)
    return known[0]


def _found_percent(document: Filter) -> float | None:
    start = onset(document.network(), cutoff_hz=1000.0)
    if start is None:
        return None
    percent = document.percent_at(start.gain)
    return None if percent > 97.0 else float(min(100.0, percent * PAST_ONSET))


def tracking_request(document: Filter, mode: str, **how: Any) -> TrackingRequest:
    """What one would do with a filter: count its tone where its drawing whistles, else track it by sweeps."""
    percent = whistle_percent(document)
    if percent is not None:
        return TrackingRequest(mode, percent, **how)
    return swept_request(mode, **how)


def swept_request(mode: str, **how: Any) -> TrackingRequest:
    """For a filter without a tone: sweeps over the range they can see, with resonance down."""
    swept = {"start_hz": SWEPT_FROM_HZ, "volts": SWEPT_VOLTS, "by_sweeps": True}
    return TrackingRequest(mode, 0.0, **{**swept, **how})
