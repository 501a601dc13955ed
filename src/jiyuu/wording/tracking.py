"""Tracking: how far out of tune, over which range, what to turn and what will be left."""

from __future__ import annotations

from jiyuu.circuits.trims import RANGES, Trim
from jiyuu.measurement.contexts import StepPlace, TrimTurn, UsableRange
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.tracking import Span
from jiyuu.prediction.trim_advice import Advice
from jiyuu.quantities import signed
from jiyuu.wording.numbers import doubt_text, with_doubt
from jiyuu.wording.quantity import Quantity, context

CONVERTER = "From the converter model fitted to the readings: scale, bulk resistance and leakage told apart."


def span_words(from_v: float | None, to_v: float | None, octaves: float) -> str:
    """'0 to 6 V (5.98 octaves)'."""
    if from_v is None or to_v is None:
        return "nowhere"
    return f"only at {from_v:g} V" if from_v == to_v else f"{from_v:g} to {to_v:g} V ({octaves:.2f} octaves)"


def words_of(span: Span | None) -> str:
    """A span of steps in words."""
    return span_words(None, None, 0.0) if span is None else span_words(span.from_v, span.to_v, span.octaves)


def _usable(finding: Finding) -> str:
    span = context(finding, UsableRange)
    return f"In tune within ±{span.tolerance_cents:g} cents: {span_words(span.from_v, span.to_v, span.octaves)}."


def _scale(finding: Finding) -> str:
    truth = "true" if abs(finding.value - 1) < 5e-5 else "flat" if finding.value > 1 else "sharp"
    return f"An octave takes {finding.value:.4f}{doubt_text(finding, 4)} V ({truth})."


def _turn(title: str, meaning: str) -> Quantity:
    return Quantity(title, lambda f: turn_line(context(f, TrimTurn)), meaning, CONVERTER)


QUANTITIES: dict[str, Quantity] = {
    "tracking_error_cents": Quantity(
        "Largest error", lambda f: f"Largest tracking error {with_doubt(f.value, f.uncertainty, 1)} cents, "
        f"at {context(f, StepPlace).at_v:g} V.",
        "How far the filter is out of tune where it is worst.",
        "Pitch against exact 1 V/octave through the reference step.",
        formula="1200·log₂(f / f(reference)) − 1200·(V − V(reference)).",
        schools="2 cents in unison, 5 usual, 20 for a charming wander: the tolerance is yours.",
    ),
    "usable_span_v": Quantity(
        "Usable span", _usable, "Where one can play it.", "Longest run of neighbouring steps inside the tolerance.",
    ),
    "scale_v_per_octave": Quantity(
        "Scale", _scale, "Volts for an octave; 1 is true.",
        "Straight line through the octaves over the volts, by least squares.",
    ),
    "key_follow_percent": Quantity(
        "Key follow", lambda f: f"The cutoff follows the keys by {f.value:.2f}{doubt_text(f, 2)} %.",
        "Whether the sound keeps its colour, or the whistle its pitch, over the keyboard.",
        "Octaves of pitch for an octave of keys, straight line by least squares.",
    ),
    "droop_cents": Quantity(
        "Droop", lambda f: f"The converter droops by {signed(f.value)}{doubt_text(f, 1)} cents at 10 kHz.",
        "Bulk resistance flattens the top; the high-frequency trim adds it back.",
        "Fitted with scale and leakage to the readings.",
    ),
    "leak_cents": Quantity(
        "Leakage", lambda f: f"Leakage adds {signed(f.value)}{doubt_text(f, 1)} cents at 20 Hz.",
        "Current that flows whatever the control says holds up the bottom.",
        "Fitted with scale and droop to the readings.",
    ),
    "drift_cents_per_min": Quantity(
        "Drift", lambda f: f"Drifts by {signed(f.value, 2)}{doubt_text(f, 2)} cents a minute.",
        "How the pitch wanders while nothing is touched.", "Line through the pitch of a held tone.",
    ),
    "scale_turn": _turn("Scale trim", "Sets how many volts an octave takes."),
    "hf_turn": _turn("High-frequency trim", "Adds back what the top lacks."),
    "resonance_turn": _turn("Resonance trim", "Sets where on the control the whistle begins."),
    "offset_turn": _turn("Offset trim", "Moves every note alike."),
}


def turn_line(turn: TrimTurn) -> str:
    """Which trim, which way, how much, how many turns."""
    trim, amount = Trim(turn.trim), abs(turn.amount)
    way, hand = ("up", "clockwise") if turn.turns > 0 else ("down", "anticlockwise")
    if trim is Trim.SCALE:
        now = "" if turn.scale_v_per_octave is None else f"; an octave takes {turn.scale_v_per_octave:.4f} V now"
        what = f"{amount:.3f} % ({12 * amount:.2f} cents an octave{now})"
    elif trim is Trim.HIGH_FREQUENCY:
        what = f"{amount:.1f} cents at 10 kHz"
    elif trim is Trim.OFFSET:
        what = f"{amount:.1f} cents, last of all"
    else:
        what = f"{amount:.1f} % of loop gain"
    line = f"{RANGES[trim].title} {way} by {what}, {abs(turn.turns):.2g} turns {hand}"
    return f"{line}." if turn.aimed_percent is None else \
        f"{line}: then it whistles from {turn.aimed_percent:.0f} % on."


def advice_lines(advice: Advice) -> tuple[str, ...]:
    """What to turn, in the order in which to do it, then what no trim mends."""
    return (*(turn_line(turn) for turn in advice.turns), *remark_lines(advice))


def remark_lines(advice: Advice) -> tuple[str, ...]:
    """What is left after the turns, and what no trim mends."""
    said, tolerance = [], advice.before.tolerance_cents
    if advice.turns:
        said.append(f"Then by the fit: largest error {advice.after.worst_cents:.1f} cents, usable span "
                    f"{words_of(advice.after.usable)} within ±{tolerance:g} cents.")
    elif advice.before.worst_cents <= tolerance:
        said.append(f"Nothing to turn: every step lies within ±{tolerance:g} cents.")
    else:
        said.append("No trim would make the usable span longer.")
    if advice.leaks and advice.fit.leak_cents is not None:
        said.append(f"Leakage makes the bottom sharp ({signed(advice.fit.leak_cents.value)} cents at 20 Hz): no trim "
                    "removes it; clean the board around the converter, or keep away from the lowest volts.")
    if advice.fit.droop_cents is None:
        said.append("Too few steps to tell the high-frequency trim from the scale; measure at least four.")
    return tuple(said)
