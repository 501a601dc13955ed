"""The findings of the Resonance step, from a study of a filter's drawing or of measured curves."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.measurement.context import Context
from jiyuu.measurement.contexts import (
    BodyPlace,
    BusiestTenth,
    DeadStretches,
    HumpPlace,
    NextModule,
    Played,
    ProposedLaw,
)
from jiyuu.measurement.curve_reading import Kind
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.resonance_curves import Overload, ResonanceCurves
from jiyuu.measurement.taper import TaperReading


def position_findings(curves: ResonanceCurves, percent: float, *, measured: bool) -> list[Finding]:
    """What resonance does at one position: body, peak, sharpness, extra humps."""

    def finding(quantity: str, value: float, unit: str, context: Context | None = None) -> Finding:
        return Finding(quantity, value, unit, context=context, measured=measured)

    nearest = int(np.argmin(np.abs(curves.position_percent - percent)))
    found = [finding("body_db", curves.at(curves.body_db, percent), "dB", BodyPlace(curves.body_hz))]
    if not np.isnan(curves.peak_hz[nearest]):
        if curves.kind is not Kind.BANDPASS:
            found.append(finding("peak_db", float(curves.peak_db[nearest]), "dB"))
        found.append(finding("peak_hz", float(curves.peak_hz[nearest]), "Hz"))
    if not np.isnan(curves.q[nearest]):
        found.append(finding("q", float(curves.q[nearest]), ""))
    for hump in curves.humps[nearest]:
        if hump.octaves_from_cutoff is not None:
            place = HumpPlace(hump.frequency_hz, hump.octaves_from_cutoff)
            found.append(finding("hump_db", hump.level_db, "dB", place))
    return found


def control_findings(
    taper: TaperReading | None, onset_percent: float | None, *, measured: bool, onset_uncertainty: float | None = None,
    proposed: tuple[str, float] | None = None,
) -> list[Finding]:
    """What the control is like: onset, evenness, dead travel, the last stretch; proposed: a more even law by name, with
    its evenness."""
    found = []

    def add(quantity: str, value: float | None, unit: str, context: Context | None = None) -> None:
        if value is not None:
            found.append(Finding(quantity, value, unit, context=context, measured=measured))

    if onset_percent is not None:
        found.append(Finding("onset_percent", onset_percent, "%", onset_uncertainty, measured=measured))
    if taper is None:
        return found
    add("taper_evenness_percent", 100 * taper.evenness, "%", BusiestTenth(taper.steepest_percent))
    if proposed is not None and proposed[1] < taper.evenness - 0.02:
        add("proposed_evenness_percent", 100 * proposed[1], "%", ProposedLaw(proposed[0]))
    if taper.dead:
        stretches = tuple((stretch.from_percent, stretch.to_percent) for stretch in taper.dead)
        add("dead_travel_percent", taper.dead_percent, "%", DeadStretches(stretches))
    add("last_stretch_percent", taper.last_stretch_percent, "%")
    add("suddenness_db_per_percent", taper.suddenness_db_per_percent, "dB/%")
    return found


def output_findings(
    position_percent: FloatArray, output_db: FloatArray, over: Overload, percent: float, *, source: str, limit_v: float,
    measured: bool,
) -> list[Finding]:
    """What comes out: the source's level at one position re no resonance, and what the next module sees."""
    change = float(np.interp(percent, position_percent, output_db - output_db[0]))
    seen = NextModule(limit_v, over.highest_v, over.highest_percent, over.trim_db)
    found = [Finding("output_change_db", change, "dB", context=Played(source, limit_v), measured=measured)]
    if over.from_percent is not None:
        found.append(Finding("overload_from_percent", over.from_percent, "%", context=seen, measured=measured))
    else:
        left = abs(float(20 * np.log10(limit_v / max(over.highest_v, 1e-9))))
        found.append(Finding("headroom_db", left, "dB", context=seen, measured=measured))
    return found
