"""The bands of a bank as strokes on the frequency ruler, and the notes they answer."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PyQt6.QtCore import QPointF
from PyQt6.QtGui import QColor

from jiyuu.arrays import FloatArray
from jiyuu.desktop.figures.layer import Label
from jiyuu.desktop.figures.rulers import volts_of_hz
from jiyuu.desktop.figures.spectrum_figure import SpectrumFigure
from jiyuu.desktop.theme.pens import cosmetic
from jiyuu.desktop.theme.style import THEME
from jiyuu.prediction.images import Images
from jiyuu.quantities import note_and_cents

BANDS, WOKEN, NOTES = "bands", "woken", "notes"
LINES, IMAGES, LEAST_V = "lines", "images", 1e-3
NOTE_DB = -58.0  # how high the marks of notes reach


class BandsFigure(SpectrumFigure):
    """Thin strokes as high as a band is set, thick ones as loud as a melody wakes it; marks of the notes below."""

    def __init__(self) -> None:
        super().__init__("Bands, dB re 1 V")

    def show_bands(
        self, band_hz: FloatArray, set_db: FloatArray, woken_db: FloatArray, notes_hz: Sequence[float], colour: str
    ) -> None:
        """band_hz, set_db, woken_db (n,), the last NaN where nothing wakes a band."""
        palette = THEME.palette
        self._moving.labels.clear()
        self.forget(WOKEN, NOTES, LINES, IMAGES)
        self.show_lines(BANDS, band_hz, set_db, cosmetic(palette.quiet, 1.2))
        heard = np.isfinite(woken_db)
        if heard.any():
            self.show_lines(WOKEN, band_hz[heard], woken_db[heard], cosmetic(colour, 4.0))
        if notes_hz:
            marks = np.array(sorted(set(notes_hz)))
            self.show_lines(NOTES, marks, np.full(marks.size, NOTE_DB), cosmetic(palette.ink, 2.0))
            last = -np.inf
            for hertz in marks:
                x = float(volts_of_hz(np.array([hertz]))[0])
                if x - last > 0.45:  # names keep off each other
                    name = note_and_cents(float(hertz))[0]
                    self._moving.labels[name] = Label(name, QColor(palette.ink), QPointF(x, NOTE_DB + 4), shown=True)
                    last = x
        self._moving.touched()

    def show_images(self, images: Images, colour: str) -> None:
        """Thin strokes for what is played, thick ones for its images."""
        self._moving.labels.clear()
        self.forget(BANDS, WOKEN, NOTES)
        for name, hertz, volts, pen in ((LINES, images.lines_hz, images.lines_v, cosmetic(THEME.palette.quiet, 1.2)),
                                        (IMAGES, images.image_hz, images.image_v, cosmetic(colour, 2.4))):
            loud = volts > LEAST_V
            self.show_lines(name, hertz[loud], 20 * np.log10(volts[loud]), pen)
        self._moving.touched()

    def place_labels(self) -> None:
        """Names of notes stay over their marks."""
        self._moving.touched()
