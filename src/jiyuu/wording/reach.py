"""Where the cutoff can go, and travel of its controls that does nothing."""

from __future__ import annotations

import numpy as np

from jiyuu.circuits.reach import DeadPart, Reach
from jiyuu.quantities import shown_hz, signed


def dead_line(part: DeadPart) -> str:
    """'Knob: the upper 35 % of its travel does nothing: CV 1 (+4.0 octaves) already opens …'"""
    limit = "the circuit's limit" if part.why == "circuit" else "the ear's limit"
    travel = "its whole travel" if part.share > 0.995 else f"the {part.end} {100 * part.share:.0f} % of its travel"
    verb = "does nothing" if part.why == "circuit" else "cannot be heard"
    if part.because is None:
        return f"{part.control}: {travel} {verb}, past {limit} of {shown_hz(part.limit_hz)}."
    holder = part.because if part.because_octaves == 0 or part.because == "Knob" else (
        f"{part.because} ({signed(part.because_octaves)} octaves)"
    )
    way = "opens" if part.limit_hz > 1000 else "closes"
    return f"{part.control}: {travel} {verb}: {holder} already {way} the filter towards {limit} of " \
           f"{shown_hz(part.limit_hz)}."


def reach_line(found: Reach) -> str:
    """Where the cutoff stands and can go."""
    octaves = np.log2(found.high_hz / found.low_hz)
    text = f"The cutoff stands at {shown_hz(found.now_hz)} and can go from {shown_hz(found.low_hz)} to " \
           f"{shown_hz(found.high_hz)} ({octaves:.1f} octaves)."
    lost = np.log2(found.wanted_high_hz / found.wanted_low_hz) - octaves
    return text if lost < 0.05 else \
        f"{text} The controls ask for {lost:.1f} octaves more than the circuit can reach."
