"""The findings of the Modulation step that pings and steps give."""

from __future__ import annotations

import numpy as np

from jiyuu.measurement.contexts_moving import CutoffStepped, Struck
from jiyuu.measurement.finding import Finding, Tolerance
from jiyuu.measurement.ping import Ping
from jiyuu.measurement.settling import GLIDE_S, SettledStep
from jiyuu.measurement.uncertain import Uncertain


def ping_findings(pings: tuple[Ping, ...], struck: Struck) -> list[Finding]:
    """Means over all pulses; their uncertainty is that of one where they agree, else what they scatter."""
    found = []
    for quantity, unit, values in (
        ("ring_hz", "Hz", [ping.frequency_hz for ping in pings]), ("ring_t60_s", "s", [ping.t60_s for ping in pings]),
        ("ring_q", "", [ping.q for ping in pings]), ("first_peak_v", "V", [ping.first_peak_v for ping in pings]),
    ):
        known = [value for value in values if value is not None]
        if known:
            mean, doubt = _together(known)
            found.append(Finding(quantity, mean, unit, doubt, context=struck))
    pedestals = [ping.pedestal_v for ping in pings if ping.pedestal_v is not None]
    if pedestals:
        found.append(Finding("pedestal_v", float(np.mean(pedestals)), "V", context=struck))
    rebounds = [ping.rebound_v for ping in pings if ping.rebound_v is not None]
    if rebounds and abs(np.mean(rebounds)) > 0.01 * abs(np.mean(pedestals)):
        found.append(Finding("rebound_v", float(np.mean(rebounds)), "V", context=struck))
    return found


def _together(values: list[Uncertain]) -> tuple[float, float]:
    mean = float(np.mean([value.value for value in values]))
    stated = float(np.sqrt(np.mean([value.uncertainty**2 for value in values]) / len(values)))
    scatter = 2 * float(np.std([value.value for value in values], ddof=1)) / np.sqrt(len(values)) if len(
        values) > 1 else 0.0
    return mean, max(stated, scatter)


def settling_findings(steps: tuple[SettledStep, ...]) -> list[Finding]:
    """The slowest step, the one that goes farthest past its goal, and what couples over for a volt."""
    if not steps:
        return []
    slowest = max(steps, key=lambda step: step.settling_s)
    wildest = max(steps, key=lambda step: step.overshoot_cents)
    volts = np.array([np.log2(step.to_hz / step.from_hz) for step in steps])
    coupled = np.array([step.feedthrough_v for step in steps])
    each = float(volts @ coupled / (volts @ volts))
    doubt = 2 * float(np.std(coupled - each * volts)) / float(np.sqrt(volts @ volts))

    # Where a period is longer than a glide that is heard, nothing finer can be asked.
    longest_s = GLIDE_S if slowest.resolution_s < GLIDE_S else float(f"{1.05 * slowest.resolution_s:.2g}")

    def at(step: SettledStep) -> CutoffStepped:
        return CutoffStepped(step.from_hz, step.to_hz, step.resolution_s)

    return [
        Finding("settling_s", slowest.settling_s, "s", tolerance=Tolerance(0.0, longest_s), context=at(slowest)),
        Finding("overshoot_cents", wildest.overshoot_cents, "cents", context=at(wildest)),
        Finding("feedthrough_v_per_v", each, "V/V", doubt),
    ]
