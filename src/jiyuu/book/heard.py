"""What ears are given of the filter in hand: its source as set up, played through it, or its own tone."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import Any

import numpy as np

from jiyuu.book.setup import Setup
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.linear import growth_rate
from jiyuu.circuits.network import FloatArray
from jiyuu.circuits.reach import reach
from jiyuu.errors import SignalError

HEARD_RATE_HZ = 48_000
SETTLING_S = 0.5  # played and thrown away: what is heard has settled
FULL_SCALE_V = 10.0
KNOCK_V, KNOCK_S = 0.05, 0.01
WARNING = "Start low: self-oscillation can be as loud as the source and sits where ears are sharpest."


class Heard(StrEnum):
    FILTER = "filter"
    SOURCE = "source"
    WHISTLE = "own tone"


def standing_hz(setup: Setup, cutoff_hz: float) -> float:
    """Where the cutoff stands with everything that moves it."""
    limits = {"lowest_hz": setup.lowest_hz, "highest_hz": setup.highest_hz}
    return reach(setup.controls(cutoff_hz), **limits).now_hz


def whistles(document: Filter, settings: Mapping[str, Any], setup: Setup) -> bool:
    gain = document.gain_at(settings["resonance_percent"])
    cutoff_hz = standing_hz(setup, settings["cutoff_hz"])
    return growth_rate(document.network(), cutoff_hz=cutoff_hz, gain=gain) > 0


def heard_record(
    document: Filter, settings: Mapping[str, Any], setup: Setup, what: Heard, *, duration_s: float
) -> FloatArray:
    """(n,) re FULL_SCALE_V at HEARD_RATE_HZ, settled, not yet under any ceiling. Raises SignalError for the tone of a
    filter that has none."""
    from jiyuu.signals.source import mixed_record
    from jiyuu.simulation.render import render

    if what is Heard.WHISTLE and not whistles(document, settings, setup):
        raise SignalError("At this resonance the filter does not whistle; turn it past its onset first.")
    whole_s, settling = duration_s + SETTLING_S, round(SETTLING_S * HEARD_RATE_HZ)
    if what is Heard.WHISTLE:
        played = np.zeros(round(whole_s * HEARD_RATE_HZ))
        knock = round(KNOCK_S * HEARD_RATE_HZ)
        played[:knock] = KNOCK_V * np.random.default_rng(5).standard_normal(knock)
    else:
        played = mixed_record(setup.sources(), duration_s=whole_s) * 10 ** (setup.drive_db / 20)
    if what is Heard.SOURCE:
        return np.asarray(played[settling:] / FULL_SCALE_V)
    cutoff_hz = standing_hz(setup, settings["cutoff_hz"])
    output_v = render(
        document.network(), played, sample_rate_hz=HEARD_RATE_HZ, cutoff_hz=cutoff_hz,
        gain=document.gain_at(settings["resonance_percent"]), modes=[settings["mode"]],
        oversampling=4 if cutoff_hz < 5000 else 8,
    ).output_v[0]
    rail_v = document.tolerances.rail_v
    return np.asarray(np.clip(output_v, -rail_v, rail_v)[settling:] / FULL_SCALE_V)
