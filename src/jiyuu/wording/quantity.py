"""What is known of a quantity besides its number: name, sentence, meaning, how it is measured, where schools differ."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeVar

from jiyuu.measurement.context import Context
from jiyuu.measurement.finding import Finding


@dataclass(frozen=True, slots=True)
class Quantity:
    """says: the finding in words. formula and schools may be empty."""

    title: str
    says: Callable[[Finding], str]
    meaning: str
    how: str
    formula: str = ""
    schools: str = ""

    @property
    def help(self) -> str:
        """Everything about it, a line each."""
        lines = [f"{self.title}. {self.meaning}", f"How it is measured: {self.how}"]
        if self.formula:
            lines.append(f"Formula: {self.formula}")
        if self.schools:
            lines.append(f"Where schools differ: {self.schools}")
        return "\n".join(lines)


Kind = TypeVar("Kind", bound=Context)


def context(finding: Finding, kind: type[Kind]) -> Kind:
    """The finding's context, which its sentence cannot do without. Raises TypeError where it has another."""
    if not isinstance(finding.context, kind):
        raise TypeError(f"A finding of {finding.quantity} needs {kind.__name__}, not {finding.context!r}.")
    return finding.context
