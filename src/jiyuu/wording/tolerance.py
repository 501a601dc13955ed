"""What a thousand builds come to, in one line."""

from __future__ import annotations

from jiyuu.prediction.tolerance import ToleranceStudy
from jiyuu.quantities import signed


def builds_line(found: ToleranceStudy) -> str:
    """Spread, what causes it, onset and pitch, as far as they are known."""
    parts = [f"{found.units} builds, 5 to 95 %"]
    if found.worst is not None:
        parts.append(f"most of the spread from the {found.worst} ({found.blame[found.worst]:.2g} dB)")
    if found.onset_percent is not None:
        parts.append(f"onset at {found.onset_percent[0]:.0f} to {found.onset_percent[2]:.0f} % of travel")
    if found.pitch_cents is not None:
        parts.append(f"self-oscillates {_side(found.pitch_cents[0])} to {_side(found.pitch_cents[2])} the cutoff at "
                     "full resonance")
    return "; ".join(parts) + "."


def _side(cents: float) -> str:
    return f"{signed(abs(cents), 0).lstrip('+')} cents {'below' if cents < 0 else 'above'}"
