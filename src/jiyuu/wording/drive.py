"""What driving a filter does: distortion, compression, what resonance and the whistle become, the level made good."""

from __future__ import annotations

from jiyuu.measurement.contexts import (
    BehindTrim,
    CurveBehind,
    DrivenTone,
    DryMixed,
    FirstToBend,
    LampAt,
    OutputFedBack,
    PeakDriven,
    TonePair,
    WhistleStopped,
)
from jiyuu.measurement.finding import Finding
from jiyuu.quantities import shown_hz, signed
from jiyuu.wording.numbers import one_digit, percent_text, stated, three_digits
from jiyuu.wording.quantity import Quantity, context

FINEST_SHARE = 1e-3  # of a distortion, that its uncertainty is said to be
CURVES = {"tanh": "soft", "asinh": "diode", "clip": "hard", "fold": "folding"}


def _percent(finding: Finding) -> str:
    if finding.uncertainty is None:
        return _share(finding.value)
    return stated(finding.value, max(finding.uncertainty, FINEST_SHARE * finding.value))


def _volts(volts: float) -> str:
    return f"{three_digits(volts)} V" if volts >= 0.1 else f"{three_digits(1000 * volts)} mV"


def _share(percent: float) -> str:
    return three_digits(percent) if percent >= 0.001 else "0"


def _level(finding: Finding) -> str:
    doubt = "" if finding.uncertainty is None else f" ± {one_digit(100 * finding.uncertainty / finding.value)} %"
    return f"{_volts(finding.value)}{doubt} peak"


def _thd(finding: Finding) -> str:
    tone = context(finding, DrivenTone)
    return (f"THD {_percent(finding)} % at {_volts(tone.level_v)}, "
            f"{shown_hz(tone.frequency_hz)} (even {_share(tone.even_percent)}, odd "
            f"{_share(tone.odd_percent)} %; gain {signed(tone.gain_db)} dB).")


def _first(finding: Finding) -> str:
    first = context(finding, FirstToBend)
    undone = ", part of which the others undo" if finding.value > 100.5 else ""
    text = f"First to bend: {first.branch}, with {percent_text(finding.value)} of the distortion at " \
           f"{_volts(first.level_v)}{undone}."
    if first.thd_1_percent_v is None:
        return text
    then = "1 % is not reached" if first.larger_thd_1_percent_v is None else \
        f"1 % THD at {_volts(first.larger_thd_1_percent_v)}"
    return f"{text} Twice its headroom: {then}, for {_volts(first.thd_1_percent_v)}."


def _pair(finding: Finding) -> str:
    pair = context(finding, TonePair)
    order = "second" if finding.quantity == "difference_2_percent" else "third"
    return (f"Two tones, {shown_hz(pair.low_hz)} and {shown_hz(pair.high_hz)} at {_volts(pair.level_v)} each: products "
            f"of {order} order {_percent(finding)} %.")


def _peak(finding: Finding) -> str:
    driven = context(finding, PeakDriven)
    way = "loses" if finding.value <= 0 else "gains"
    return (f"Driven from {_volts(driven.from_v)} to {_volts(driven.to_v)} the peak {way} {abs(finding.value):.1f} dB "
            f"and moves {signed(driven.cents, 0)} cents.")


def _stopped(finding: Finding) -> str:
    tone = context(finding, WhistleStopped)
    return (f"At {percent_text(tone.position_percent)} a tone of {shown_hz(tone.frequency_hz)} stops the whistle from "
            f"{_level(finding)} on; one of {shown_hz(tone.easiest_hz)} does from {_volts(tone.easiest_v)}.")


def _fed_back(finding: Finding) -> str:
    back = context(finding, OutputFedBack)
    if back.rings_amount is None or back.rings_hz is None:
        rings = "no amount of that sign rings"
    elif back.rings_hz == 0:
        rings = f"from {signed(back.rings_amount, 2)} it sticks at DC"
    else:
        rings = f"from {signed(back.rings_amount, 2)} it rings at {shown_hz(back.rings_hz)}"
    if back.thd_percent is not None and back.thd_without is not None:
        return (f"Output fed back by {signed(back.amount, 2)}: THD {three_digits(back.thd_percent)} % at "
                f"{_volts(back.level_v)}, {three_digits(back.thd_without)} % without; {rings}.")
    if back.settles_v is None:
        return f"Output fed back by {signed(back.amount, 2)} runs away, since nothing in the loop limits it; {rings}."
    return f"Output fed back by {signed(back.amount, 2)} oscillates, at {_volts(back.settles_v)} peak; {rings}."


def _behind(finding: Finding) -> str:
    curve = context(finding, CurveBehind)
    side = "stronger driven" if finding.value > 0 else "weaker driven"
    return (f"The same {three_digits(curve.thd_percent)} % behind the filter: a {CURVES.get(curve.curve, curve.curve)} "
            f"curve of {_volts(curve.headroom_v)} headroom; harmonic {curve.harmonic} differs most, by "
            f"{abs(finding.value):.1f} dB, {side}.")


def _good(finding: Finding) -> str:
    behind = context(finding, BehindTrim)
    left = f"{behind.left_db:.1f} dB left to" if behind.left_db >= 0 else f"{-behind.left_db:.1f} dB over"
    return (f"A trim of {signed(finding.value)} dB behind it makes it as loud as its source; true peak then "
            f"{_volts(behind.peak_v)}, {left} the next module's ±{behind.limit_v:g} V.")


def _dry(finding: Finding) -> str:
    mixed = context(finding, DryMixed)
    return (f"With {percent_text(mixed.dry_percent)} dry, phase takes {finding.value:.1f} dB away at "
            f"{shown_hz(mixed.frequency_hz)}.")


QUANTITIES: dict[str, Quantity] = {
    "driven_thd_percent": Quantity(
        "THD at nominal level", _thd,
        "How much of what comes out was not in the tone that went in: growl, grit, warmth.",
        "A sine of the nominal peak level, settled; harmonics 2 to 20 by least squares, the noise's share taken off.",
        formula="√(h₂² + … + h₂₀²)/h₁ (IEC 60268-3).",
        schools="Some relate to all that comes out instead of the first harmonic; below 10 % both agree to half a per "
                "cent of it.",
    ),
    "thd_n_percent": Quantity(
        "THD+N", lambda f: f"THD+N {_percent(f)} % at "
        f"{_volts(context(f, DrivenTone).level_v)}.",
        "Distortion with the noise: what a distortion meter shows.",
        "Everything from 20 Hz to 20 kHz that is not the first harmonic, re it.",
    ),
    "compression_1db_v": Quantity(
        "1 dB compression", lambda f: f"A decibel of gain is gone at {_level(f)}.",
        "From where on louder in is no longer as much louder out.",
        "Input level at which the first harmonic's gain is 1 dB under that of what is small.",
        formula="tanh of 1 V headroom: 0.7127 V.",
    ),
    "thd_1_percent_v": Quantity(
        "1 % THD", lambda f: f"THD passes 1 % at {_level(f)}.", "Up to there most call it clean.",
        "The lowest input level at which THD is 1 %, from a ladder in 2 dB steps, sought between two of them.",
        formula="tanh of 1 V headroom: 0.3517 V.",
    ),
    "lamp_v": Quantity(
        "Lamp", lambda f: f"A lamp set to {context(f, LampAt).lamp_percent:.3g} % lights from {_level(f)}.",
        "The level at which a panel's drive lamp would come on.",
        "The lowest input level at which THD is what the lamp is set to.",
    ),
    "first_stage_percent": Quantity(
        "First to bend", _first, "Which part of the circuit to give more headroom.",
        "Each branch alone is made straight; its share is what the energy of the harmonics changes. Signed, and with "
        "a remainder: one branch may undo what another does.",
    ),
    "difference_2_percent": Quantity(
        "Two tones, second order", _pair, "Whether chords growl: tones that were not played, at the difference.",
        "Level at f₂ − f₁ over the sum of both tones', played and recorded together behind the ladder of levels; the "
        "noise's share taken off.", formula="U(f₂ − f₁)/(U(f₁) + U(f₂)) (IEC 60268-3).",
    ),
    "difference_3_percent": Quantity(
        "Two tones, third order", _pair, "Whether chords roughen: tones beside those played.",
        "Levels at 2f₁ − f₂ and 2f₂ − f₁ over the sum of both tones', played and recorded together behind the ladder "
        "of levels; the noise's share taken off.",
        formula="(U(2f₁ − f₂) + U(2f₂ − f₁))/(U(f₁) + U(f₂)) (IEC 60268-3).",
    ),
    "peak_driven_db": Quantity(
        "Peak when driven", _peak, "What drive leaves of the resonance.",
        "Highest first-harmonic gain over the passband at the same level, settled, softly and at the nominal level.",
    ),
    "whistle_stopped_v": Quantity(
        "Whistle stopped", _stopped, "How loud a source chokes self-oscillation.",
        "The lowest level of a tone from which on what disturbs the tone's own orbit dies away.",
        formula="All Floquet multipliers of the driven orbit lie inside the unit circle.",
    ),
    "fed_back_amount": Quantity(
        "Output fed back", _fed_back, "Thicker, then ringing, then out of hand.",
        "Ringing: a pole of the closed loop reaches the axis. Before it THD at the nominal level, past it the level at "
        "which an impulse settles. Keep the level low: a loop can jump to full level.",
        formula="1 − aP(j2πf) = 0.",
    ),
    "bent_behind_db": Quantity(
        "Bent behind", _behind, "What driving the filter does that a distortion behind it does not.",
        "A curve behind the cleanly driven filter that makes the same THD in all; the harmonics of both side by side.",
    ),
    "drive_trim_db": Quantity(
        "Level made good", _good, "So that louder does not win.",
        "Integrated loudness (ITU-R BS.1770) of the source before and after, simulated; true peak at four times the "
        "rate.",
    ),
    "dry_cancelled_db": Quantity(
        "Dry mixed in", _dry, "Where the filter's phase thins the sound when the dry signal is mixed in.",
        "Small-signal sum of dry and filtered, against both in phase.",
        formula="|(1 − d)H + d| / ((1 − d)|H| + d).",
    ),
}
