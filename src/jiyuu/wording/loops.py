"""What is said of a loop before it is heard."""

from __future__ import annotations

from jiyuu.patch.response import Loop
from jiyuu.quantities import shown_hz


def loop_line(loop: Loop, amount: float) -> str:
    """Whether it rings, and from which amount of its sign."""
    sign = "negative" if amount < 0 else "positive"
    if loop.amount_to_ring is None or loop.rings_at_hz is None:
        return f"No {sign} amount makes it ring." if loop.stable else "It rings by itself: so does what is in it."
    at = f"{loop.amount_to_ring:+.3g}".replace("-", "−")
    how = f"rings at {shown_hz(loop.rings_at_hz)}" if loop.rings_at_hz else "sticks at DC"
    if loop.stable:
        return f"Stable; from {at} it {how}."
    return f"It {how} by itself: from {at} on."
