"""The findings of a tracking table, in the order in which one asks for them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from jiyuu.measurement.contexts import StepPlace, TrimTurn, UsableRange
from jiyuu.measurement.converter_fit import ConverterFit
from jiyuu.measurement.finding import Finding, Tolerance
from jiyuu.measurement.tracking import Drift, Tracking

CLEAR_CENTS = 10.0  # known so well, a droop or a leakage is worth saying even if it is none


def tracking_findings(
    tracking: Tracking, fit: ConverterFit, turns: Sequence[TrimTurn], held: Drift | None, *,
    worst: Tolerance | None = None, key_follow_percent: float | None = None,
) -> list[Finding]:
    """turns: what is advised; worst: what the largest error is judged by; key_follow_percent: how much of the keys'
    volts was given, None where no keys were played."""
    readings = tracking.readings
    at = int(np.argmax(np.abs(tracking.error_cents)))
    doubt = float(np.hypot(readings.uncertainty_cents[at], readings.uncertainty_cents[0]))
    span, scale = tracking.usable, tracking.scale_v_per_octave
    usable = UsableRange(tracking.tolerance_cents, None, None) if span is None else UsableRange(
        tracking.tolerance_cents, span.from_v, span.to_v, span.octaves)
    found = [
        Finding("tracking_error_cents", float(tracking.error_cents[at]), "cents", doubt, worst,
                StepPlace(float(readings.volts[at]))),
        Finding("usable_span_v", max(0.0, 0.0 if span is None else span.volts), "V", context=usable),
        Finding("scale_v_per_octave", scale.value, "V/oct", scale.uncertainty),
    ]
    if key_follow_percent is not None:
        found.append(Finding("key_follow_percent", key_follow_percent / scale.value, "%",
                             key_follow_percent * scale.uncertainty / scale.value**2))
    for name, value in (("droop_cents", fit.droop_cents), ("leak_cents", fit.leak_cents)):
        # Over half an octave droop and leakage cannot be told from a scale error: nothing is said then.
        if value is not None and value.uncertainty <= max(abs(value.value), CLEAR_CENTS):
            found.append(Finding(name, value.value, "cents", value.uncertainty))
    found += [Finding(f"{turn.trim}_turn", turn.amount, "", context=turn) for turn in turns]
    if np.isfinite(readings.level_v).any():
        level_db = 20 * np.log10(readings.level_v[np.isfinite(readings.level_v)])
        found.append(Finding("tone_flatness_db", float(np.ptp(level_db)), "dB"))
    if held is not None:
        found.append(Finding("drift_cents_per_min", held.rate.value, "cents/min", held.rate.uncertainty))
    return found
