"""The findings of the Self-oscillation step."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from jiyuu.circuits.network import FloatArray
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.tone import MeasuredTone
from jiyuu.measurement.uncertain import Uncertain
from jiyuu.measurement.whistle import Cusp


def oscillation_findings(
    onset_percent: Uncertain, tone: MeasuredTone, start_up_s: float | None, pull_cents: FloatArray, range_v: FloatArray,
    cusp: Cusp | None, settings: Mapping[str, Any],
) -> list[Finding]:
    """In the order in which one asks for them; what was not measured is left out."""
    base = dict(settings)
    found = [
        Finding("onset_percent", onset_percent.value, "%", onset_percent.uncertainty, settings=base),
        Finding("tone_hz", tone.frequency_hz.value, "Hz", tone.frequency_hz.uncertainty, settings=base),
        Finding("tone_v", tone.amplitude_peak_v, "V", settings=base),
        Finding("tone_thd_percent", tone.thd_percent, "%", settings=base),
    ]
    if start_up_s is not None:
        found.append(Finding("start_up_s", start_up_s, "s", settings=base))
    if pull_cents.size > 1:
        found.append(Finding("pitch_pull_cents", float(pull_cents[-1]), "cents", settings=base))
    if range_v.size > 1:
        found.append(Finding("tone_flatness_db", float(20 * np.log10(range_v.max() / range_v.min())), "dB",
                             settings=base))
    if cusp is not None:
        found += cusp_findings(cusp, base)
    return found


def cusp_findings(cusp: Cusp, settings: Mapping[str, Any]) -> list[Finding]:
    """Where the whistle sits beside the source, and what it does at the end of the control."""
    base = {**settings, "target_db": cusp.target_db, "caught_percent": cusp.caught_percent, "last_db": cusp.last_db}
    found = []
    if cusp.percent is not None:
        found.append(Finding("cusp_percent", cusp.percent, "%", settings={
            **base, "percent_per_db": cusp.percent_per_db, "at_db": cusp.level_db, "caught": cusp.caught,
            "jumps": abs((cusp.level_db or 0.0) - cusp.target_db) > 0.5}))
    found.append(Finding("whistle_at_end_db", cusp.full_db, "dB", settings=base))
    return found
