"""A reading cursor for the keyboard: moves along a curve, says what stands there."""

from __future__ import annotations

from typing import TYPE_CHECKING

import pyqtgraph as pg

from jiyuu.desktop.theme.pens import cosmetic
from jiyuu.desktop.theme.style import THEME

if TYPE_CHECKING:
    from jiyuu.desktop.figures.ruled import RuledFigure

STEPS = 96  # over what is in view


class ReadingCursor(pg.InfiniteLine):
    """Ctrl with the arrows moves it (with Shift by ten steps), Page up and down turn to another curve."""

    def __init__(self, figure: RuledFigure) -> None:
        super().__init__(angle=90, movable=False)
        self._figure = figure
        self._on: str | None = None
        self.setZValue(40)
        self.hide()

    def step(self, way: int, *, large: bool) -> None:
        """One step to the left or right; it appears in the middle of the view."""
        (low, high), _ = self._figure.view.viewRange()
        here = float(self.value()) if self.isVisible() else 0.5 * (low + high)
        there = here + way * (high - low) / STEPS * (10 if large else 1) if self.isVisible() else here
        self.setValue(min(max(there, low), high))
        self._tell()

    def turn(self, way: int) -> None:
        """To the next curve or the one before."""
        names = self._figure.shown_names()
        if not names:
            return
        place = names.index(self._on) + way if self._on in names else 0
        self._on = names[place % len(names)]
        if not self.isVisible():
            self.step(1, large=False)
        self._tell()

    def put_away(self) -> None:
        self.hide()

    def _tell(self) -> None:
        names = self._figure.shown_names()
        if self._on not in names:
            self._on = names[0] if names else None
        self.setPen(cosmetic(THEME.palette.ink, 1.0))
        self.show()
        self._figure.read_out(float(self.value()), self._on)
