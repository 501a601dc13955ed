"""Sentences of identification: which circuit, how sure, and what would tell."""

from __future__ import annotations

from jiyuu.quantities import shown_hz
from jiyuu.wording.numbers import three_digits


def verdict_sentence(title: str, mode: str, odds: float, residual_db: float, second: str | None) -> str:
    """'Transistor ladder, lowpass-24: 240 to 1 against the next, OTA cascade; it leaves 0.01 dB.'"""
    if second is None:
        return f"{title}, {mode}: no other circuit comes near; it leaves {three_digits(residual_db)} dB."
    against = "more than a million" if odds > 1 - 1e-6 else three_digits(odds / (1 - odds))
    return f"{title}, {mode}: {against} to 1 against all others; it leaves {three_digits(residual_db)} dB."


def undecided_sentence(first: str, second: str, odds: float) -> str:
    """When the odds do not suffice."""
    return (f"Cannot tell: {first} and {second} explain these recordings about as well ({100 * odds:.0f} % for the "
            "first).")


def none_sentence(residual_db: float) -> str:
    """When nothing fits."""
    return (f"Cannot tell: no circuit of the catalogue explains these recordings; the nearest leaves "
            f"{three_digits(residual_db)} dB. Check that stimulus and recording belong together and that the filter "
            "does not whistle.")


def to_tell_sentence(first: str, second: str, level_v: float, hertz: float, difference_db: float) -> str:
    """What to measure."""
    return (f"A sweep at {level_v:g} V tells {first} from {second}: they differ by {three_digits(difference_db)} dB at "
            f"{shown_hz(hertz)} there ('jiyuu stimulus sweep --level-v {level_v:g}').")
