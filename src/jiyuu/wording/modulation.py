"""What a filter does while it moves: how far its routes take it, how it rings when struck, how it follows a step."""

from __future__ import annotations

from jiyuu.measurement.contexts_moving import (
    Beating,
    CutoffStepped,
    SidebandsOf,
    Struck,
    StruckOn,
    TargetMoves,
    WhistleMoved,
)
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.settling import GLIDE_S
from jiyuu.quantities import note_and_cents, shown_hz, signed
from jiyuu.wording.numbers import percent_text, stated, with_doubt
from jiyuu.wording.quantity import Quantity, context

FINEST = 0.001  # that an uncertainty is said to be


def _stated(finding: Finding, scale: float = 1.0) -> str:
    if finding.uncertainty is None:
        return _number(scale * finding.value)
    return stated(scale * finding.value, max(scale * finding.uncertainty, FINEST))


def _number(value: float) -> str:
    """Four digits, never an exponent; a true minus sign."""
    text = f"{value:.4g}"
    return (text if "e" not in text else f"{value:.0f}" if abs(value) > 1 else "0").replace("-", "−")


def _in_unit(value: float, unit: str) -> str:
    return shown_hz(value) if unit == "Hz" else f"{_number(value)} {unit}".strip()


def _moves(finding: Finding) -> str:
    moves = context(finding, TargetMoves)
    text = f"{moves.target} moves from {_in_unit(moves.least, moves.unit)} to {_in_unit(finding.value, moves.unit)}."
    if moves.stopped_percent:
        asked = f"{_in_unit(moves.wanted_least, moves.unit)} to {_in_unit(moves.wanted_greatest, moves.unit)}"
        text = f"{text[:-1]}; its routes ask for {asked}: at a stop {percent_text(moves.stopped_percent)} of the time."
    return text


def _sidebands(finding: Finding) -> str:
    lines = context(finding, SidebandsOf)
    lower, upper = (f"{shown_hz(hertz)} ({with_doubt(level_db, finding.uncertainty, 1)} dB)" for hertz, level_db in (
        (lines.lower_hz, lines.lower_db), (lines.upper_hz, lines.upper_db)))
    return (f"A tone of {shown_hz(lines.tone_hz)} gets lines at {lower} and {upper} from ±{_number(lines.octaves)} "
            f"octaves at {shown_hz(lines.rate_hz)}.")


def _rises(finding: Finding) -> str:
    moved = context(finding, WhistleMoved)
    return (f"Moved by ±{_number(moved.octaves)} octaves at {shown_hz(moved.rate_hz)} its whistle is "
            f"{_number(finding.value)} cents sharp on the mean; {_number(1000 * moved.back_v)} mV bring it back.")


def _beats(finding: Finding) -> str:
    beat = context(finding, Beating)
    lines = "" if beat.first_harmonic == beat.second_harmonic == 1 else (
        f", harmonic {beat.first_harmonic} against {beat.second_harmonic}")
    tail = "with or without what moves the filter" if beat.moved else "nothing moves the filter"
    return (f"Two sources beat {finding.value:.2f} times a second ({shown_hz(beat.first_hz)} and "
            f"{shown_hz(beat.second_hz)}{lines}); {tail}.")


def _ring(finding: Finding) -> str:
    note, cents = note_and_cents(finding.value)
    struck = context(finding, Struck)
    return (f"Struck at {struck.resonance_percent:.3g} % it rings at {_stated(finding)} Hz ({note} "
            f"{cents:+.0f} cents).").replace("-", "−")


def _struck_on(finding: Finding) -> str:
    struck = context(finding, StruckOn)
    turn = "with the cutoff where it is" if abs(struck.turn_cents) < 0.5 else (
        f"with the cutoff turned by {signed(struck.turn_cents, 0)} cents")
    missed = with_doubt(abs(finding.value), finding.uncertainty, 1).lstrip("+")
    return (f"Struck on {struck.notes} notes, {turn}, it misses none by more than {missed} cents, "
            f"{_note(struck.worst_hz)} being too {'high' if finding.value > 0 else 'low'}.")


def _note(hertz: float) -> str:
    """C4; with the cents where it lies beside a note."""
    name, cents = note_and_cents(hertz)
    return name if abs(cents) < 0.5 else f"{name} {signed(cents, 0)} cents"


def _settles(finding: Finding) -> str:
    step = context(finding, CutoffStepped)
    told = f"told to {1000 * step.resolution_s:.2g} ms"
    glide = "" if finding.value <= max(GLIDE_S, step.resolution_s) else ": a glide can be heard"
    return (f"Slowest step, {shown_hz(step.from_hz)} to {shown_hz(step.to_hz)}: within ±10 cents after "
            f"{_number(1000 * finding.value)} ms ({told}){glide}.")


def _overshoots(finding: Finding) -> str:
    step = context(finding, CutoffStepped)
    if finding.value < 1:
        return "No step goes past its goal."
    return (f"Past its goal by {finding.value:.0f} cents at most, {shown_hz(step.from_hz)} to "
            f"{shown_hz(step.to_hz)}.")


def _peak(finding: Finding) -> str:
    struck = context(finding, Struck)
    sign = "+" if finding.value > 0 else ""
    return (f"First peak {sign}{_stated(finding, 1000)} mV for a pulse of "
            f"{struck.pulse_ms:g} ms, {_number(struck.level_v)} V.")


QUANTITIES: dict[str, Quantity] = {
    "target_moves": Quantity(
        "Bounds", _moves, "From where to where a target really goes, and what of its control is lost at a stop.",
        "All routes to it added at every millisecond, before and after its stops.",
    ),
    "sideband_db": Quantity(
        "Sidebands", _sidebands, "A cutoff moved within hearing gives every tone new lines, at its own frequency plus "
        "and minus the rate.",
        "From the drawing, for what is too soft to bend, all lines in balance with each other; measured with a soft "
        "tone, all lines fitted together.",
        formula="2^(a·cos Ωt) = Σ Iₙ(a·ln 2)·e^(jnΩt); small a: X± = (a·ln 2/2)·jω·(j(ω ± Ω) − ω₀A)⁻¹·X.",
    ),
    "modulated_pitch_cents": Quantity(
        "Pitch of a moved whistle", _rises, "Equal octaves up and down are more hertz up than down: a whistle moved "
        "within hearing is sharp on the mean.", "From the amount.", formula="1200·log₂ I₀(a·ln 2).",
    ),
    "beat_hz": Quantity(
        "Beating", _beats, "What swells between two sources of nearly the same pitch, and is easily taken for "
        "something that moves the filter.", "The lowest harmonics of two sources that lie within 16 Hz of each other.",
        formula="|p·f₁ − q·f₂|.",
    ),
    "ring_hz": Quantity(
        "Ring", _ring, "The pitch of a struck filter: what it is tuned to as percussion.",
        "Pulses into the filter at rest; pole pairs fitted to the ring, from where it is small enough to be linear.",
        formula="|Im p|/2π of the slowest pole pair.",
    ),
    "struck_scale_cents": Quantity(
        "Struck scale", _struck_on, "Whether a struck filter can be played as tuned percussion.",
        "One pulse on every note, given as volts per octave; rings less their notes, once the cutoff is turned by what "
        "makes the widest miss smallest.",
    ),
    "ring_t60_s": Quantity(
        "Ring time", lambda f: f"Its ring is 60 dB down after {_stated(f, 1000)} ms.",
        "How long a knock sounds.", "From the same fit.", formula="T60 = ln 1000/(−Re p).",
    ),
    "ring_q": Quantity(
        "Q of the ring", lambda f: f"Q {_stated(f)} by its ring.", "How many cycles it rings.",
        "From the same fit.", formula="Q = |p|/(−2 Re p).",
    ),
    "first_peak_v": Quantity(
        "First peak", _peak, "How hard the knock begins, and which way.",
        "The first extremum behind the pulse's beginning.",
    ),
    "pedestal_v": Quantity(
        "Pedestal", lambda f: f"While the pulse lasts it stands at {_number(1000 * f.value)} mV.",
        "What a long trigger lets through besides the ring.",
        "Mean over the last quarter of the pulse of what does not swing.",
    ),
    "rebound_v": Quantity(
        "Rebound", lambda f: f"Behind the pulse it swings back to {_number(1000 * f.value)} mV.",
        "A second, softer click from a coupling capacitor.",
        "The farthest that what does not swing goes against the pedestal within 2 ms.",
    ),
    "settling_s": Quantity(
        "Settling", _settles, "Whether a step of the cutoff arrives at once or slides.",
        "Its whistle is stepped by ±1 and ±2 V; the course of the pitch is fitted to the waveform.",
        schools="Heard as a glide from about 20 ms on.",
    ),
    "overshoot_cents": Quantity(
        "Overshoot", _overshoots, "Whether a step chirps.", "The farthest past its goal, from the same fit.",
    ),
    "feedthrough_v_per_v": Quantity(
        "Feedthrough", lambda f: f"{_stated(f, 1000)} mV couple over for a volt of step.",
        "The thump that a moving cutoff adds.",
        "What is left right behind a step when the whistle is taken out, over all steps.",
    ),
}
