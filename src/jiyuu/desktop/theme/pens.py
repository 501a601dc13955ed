"""Pens of the figures: a width on the screen whatever the zoom."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QPen

from jiyuu.inks import Ink

MEASURED_ALPHA = 205  # thick enough to see through, dense enough to read


def pen_of(ink: Ink, width: float) -> QPen:
    """A filter's own ink with its dash."""
    return cosmetic(ink.colour, width, dash=ink.dash)


def cosmetic(
    colour: str | QColor, width: float, style: Qt.PenStyle = Qt.PenStyle.SolidLine, *, dash: Sequence[float] = ()
) -> QPen:
    """dash: in pen widths, instead of a style."""
    pen = QPen(QColor(colour), width, style)
    pen.setCosmetic(True)
    if dash:
        pen.setDashPattern(list(dash))
        pen.setCapStyle(Qt.PenCapStyle.FlatCap)
    return pen


def measured_pen(colour: str, *, stale: bool) -> QPen:
    """Measured is thick, out of date thin."""
    return cosmetic(clear(colour, MEASURED_ALPHA), 1.6 if stale else 4.0)


def clear(colour: str, alpha: int) -> QColor:
    shade = QColor(colour)
    shade.setAlpha(alpha)
    return shade
