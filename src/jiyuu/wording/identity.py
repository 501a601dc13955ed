"""Sentences of identification: which circuit, how sure, and what would tell."""

from __future__ import annotations

from jiyuu.measurement.contexts import IdentifiedAs
from jiyuu.measurement.finding import Finding
from jiyuu.quantities import shown_hz
from jiyuu.wording.numbers import doubt_text, hertz_text, three_digits
from jiyuu.wording.quantity import Quantity, context


def identity_sentence(by: IdentifiedAs) -> str:
    """'Transistor ladder, lowpass-24: 240 to 1 against all others; it leaves 0.01 dB.' Or that it cannot be told."""
    left = three_digits(by.residual_db)
    if by.none_fits:
        return (f"Cannot tell: no circuit of the catalogue explains these recordings; the nearest leaves {left} dB. "
                "Check that stimulus and recording belong together and that the filter does not whistle.")
    if not by.sure:
        return (f"Cannot tell: {by.circuit} ({by.mode}) and {by.second} explain these recordings about as well "
                f"({100 * by.odds:.0f} % for the first).")
    if by.second is None:
        return f"{by.circuit}, {by.mode}: no other circuit comes near; it leaves {left} dB."
    against = "more than a million" if by.odds > 1 - 1e-6 else three_digits(by.odds / (1 - by.odds))
    return f"{by.circuit}, {by.mode}: {against} to 1 against all others; it leaves {left} dB."


def to_tell_sentence(first: str, second: str, level_v: float, hertz: float, difference_db: float) -> str:
    """What to measure."""
    return (f"A sweep at {level_v:g} V tells {first} from {second}: they differ by {three_digits(difference_db)} dB at "
            f"{shown_hz(hertz)} there ('jiyuu stimulus sweep --level-v {level_v:g}').")


def _says(finding: Finding) -> str:
    return identity_sentence(context(finding, IdentifiedAs))


def _gain(finding: Finding) -> str:
    doubt = finding.uncertainty or 0.0
    digits = 2 if doubt >= 0.005 else 4
    return f"Told loop gain {finding.value:.{digits}f}{doubt_text(finding, digits)}."


QUANTITIES: dict[str, Quantity] = {
    "identity_odds": Quantity(
        "Which circuit", _says, "How likely the circuit that fits best is, of all that were tried.",
        "Every family of the catalogue is fitted to sweeps at two or more levels, and to the whistle where there is "
        "one; odds by what each leaves and how many numbers it needs (Schwarz 1978, Annals of Statistics). From 20 to "
        "1 on a circuit is named, else it is said what would tell.",
        formula="odds ∝ exp(−½·(χ² + numbers·ln points)).",
        schools="Circuits that are one network in a mode cannot be told by any recording of it: they stand together.",
    ),
    "identity_cutoff_hz": Quantity(
        "Cutoff told", lambda finding: f"Poles told at {hertz_text(finding)}.",
        "Geometric mean of the stages' pole frequencies, re their nominal ratios.",
        "Fitted together with loop gain, mismatch and headrooms of the circuit that was named.",
    ),
    "identity_loop_gain": Quantity(
        "Loop gain told", _gain, "Gain round the loop of the circuit that was named.",
        "Fitted together with its cutoff; in two-pole circuits that of the equal-staged circuit with the same poles.",
    ),
}
