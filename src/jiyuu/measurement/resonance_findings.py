"""The findings of the Resonance step, from a study of a filter's drawing or of measured curves."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from jiyuu.circuits.network import FloatArray
from jiyuu.measurement.curve_reading import Kind
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.resonance_curves import Overload, ResonanceCurves
from jiyuu.measurement.taper import ProposedTaper, TaperReading


def position_findings(
    curves: ResonanceCurves, percent: float, settings: Mapping[str, Any], *, measured: bool
) -> list[Finding]:
    """What resonance does at one position: body, peak, sharpness, extra humps."""
    made_with = {**settings, "resonance_percent": percent, "body_hz": curves.body_hz}

    def finding(quantity: str, value: float, unit: str, **more: Any) -> Finding:
        return Finding(quantity, value, unit, settings={**made_with, **more}, measured=measured)

    nearest = int(np.argmin(np.abs(curves.position_percent - percent)))
    found = [finding("body_db", curves.at(curves.body_db, percent), "dB")]
    if not np.isnan(curves.peak_hz[nearest]):
        if curves.kind is not Kind.BANDPASS:
            found.append(finding("peak_db", float(curves.peak_db[nearest]), "dB"))
        found.append(finding("peak_hz", float(curves.peak_hz[nearest]), "Hz"))
    if not np.isnan(curves.q[nearest]):
        found.append(finding("q", float(curves.q[nearest]), ""))
    for hump in curves.humps[nearest]:
        if hump.octaves_from_cutoff is not None:
            found.append(finding("hump_db", hump.level_db, "dB", hump_hz=hump.frequency_hz,
                                 octaves=hump.octaves_from_cutoff))
    return found


def control_findings(
    taper: TaperReading | None, proposals: tuple[ProposedTaper, ...], onset_percent: float | None,
    settings: Mapping[str, Any], *, measured: bool, onset_uncertainty: float | None = None,
) -> list[Finding]:
    """What the control is like: onset, evenness, dead travel, the last stretch, and what would be more even."""
    found = []

    def add(quantity: str, value: float | None, unit: str, **more: Any) -> None:
        if value is not None:
            found.append(Finding(quantity, value, unit, settings={**settings, **more}, measured=measured))

    if onset_percent is not None:
        found.append(Finding("onset_percent", onset_percent, "%", onset_uncertainty, settings=settings,
                             measured=measured))
    if taper is None:
        return found
    add("taper_evenness_percent", 100 * taper.evenness, "%", ends_at_percent=taper.steepest_percent)
    if proposals and proposals[0].evenness < taper.evenness - 0.02:
        add("proposed_evenness_percent", 100 * proposals[0].evenness, "%", taper=proposals[0].name)
    where = ", ".join(f"{stretch.from_percent:.0f} to {stretch.to_percent:.0f} %" for stretch in taper.dead)
    if taper.dead:
        add("dead_travel_percent", taper.dead_percent, "%", where=where)
    add("last_stretch_percent", taper.last_stretch_percent, "%")
    add("suddenness_db_per_percent", taper.suddenness_db_per_percent, "dB/%")
    return found


def output_findings(
    position_percent: FloatArray, output_db: FloatArray, over: Overload, percent: float, settings: Mapping[str, Any],
    *, source: str, limit_v: float, measured: bool,
) -> list[Finding]:
    """What comes out: the source's level at one position re no resonance, and what the next module sees."""
    change = float(np.interp(percent, position_percent, output_db - output_db[0]))
    made_with = {**settings, "source": source, "limit_v": limit_v, "highest_v": over.highest_v,
                 "highest_percent": over.highest_percent, "trim_db": over.trim_db}
    found = [Finding("output_change_db", change, "dB", settings=made_with, measured=measured)]
    if over.from_percent is not None:
        found.append(Finding("overload_from_percent", over.from_percent, "%", settings=made_with, measured=measured))
    else:
        left = abs(float(20 * np.log10(limit_v / max(over.highest_v, 1e-9))))
        found.append(Finding("headroom_db", left, "dB", settings=made_with, measured=measured))
    return found
