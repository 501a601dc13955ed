"""What a report holds, whatever it is about and however it is printed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from jiyuu.circuits.diagram import Diagram
from jiyuu.measurement.finding import Finding, Verdict
from jiyuu.wording.findings import sentence

if TYPE_CHECKING:
    from matplotlib.axes import Axes

CAUTIONS = ("Uncertainties are 95 %.",
            "Self-oscillation can jump to full level: start low when you listen, and mind ears and loudspeakers.",
            "Before anything is opened or trimmed under power, follow the local rules and those of the maker.")


@dataclass(frozen=True, slots=True)
class Picture:
    """A figure: draw puts it on axes; height in inches on a page of usual width."""

    draw: Callable[[Axes], None]
    height: float = 3.0


@dataclass(frozen=True, slots=True)
class Row:
    """Cells of a table, and a stamp; UNJUDGED for none."""

    cells: tuple[str, ...]
    verdict: Verdict = Verdict.UNJUDGED


@dataclass(frozen=True, slots=True)
class Part:
    """A chapter, or with `under` what stands under one. widths: shares of the page that its columns take."""

    title: str
    lines: tuple[str, ...] = ()
    warnings: tuple[str, ...] = ()
    pictures: tuple[Picture, ...] = ()
    diagram: Diagram | None = None
    head: tuple[str, ...] = ()
    rows: tuple[Row, ...] = ()
    widths: tuple[float, ...] = (1.0,)
    under: bool = False


@dataclass(frozen=True, slots=True)
class Sheet:
    """title, what it is about in a line or two, its parts; cautions stand at the end."""

    title: str
    lines: tuple[str, ...]
    parts: tuple[Part, ...]
    cautions: tuple[str, ...] = field(default=CAUTIONS)


def said(finding: Finding) -> Row:
    """A finding as it is said everywhere."""
    return Row((sentence(finding),), finding.verdict)
