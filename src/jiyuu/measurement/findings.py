"""A finding: one quantity with its number, unit, uncertainty, tolerance, and where it came from.

Screens, reports, the command line and the logbook all show this value through `sentence`; none formats its own.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import TYPE_CHECKING, Any

import numpy as np

from jiyuu.measurement.curve_reading import CurveReading, Kind, SlopeWindow, read_curve
from jiyuu.measurement.uncertain import COVERAGE
from jiyuu.quantities import note_and_cents, shown_hz, signed

if TYPE_CHECKING:  # measuring brings half of SciPy with it; a window that only shows findings starts without
    from jiyuu.measurement.response import MeasuredResponse


class Verdict(StrEnum):
    """A stamp. UNJUDGED where no tolerance was set; UNCERTAIN where the uncertainty reaches across its edge."""

    UNJUDGED = "noted"
    INSIDE = "in tolerance"
    UNCERTAIN = "too close to say"
    OUTSIDE = "out of tolerance"


@dataclass(frozen=True, slots=True)
class Tolerance:
    low: float
    high: float


@dataclass(frozen=True, slots=True)
class Finding:
    """quantity: one of QUANTITIES. uncertainty: 95 %, same unit. settings: what the filter and rig were set to."""

    quantity: str
    value: float
    unit: str
    uncertainty: float | None = None
    tolerance: Tolerance | None = None
    settings: Mapping[str, Any] = field(default_factory=dict)
    measured: bool = True

    @property
    def verdict(self) -> Verdict:
        if self.tolerance is None:
            return Verdict.UNJUDGED
        doubt = self.uncertainty or 0.0
        low, high = self.tolerance.low, self.tolerance.high
        if low <= self.value - doubt and self.value + doubt <= high:
            return Verdict.INSIDE
        if self.value + doubt < low or self.value - doubt > high:
            return Verdict.OUTSIDE
        return Verdict.UNCERTAIN


@dataclass(frozen=True, slots=True)
class Quantity:
    """How a quantity is named, said, and measured (its help in place)."""

    title: str
    says: Callable[[Finding], str]
    meaning: str
    how: str


def _doubt(finding: Finding, digits: int) -> str:
    if finding.uncertainty is None:
        return ""
    # One significant digit more than the number would promise too much; never print ± 0.
    shown = max(finding.uncertainty, 10.0**-digits / 2)
    places = max(digits, 0)
    text = f"{shown:.{places}f}"
    return f" ± {text if float(text) > 0 else 10.0**-digits:.{places}f}" if float(text) == 0 else f" ± {text}"


def _one_digit(number: float) -> str:
    """One significant digit, rounded up, never with an exponent."""
    if not number > 0.001:
        return "0.001"
    place = math.floor(math.log10(number))
    rounded = math.ceil(number / 10.0**place - 1e-9) * 10.0**place
    place = math.floor(math.log10(rounded) + 1e-9)  # 0.0096 becomes 0.01, not 0.010
    return f"{rounded:.{max(-place, 0)}f}"


def _three_digits(number: float) -> str:
    return f"{number:.0f}" if number >= 100 else f"{number:.3g}"


def _level(finding: Finding) -> str:
    return f"{signed(finding.value)}{_doubt(finding, 1 if (finding.uncertainty or 0) >= 0.05 else 2)} dB"


def _hertz(finding: Finding) -> str:
    note, cents = note_and_cents(finding.value)
    doubt = ""
    if finding.uncertainty is not None:
        doubt = f" ± {_one_digit(100 * finding.uncertainty / finding.value)} %"
    return f"{shown_hz(finding.value)}{doubt} ({note} {signed(cents, 0)} cents)"


def _slope(finding: Finding) -> str:
    return f"{signed(finding.value)}{_doubt(finding, 1 if (finding.uncertainty or 0) >= 0.05 else 2)} dB per octave"


def _latency(finding: Finding) -> str:
    return f"{1e3 * finding.value:.3f} ms"


QUANTITIES: dict[str, Quantity] = {
    "passband_db": Quantity(
        "Passband", lambda f: f"Passband level {_level(f)} re the input.",
        "Level where the filter lets the signal through.",
        "Plateau at the low end (lowpass), the high end (highpass), or the peak (bandpass).",
    ),
    "cutoff_3db_hz": Quantity(
        "Cutoff, −3 dB", lambda f: f"−3 dB cutoff at {_hertz(f)}.",
        "Where half the power is gone; the number on most data sheets.",
        "Last crossing of passband − 3.01 dB on the smoothed curve.",
    ),
    "pole_hz": Quantity(
        "Cutoff, pole", lambda f: f"Pole frequency {_hertz(f)}.",
        "Rate of the tuned stages: what the cutoff control really sets.",
        "The circuit's own response fitted to the measured curve over cutoff, resonance and gain.",
    ),
    "peak_hz": Quantity(
        "Cutoff, peak", lambda f: f"Resonant peak at {_hertz(f)}.",
        "Where the response is highest; what the ear follows in a sweep.",
        "Parabola through the highest point and its neighbours.",
    ),
    "peak_db": Quantity(
        "Peak level", lambda f: f"Peak {_level(f)} re the passband.",
        "How far resonance stands out.", "Highest point less passband.",
    ),
    "q": Quantity(
        "Q", lambda f: f"Q {_three_digits(f.value)}{_doubt(f, 2)} by bandwidth.",
        "Sharpness of the resonance.", "Peak frequency over the distance of its −3 dB points.",
    ),
    "slope_db_per_octave": Quantity(
        "Slope", lambda f: f"Slope {_slope(f)} from 1 to 3 octaves past the cutoff.",
        "How steeply the stopband falls once the knee is over.",
        "Least squares of dB on octaves, equal weight per octave, points with more than 10 dB of SNR.",
    ),
    "low_slope_db_per_octave": Quantity(
        "Slope below", lambda f: f"Lower slope {_slope(f)} from 3 to 1 octaves under the lower cutoff.",
        "How steeply a bandpass falls towards the bass.", "As the slope, on the lower side.",
    ),
    "first_octave_drop_db": Quantity(
        "First octave", lambda f: f"First octave past the cutoff drops {_level(f).lstrip('+')}.",
        "What the ear hears of the slope: the knee, not the asymptote.",
        "Level at the −3 dB point less level one octave on.",
    ),
    "low_3db_hz": Quantity(
        "Lower −3 dB", lambda f: f"Lower −3 dB point at {_hertz(f)}.",
        "Where half the power is gone on the low side.", "Crossing of the reference level − 3.01 dB.",
    ),
    "high_3db_hz": Quantity(
        "Upper −3 dB", lambda f: f"Upper −3 dB point at {_hertz(f)}.",
        "Where half the power is gone on the high side.", "Crossing of the reference level − 3.01 dB.",
    ),
    "notch_hz": Quantity(
        "Notch", lambda f: f"Notch at {_hertz(f)}.", "Where the response is deepest.",
        "Both flanks continued to where they meet.",
    ),
    "notch_depth_db": Quantity(
        "Notch depth", lambda f: f"Notch {_level(f).lstrip('+')} deep.", "How much is taken out at the notch.",
        "Plateau less the lowest point; a noisy record makes it look shallower.",
    ),
    "polarity": Quantity(
        "Polarity", lambda f: "Polarity kept." if f.value > 0 else "Polarity inverted.",
        "Whether the output follows the input or its mirror image; decides how two outputs add.",
        "Sign of the gain beside its minimum phase.",
    ),
    "phase_deg": Quantity(
        "Phase at cutoff", lambda f: f"Phase {signed(f.value, 0)}°{_doubt(f, 1)} at the cutoff set.",
        "How far the output lags (−) or leads (+) there.", "Angle of the measured gain, latency taken out.",
    ),
    "latency_s": Quantity(
        "Latency", lambda f: f"Latency of the rig {_latency(f)}.",
        "Pure delay of converters and cables, taken out of the phase.",
        "Delay beside the minimum phase of the measured level.",
    ),
    "clock_offset_ppm": Quantity(
        "Clock offset", lambda f: f"Recorder clock {signed(f.value, 1)} ppm against the player, corrected.",
        "Player and recorder never run at quite the same rate.", "Distance between two equal sweeps in the recording.",
    ),
    "noise_floor_db": Quantity(
        "Noise floor", lambda f: f"Noise {signed(f.value, 0)} dB re the recording.",
        "How far down the recording can be trusted before averaging.", "Difference of two equal passages.",
    ),
}


def sentence(finding: Finding) -> str:
    """The one place where a finding becomes words."""
    text = QUANTITIES[finding.quantity].says(finding)
    if finding.tolerance is None or finding.verdict is Verdict.UNJUDGED:
        return text
    low, high = finding.tolerance.low, finding.tolerance.high
    return f"{text[:-1]}: {finding.verdict.value} ({low:g} to {high:g} {finding.unit})."


READ_FROM_CURVE = (
    ("cutoff_3db_hz", "Hz"), ("peak_hz", "Hz"), ("slope_db_per_octave", "dB/oct"), ("first_octave_drop_db", "dB"),
    ("passband_db", "dB"), ("peak_db", "dB"), ("q", ""), ("low_3db_hz", "Hz"), ("high_3db_hz", "Hz"),
    ("low_slope_db_per_octave", "dB/oct"), ("notch_hz", "Hz"), ("notch_depth_db", "dB"),
)


@dataclass(frozen=True, slots=True, eq=False)
class ReadResponse:
    """A measured curve, what was read from it, and the 95 % uncertainty of each value read."""

    reading: CurveReading
    uncertainty: Mapping[str, float]


def read_response(response: MeasuredResponse, *, window: SlopeWindow | None = None) -> ReadResponse:
    """Read the curve and, from the draws of its noise, how far each value might be off."""
    usable = response.snr_db > 10
    doubt = response.level_uncertainty_db
    reading = read_curve(
        response.frequency_hz, response.level_db, usable=usable, level_uncertainty_db=doubt, window=window
    )
    values: dict[str, list[float]] = {name: [] for name, _ in READ_FROM_CURVE}
    for draw in response.draws:
        level = 20 * np.log10(np.maximum(np.abs(draw), 1e-20))
        other = read_curve(response.frequency_hz, level, usable=usable, window=window, kind=reading.kind)
        for name in values:
            value = getattr(other, name)
            if value is not None:
                values[name].append(value)
    uncertainty = {}
    for name, found in values.items():
        centre = getattr(reading, name)
        if centre is None:
            continue
        if len(found) >= len(response.draws) // 2:
            # About the value read, not the mean of the draws: a maximum of noisy curves is biased, and that counts.
            uncertainty[name] = COVERAGE * float(np.sqrt(np.mean((np.array(found) - centre) ** 2)))
    return ReadResponse(reading, uncertainty)


def response_findings(
    response: MeasuredResponse, read: ReadResponse, settings: Mapping[str, Any]
) -> tuple[Finding, ...]:
    """The findings of a measured response, in the order in which one asks for them."""
    findings = []
    edge = read.reading.kind in (Kind.LOWPASS, Kind.HIGHPASS)
    for name, unit in READ_FROM_CURVE:
        value = getattr(read.reading, name)
        if value is None or (edge and name in ("low_3db_hz", "high_3db_hz")):
            continue
        findings.append(Finding(name, value, unit, read.uncertainty.get(name), settings=settings))
    cutoff_hz = settings.get("cutoff_hz")
    if cutoff_hz and response.frequency_hz[0] < cutoff_hz < response.frequency_hz[-1]:
        place = int(np.argmin(np.abs(response.frequency_hz - cutoff_hz)))
        if response.snr_db[place] > 10:
            angle = float(np.rad2deg(np.angle(response.gain[place])))
            share = response.deviation[place] / abs(response.gain[place]) / np.sqrt(2)
            findings.append(
                Finding("phase_deg", angle, "°", COVERAGE * float(np.rad2deg(share)), settings=settings)
            )
    findings.append(Finding("polarity", float(response.polarity), "", settings=settings))
    findings.append(
        Finding("latency_s", response.latency_s.value, "s", response.latency_s.uncertainty, settings=settings)
    )
    if response.clock_offset_ppm is not None:
        offset = response.clock_offset_ppm
        findings.append(Finding("clock_offset_ppm", offset.value, "ppm", offset.uncertainty, settings=settings))
    findings.append(Finding("noise_floor_db", response.noise_floor_db, "dB", settings=settings))
    return tuple(findings)
