"""What resonance and its control do, and what the next module sees of it."""

from __future__ import annotations

import numpy as np

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
from jiyuu.measurement.resonance_curves import ResonanceCurves
from jiyuu.quantities import shown_hz, signed
from jiyuu.wording.numbers import doubt_text, level_text, percent_text
from jiyuu.wording.quantity import Quantity, context


def _overload(finding: Finding) -> str:
    seen = context(finding, NextModule)
    where = "everywhere on the travel" if finding.value <= 0 else f"above {percent_text(finding.value)}"
    return (f"Overloads the next module (±{seen.limit_v:g} V) {where}, reaching {seen.highest_v:.1f} V; attenuate by "
            f"{abs(seen.trim_db):.1f} dB.")


def _headroom(finding: Finding) -> str:
    seen = context(finding, NextModule)
    return (f"Never overloads the next module (±{seen.limit_v:g} V); worst case {finding.value:.1f} dB of headroom, at "
            f"{percent_text(seen.highest_percent)}.")


def _hump(finding: Finding) -> str:
    place = context(finding, HumpPlace)
    return f"Extra hump {level_text(finding)} at {shown_hz(place.hump_hz)}, {signed(place.octaves)} octaves from the " \
           "cutoff."


def _dead(finding: Finding) -> str:
    where = ", ".join(f"{low:.0f} to {high:.0f} %" for low, high in context(finding, DeadStretches).stretches)
    return f"{percent_text(finding.value)} of the travel does next to nothing: {where}."


QUANTITIES: dict[str, Quantity] = {
    "body_db": Quantity(
        "Body kept",
        lambda f: f"Body {level_text(f)} at {shown_hz(context(f, BodyPlace).body_hz)} against zero resonance.",
        "What turning up resonance does to the part of the sound that the filter lets through.",
        "Level three octaves into the passband, less the same at zero resonance.",
        formula="20·log₁₀ |H_k(fc/8) / H_0(fc/8)|; −20·log₁₀(1 + k) for a ladder without compensation.",
        schools="Bass loss is a fault to some and the sound itself to others: compensation is a parameter.",
    ),
    "output_change_db": Quantity(
        "Output", lambda f: f"Output {level_text(f)} against zero resonance, for {context(f, Played).source}.",
        "How much louder or softer the source comes out.",
        "Power of the source's harmonics or bands behind the response, against the same at zero resonance.",
    ),
    "onset_percent": Quantity(
        "Onset", lambda f: f"Self-oscillates from {f.value:.1f}{doubt_text(f, 1)} % of the travel.",
        "Where the filter begins to whistle by itself.",
        "Predicted: a pole pair reaches the axis. Measured: between the last position at which the sound dies away "
        "and the first at which it does not.",
        formula="1 + k·L(j2πf) = 0 for the loop L; k = 4 at fc for four equal stages.",
    ),
    "taper_evenness_percent": Quantity(
        "Evenness", lambda f: "The busiest tenth of the travel, ending at "
        f"{percent_text(context(f, BusiestTenth).ends_at_percent)}, makes {percent_text(f.value)} of the change "
        "(an even taper: 10 %).",
        "Whether the control does its work evenly or all at once.",
        "Largest share of the whole change of the peak, in dB, in any tenth of the travel below the onset.",
    ),
    "dead_travel_percent": Quantity(
        "Dead travel", _dead, "Turning the control there is not heard.",
        "Stretches of at least 3 % in which the peak moves by less than a twentieth of the average per cent.",
    ),
    "last_stretch_percent": Quantity(
        "Last stretch", lambda f: f"Only {f.value:.1f} % of travel separates a 12 dB peak from self-oscillation.",
        "How much room there is between a strong peak and self-oscillation.",
        "Onset less the position of a 12 dB peak.",
    ),
    "suddenness_db_per_percent": Quantity(
        "Suddenness", lambda f: f"Just before onset the peak grows {f.value:.1f} dB for each 1 % of travel.",
        "How fast the peak grows under the hand just before it whistles.",
        "Peak half a per cent before the onset less that 5 % earlier, per per cent.",
    ),
    "proposed_evenness_percent": Quantity(
        "Proposed taper", lambda f: f"A {context(f, ProposedLaw).taper} would bring that to {percent_text(f.value)}.",
        "What could be built to make the control even.",
        "The same reading with every law of control one can buy and with resistors from the wiper, predicted.",
    ),
    "overload_from_percent": Quantity(
        "Overload", _overload, "From where on the next module is driven over its limit.",
        "Peak volts of the source chosen at each position, simulated with saturation where that has been done.",
    ),
    "headroom_db": Quantity(
        "Headroom", _headroom, "What is left to the limit of the next module at the loudest position.",
        "Limit over the highest peak volts of the source chosen.",
    ),
    "hump_db": Quantity(
        "Extra hump", _hump, "A second rise beside the resonant peak; colours the sound like a second, weaker filter.",
        "Every local maximum that stands out by 1 dB or more.",
    ),
}


def bass_loss(curves: ResonanceCurves, percent: float) -> str:
    """'Resonance 72 %: low end −8.4 dB, peak +11.2 dB at 812 Hz.'"""
    body = curves.at(curves.body_db, percent)
    end = "high end" if curves.kind is Kind.HIGHPASS else "low end"
    nearest = int(np.argmin(np.abs(curves.position_percent - percent)))
    kept = f"{end} kept" if abs(body) < 0.05 else f"{end} {signed(body)} dB"
    peak = curves.peak_db[nearest]
    if curves.kind is Kind.BANDPASS:
        over = curves.at(curves.peak_over_first_db, percent)
        tail = f"peak {abs(over):.1f} dB {'above' if over >= 0 else 'below'} zero resonance"
    elif np.isnan(peak):
        tail = "no peak yet"
    else:
        tail = f"peak {signed(float(peak))} dB at {shown_hz(float(curves.peak_hz[nearest]))}"
    return f"Resonance {percent_text(percent)}: {kept}, {tail}."
