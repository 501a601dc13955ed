"""The whistle: its pitch, level and purity, how it stands beside a source, how it is tuned."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from jiyuu.measurement.contexts import Beside, ConcertPitch
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.tuner import Beating, Tuning
from jiyuu.quantities import note_and_cents, shown_hz, signed
from jiyuu.wording.numbers import percent_text, three_digits, two_digits
from jiyuu.wording.quantity import Quantity, context

if TYPE_CHECKING:
    from jiyuu.prediction.whistle import SelfModulated


def _note(finding: Finding) -> str:
    note, cents = note_and_cents(finding.value, concert_a_hz=context(finding, ConcertPitch).concert_a_hz)
    return f"{note} {signed(cents)} cents"


def _purity(percent: float) -> str:
    return "a sine to the ear" if percent < 1 else "a sine with an edge" if percent < 5 else "far from a sine"


def _balance(finding: Finding) -> str:
    beside = context(finding, Beside)
    at = signed(beside.at_db or 0.0)
    if beside.jumps:  # torn loose from the source, or caught by it
        return f"At {finding.value:.1f} % the whistle jumps across {signed(beside.target_db, 0)} dB against the " \
               f"{beside.source}, to {at} dB."
    locked = ", locked to one of its harmonics" if beside.caught else ""
    return f"Balance point at {finding.value:.1f} %: the whistle sits {at} dB against the {beside.source}{locked}; " \
           f"{two_digits(beside.percent_per_db or 0.0)} % of travel move it by 1 dB."


def _at_end(finding: Finding) -> str:
    beside = context(finding, Beside)
    if finding.value > 0:
        text = f"At maximum resonance the whistle takes over, {finding.value:.1f} dB above the {beside.source}"
    else:
        text = f"At maximum resonance the whistle stays {-finding.value:.1f} dB below the {beside.source}"
    if beside.caught_percent:
        low, high = beside.caught_percent
        text += f"; from {low:.0f} to {percent_text(high)} it is locked to a harmonic of the source"
    return f"{text}."


def swing_text(found: Sequence[SelfModulated], cutoff_hz: float) -> str:
    """What a bandpass patched into its own cutoff makes of the whistle; found: from no swing on."""
    from jiyuu.prediction.whistle import nearest_saw, within_hearing_octaves  # a simulation, which no finding needs

    nearest = nearest_saw(found)
    cents = 1200 * math.log2(nearest.frequency_hz / found[0].frequency_hz)
    return (f"Dotted: a saw; nearest at ±{nearest.octaves:g} octaves, {signed(cents, 0)} cents. Past "
            f"±{within_hearing_octaves(cutoff_hz):.1f} the cutoff leaves hearing.")


QUANTITIES: dict[str, Quantity] = {
    "tone_hz": Quantity(
        "Whistle", lambda f: f"Whistles at {shown_hz(f.value)} ({_note(f)}).",
        "The pitch of the filter by itself.", "DC and twenty harmonics fitted to the settled tone at once.",
        schools="Some want it at the cutoff's pitch, some where it falls; the pull says how far it moves.",
    ),
    "tone_v": Quantity(
        "Whistle's level", lambda f: f"The whistle is {three_digits(f.value)} V peak.", "How loud it is.",
        "Amplitude of the fundamental.",
    ),
    "tone_thd_percent": Quantity(
        "Purity", lambda f: f"THD {two_digits(f.value)} %: {_purity(f.value)}.", "How pure the whistle is.",
        "Harmonics 2 to 20 re the first.", formula="100·√(h₂² + … + h₂₀²) / h₁ (IEC 60268-3).",
    ),
    "start_up_s": Quantity(
        "Start-up", lambda f: f"Reaches full level within {1e3 * f.value:.0f} ms of an impulse.",
        "How soon it speaks.",
        "From the end of the impulse until the level stays within a tenth of its settled one.",
    ),
    "pitch_pull_cents": Quantity(
        "Pitch pull", lambda f: f"Turning resonance to maximum shifts the pitch by {signed(f.value)} cents.",
        "Whether the whistle stays in tune while resonance is turned.",
        "Pitch at the end of the control re that just past the onset.",
    ),
    "tone_flatness_db": Quantity(
        "Flatness", lambda f: f"The whistle's level moves by {f.value:.1f} dB over the range.",
        "Whether the whistle is as loud everywhere.", "Highest less lowest level of the steps.",
    ),
    "balance_percent": Quantity(
        "Balance point", _balance,
        "The position at which whistle and source stand side by side, and how narrow it is.",
        "The filter played with the source: the line that is no harmonic of it against the rest, closing in.",
        schools="An oscillation that takes over, or one that only colours: the level aimed at is yours.",
    ),
    "whistle_at_end_db": Quantity(
        "Whistle at maximum", _at_end, "Whether the whistle takes over or only colours.",
        "Level of the whistle re the rest at the end of the control.",
    ),
}


def tuning_line(tuning: Tuning) -> str:
    """How far a tone stands from its target, and what to turn."""
    way = "up" if tuning.volts > 0 else "down"
    if abs(tuning.cents) < 0.05:
        return f"On {shown_hz(tuning.target_hz)}."
    return (f"{signed(tuning.cents)} cents from {shown_hz(tuning.target_hz)}: turn the cutoff {way} by "
            f"{1e3 * abs(tuning.volts):.1f} mV.")


def beating_line(beats: Beating) -> str:
    """How often whistle and oscillator beat, and what stops it."""
    way = "up" if beats.cents > 0 else "down"
    ratio = f"{beats.oscillator_part}:{beats.whistle_part}"
    if beats.rate_hz < 1e-3:
        return f"In tune with the oscillator at {ratio}: no beating."
    return (f"Beats with the oscillator {beats.rate_hz:.2f} times a second near {ratio}: turn the cutoff {way} by "
            f"{abs(beats.cents):.2f} cents to stop it.")
