"""The findings of a measured response: the curve read, and from the draws of its noise how far each may be off."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.measurement.curve_reading import CurveReading, Kind, SlopeWindow, read_curve
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.uncertain import COVERAGE, FEW_DRAWS, UNSURE

if TYPE_CHECKING:  # measuring brings half of SciPy with it; a window that only shows findings starts without
    from jiyuu.measurement.response import MeasuredResponse

READ_FROM_CURVE = (
    ("cutoff_3db_hz", "Hz"), ("peak_hz", "Hz"), ("slope_db_per_octave", "dB/oct"), ("first_octave_drop_db", "dB"),
    ("passband_db", "dB"), ("peak_db", "dB"), ("q", ""), ("low_3db_hz", "Hz"), ("high_3db_hz", "Hz"),
    ("low_slope_db_per_octave", "dB/oct"), ("notch_hz", "Hz"), ("notch_depth_db", "dB"),
)
FLOOR, SLOPE_FLOOR = 3e-6, 2e-5  # dB, or what else it is: no record was ever read more nearly
NORMAL_95 = 1.96
CLOCK_PPM = 0.005  # what a clock offset may be off by while it stands still, whatever its own scatter: 0.0005 was seen
HEARD = 0.22  # of a gain, that noise may be so that its phase is said: 10 dB
ANY_WAY = np.pi / 2  # rad of uncertainty, from which on nothing is said
DEEP, IN_DIPS = 0.1, 1e-4  # of the loudest gain; what bends least still leaves as much of it where little gets through
UNTOLD_SHARE = 3e-3  # of a gain, that may be compressed where no network explains the curve and no harmonic tells
ALONE = 1.6  # the same where one passage tells neither its own noise nor the clock


@dataclass(frozen=True, slots=True, eq=False)
class ReadResponse:
    """A measured curve, what was read from it, the 95 % uncertainty of each value read, and what is
    wrong with it; None where a fault has moved a value too far."""

    reading: CurveReading
    uncertainty: Mapping[str, float]
    notices: tuple[Notice, ...] = ()


def read_response(response: MeasuredResponse, *, window: SlopeWindow | None = None) -> ReadResponse:
    """Read the curve and, from the draws of its noise, how far each value might be off."""
    from jiyuu.measurement.doubts import doubts_of, withdrawn
    from jiyuu.measurement.extended import Extended, extended
    from jiyuu.measurement.response import WANDERS_PPM

    whole = extended(response)
    band = (float(response.frequency_hz[0]), float(response.frequency_hz[-1]))
    doubt = np.interp(whole.frequency_hz, response.frequency_hz, response.level_uncertainty_db)
    within = None if whole.exact is None else band

    def again(curve: Extended) -> CurveReading:
        return read_curve(curve.frequency_hz, curve.level_db, usable=curve.usable, window=window, kind=reading.kind,
                          with_humps=False, exact=curve.exact, slopes_within_hz=within)

    reading = read_curve(
        whole.frequency_hz, whole.level_db, usable=whole.usable, level_uncertainty_db=doubt, window=window,
        kind=whole.kind, exact=whole.exact, slopes_within_hz=within,
    )
    values: dict[str, list[float]] = {name: [] for name, _ in READ_FROM_CURVE}
    for level, exact in whole.draws:
        other = again(replace(whole, level_db=level, exact=exact))
        for name in values:
            value = getattr(other, name)
            if value is not None:
                values[name].append(value)
    doubts = doubts_of(response, whole, reading, tuple(values), again)
    uncertainty = {}
    told = response.passages > 1 or (response.steady and response.network is not None)
    evened = response.coherence is None and not response.steady
    unsure = ALONE if not told else UNSURE if evened else FEW_DRAWS
    for name, found in values.items():
        centre = getattr(reading, name)
        if centre is None or name in doubts.withdrawn:
            continue
        if len(found) >= len(response.draws) // 2:
            # About the value read, not the mean of the draws: a maximum of noisy curves is biased, and that counts.
            stated = unsure * _usual(np.abs(np.array(found) - centre))
            if not name.endswith("_hz"):
                stated = float(np.hypot(stated, SLOPE_FLOOR if "slope" in name else FLOOR))
            elif response.clock_offset_ppm is not None:
                own_ppm = response.clock_offset_ppm.uncertainty
                clock_ppm = own_ppm if own_ppm > WANDERS_PPM else CLOCK_PPM
                stated = float(np.hypot(stated, 1e-6 * clock_ppm * centre))
            uncertainty[name] = stated + doubts.wider.get(name, 0.0)
    notices = (*response.notices, *doubts.notices)
    return ReadResponse(withdrawn(reading, doubts.withdrawn), uncertainty, notices)


def _usual(apart: FloatArray) -> float:
    """95 % of what deviations (d,) scatter by. Their mean square tells it better than the few that are largest; but one
    that went to another peak altogether must not speak for all."""
    largest = float(np.quantile(apart, 0.95))
    return NORMAL_95 * float(np.sqrt(np.mean(np.minimum(apart, 2 * largest) ** 2)))


def response_findings(
    response: MeasuredResponse, read: ReadResponse, *, cutoff_hz: float | None = None
) -> tuple[Finding, ...]:
    """The findings of a measured response, in the order in which one asks for them. cutoff_hz: what was set, where the
    phase is asked for."""
    findings = []
    edge = read.reading.kind in (Kind.LOWPASS, Kind.HIGHPASS)
    for name, unit in READ_FROM_CURVE:
        value = getattr(read.reading, name)
        if value is None or (edge and name in ("low_3db_hz", "high_3db_hz")):
            continue
        findings.append(Finding(name, value, unit, read.uncertainty.get(name)))
    if cutoff_hz and response.frequency_hz[0] < cutoff_hz < response.frequency_hz[-1]:
        phase = _phase_at(cutoff_hz, response, read)
        if phase is not None:
            findings.append(phase)
    if response.polarity is not None:
        findings.append(Finding("polarity", float(response.polarity), ""))
    findings.append(
        Finding("latency_s", response.latency_s.value, "s", response.latency_s.uncertainty)
    )
    if response.clock_offset_ppm is not None:
        offset = response.clock_offset_ppm
        findings.append(Finding("clock_offset_ppm", offset.value, "ppm", offset.uncertainty))
    findings.append(Finding("noise_floor_db", response.noise_floor_db, "dB"))
    return tuple(findings)


def _phase_at(hertz: float, response: MeasuredResponse, read: ReadResponse) -> Finding | None:
    """None where hardly anything is heard there, or where it may be any."""
    octave, at = np.log2(response.frequency_hz), np.log2(hertz)
    own, there = np.ones(octave.size, dtype=complex), 1.0 + 0.0j
    if response.network is not None:  # which turns much faster than what it leaves, from one point to the next
        own, there = response.network.fit.at(response.frequency_hz), response.network.fit.at(np.array([hertz]))[0]
    left = response.gain / np.where(own == 0, 1e-300, own)
    size = float(np.interp(at, octave, np.abs(left))) * abs(there)
    share = float(np.interp(at, octave, response.deviation)) / max(size, 1e-20) / np.sqrt(2)
    if share > HEARD:
        return None
    turned = float(np.interp(at, octave, np.unwrap(np.angle(left)))) + float(np.angle(there))
    loudest = float(np.abs(response.gain).max())
    pressed = _pressed_share(response, read, size < DEEP * loudest) * loudest / size
    doubt = float(np.linalg.norm([
        COVERAGE * share, 2 * np.pi * hertz * response.delay_doubt_s, np.arcsin(min(2 * pressed, 1.0))]))
    if doubt > ANY_WAY:
        return None
    return Finding("phase_deg", float(np.rad2deg(np.angle(np.exp(1j * turned)))), "°", float(np.rad2deg(doubt)))


def _pressed_share(response: MeasuredResponse, read: ReadResponse, deep: bool) -> float:
    """Of the loudest gain, what a unit that compresses may have changed; deep: in a dip."""
    told_db = [float(notice.facts.get("db", 0.0)) for notice in read.notices if notice.fault is Fault.COMPRESSED]
    least = UNTOLD_SHARE if response.network is None and not response.network_unasked else 0.0
    return max([least, IN_DIPS if deep else 0.0, *(10 ** (db / 20) - 1 for db in told_db if np.isfinite(db))])
