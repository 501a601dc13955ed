"""The findings of a tracking table, in the order in which one asks for them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from jiyuu.measurement.finding import Finding, Tolerance
from jiyuu.measurement.tracking import Drift, Tracking
from jiyuu.measurement.tracking_advice import Advice, span_words

CLEAR_CENTS = 10.0  # known so well, a droop or a leakage is worth saying even if it is none


def tracking_findings(
    tracking: Tracking, advice: Advice | None, held: Drift | None, settings: Mapping[str, Any], *,
    worst: Tolerance | None = None,
) -> list[Finding]:
    """worst: what the largest error is judged by."""
    readings, base = tracking.readings, dict(settings)
    at = int(np.argmax(np.abs(tracking.error_cents)))
    doubt = float(np.hypot(readings.uncertainty_cents[at], readings.uncertainty_cents[0]))
    found = [
        Finding("tracking_error_cents", float(tracking.error_cents[at]), "cents", doubt, worst,
                {**base, "at_v": float(readings.volts[at])}),
        Finding("usable_span_v", max(0.0, 0.0 if tracking.usable is None else tracking.usable.volts), "V",
                settings={**base, "where": span_words(tracking.usable),
                          "after": span_words(None if advice is None else advice.after.usable)}),
        Finding("scale_v_per_octave", tracking.scale_v_per_octave.value, "V/oct",
                tracking.scale_v_per_octave.uncertainty, settings=base),
    ]
    asked = base.get("key_follow_percent")
    if asked is not None:
        scale = tracking.scale_v_per_octave
        found.append(Finding("key_follow_percent", asked / scale.value, "%",
                             asked * scale.uncertainty / scale.value**2, settings=base))
    if advice is not None:
        fit = advice.fit
        for name, value in (("droop_cents", fit.droop_cents), ("leak_cents", fit.leak_cents)):
            # Over half an octave droop and leakage cannot be told from a scale error: nothing is said then.
            if value is not None and value.uncertainty <= max(abs(value.value), CLEAR_CENTS):
                found.append(Finding(name, value.value, "cents", value.uncertainty, settings=base))
        found += [Finding(f"{turn.trim.value}_turn", turn.amount, "", settings={**base, "said": turn.sentence})
                  for turn in advice.turns]
    if np.isfinite(readings.level_v).any():
        level_db = 20 * np.log10(readings.level_v[np.isfinite(readings.level_v)])
        found.append(Finding("tone_flatness_db", float(np.ptp(level_db)), "dB", settings=base))
    if held is not None:
        found.append(Finding("drift_cents_per_min", held.rate.value, "cents/min", held.rate.uncertainty, settings=base))
    return found
