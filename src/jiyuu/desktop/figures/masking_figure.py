"""What is heard of a sound beside another, band by band of the ear: thin strokes alone, thick ones what is left, and
what a cut in each band frees."""

from __future__ import annotations

import numpy as np

from jiyuu.character.masking import BAND_HZ, Masking
from jiyuu.desktop.figures.frequency_figure import FrequencyFigure
from jiyuu.desktop.figures.ruled import PlotCurve
from jiyuu.desktop.figures.rulers import volts_of_hz
from jiyuu.desktop.theme.pens import cosmetic
from jiyuu.desktop.theme.style import THEME
from jiyuu.quantities import shown_hz

ALONE, LEFT, FREED = "alone", "beside it", "a cut frees"
APART = 2 ** (1 / 12)  # that strokes of one band stand to either side of it
LEAST_SONE = 0.02  # height of a figure of hardly anything


class MaskingFigure(FrequencyFigure):
    """Sone of every band of the ear."""

    def __init__(self) -> None:
        super().__init__(title="Loudness by band, sone", unit="sone", level_steps=(0.05, 0.1, 0.25, 0.5, 1.0, 2.0),
                         strong_step=1.0)
        self.set_levels(0.0, 1.0)
        self.hide_cutoff()

    def show_masking(self, found: Masking | None, colour: str) -> None:
        self.forget(ALONE, LEFT, FREED)
        if found is None:
            return
        palette = THEME.palette
        top = max(float(found.alone.max()), float(found.gained_sone.max()), LEAST_SONE)
        self.set_levels(0.0, 1.5 * top)
        freed = np.maximum(found.gained_sone, 0.0)
        for name, hertz, values, pen in (
            (ALONE, BAND_HZ / APART, found.alone, cosmetic(palette.quiet, 1.4)),
            (LEFT, BAND_HZ, found.audible, cosmetic(palette.ink, 4.0)),
            (FREED, BAND_HZ * APART, freed, cosmetic(colour, 4.0)),
        ):
            self._moving.set_comb(name, volts_of_hz(hertz), values, pen)
            self._data[name] = PlotCurve(name, hertz, values)
        cut = found.cut
        note = "Thin: by itself; black: beside the filter"
        self.say_note(f"{note}; coloured: what a cut of 6 dB there frees." if cut else f"{note}.")
        self._moving.touched()

    def reading_at(self, x: float, height: float) -> str:
        if ALONE not in self._data:
            return ""
        i = int(np.argmin(np.abs(volts_of_hz(BAND_HZ) - x)))
        return f"{shown_hz(float(BAND_HZ[i]))}  " + "  ".join(
            f"{name} {float(curve.values[i]):.2g} sone" for name, curve in self._data.items())
