"""The one place where a finding becomes words, and the list of all quantities."""

from __future__ import annotations

from collections.abc import Mapping

from jiyuu.measurement.finding import Finding, Verdict
from jiyuu.wording import drive, levels, resonance, response, tracking, whistle
from jiyuu.wording.quantity import Quantity

QUANTITIES: dict[str, Quantity] = {
    **levels.QUANTITIES, **response.QUANTITIES, **resonance.QUANTITIES, **whistle.QUANTITIES, **tracking.QUANTITIES,
    **drive.QUANTITIES,
}


def learn(quantities: Mapping[str, Quantity]) -> None:
    """Quantities that a step brings along itself. Raises ValueError for a name that stands for another one already."""
    for name, quantity in quantities.items():
        if QUANTITIES.setdefault(name, quantity) is not quantity:
            raise ValueError(f"Two quantities are called {name}; rename one.")


def sentence(finding: Finding) -> str:
    """What the finding says, with its verdict where it has one."""
    text = QUANTITIES[finding.quantity].says(finding)
    if finding.tolerance is None or finding.verdict is Verdict.UNJUDGED:
        return text
    low, high = finding.tolerance.low, finding.tolerance.high
    limits = f"{low:g} to {high:g}".replace("-", "−")
    return f"{text[:-1]}: {finding.verdict.value} ({limits} {finding.unit})."
