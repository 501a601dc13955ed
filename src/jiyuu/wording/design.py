"""Sentences of designing: what is proposed, what it costs, why nothing is."""

from __future__ import annotations

from jiyuu.quantities import shown_hz
from jiyuu.wording.numbers import three_digits


def proposal_sentence(title: str, mode: str, cutoff_hz: float, percent: float, share: float, low: float, high: float
                      ) -> str:
    """'Transistor ladder, lowpass-24, at 820 Hz and 60 % of its onset: 93 % of builds meet every wish (92 to 94 %).'"""
    return (f"{title}, {mode}, poles at {shown_hz(cutoff_hz)}, {percent:.0f} % of its onset: {100 * share:.1f} % of "
            f"builds meet every wish ({100 * low:.1f} to {100 * high:.1f} %).")


def costs_sentence(part: str | None, if_exact: float, at_half: float) -> str:
    """What a tighter part would bring."""
    if part is None:
        return "No single part costs any of them."
    return (f"The {part} costs most: at half its tolerance {100 * at_half:.1f} % would meet every wish, were it exact "
            f"{100 * if_exact:.1f} %.")


def fight_sentence(first: str, second: str | None, off: float, title: str, mode: str) -> str:
    """Why there is nothing."""
    if second is None:
        return (f"No circuit of the catalogue meets {first} as wished; the nearest, {title}, {mode}, is off by "
                f"{three_digits(off)} of its tolerances. Widen it or change its target.")
    if off > 1:
        return (f"No circuit meets these wishes: {first} and {second} fight; the nearest to both, {title}, {mode}, is "
                f"off by {three_digits(off)} of a tolerance. Widen one of the two.")
    return (f"No circuit meets all of these wishes at once, although any two can be met; {first} and {second} come "
            "least near. Widen one, or leave one out.")
