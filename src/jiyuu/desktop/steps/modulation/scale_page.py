"""A filter struck on a scale, as a page: the notes, how far each ring misses its own, the row of them to be heard."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from jiyuu.bench.steps.modulation import ModulationSetting
from jiyuu.book.table import Table
from jiyuu.desktop.parts.frame import form
from jiyuu.desktop.parts.knobs import scale_field
from jiyuu.desktop.parts.plain_table import PlainTable
from jiyuu.desktop.steps.modulation.presenter import ModulationPresenter
from jiyuu.desktop.theme.style import STEP
from jiyuu.quantities import note_and_cents, signed

COLUMNS = ("note", "Hz", "cents", "left")


class ScalePage(QWidget):
    """cents: how far the ring lies over its note; left: the same once the cutoff is turned as the finding says."""

    def __init__(self, presenter: ModulationPresenter) -> None:
        super().__init__()
        self._presenter = presenter
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(STEP)
        rows = form()
        self.scale = scale_field(ModulationSetting, "C3 E3 G3", lambda notes: presenter.ask(scale=notes))
        rows.addRow(self.scale.accessibleName(), self.scale)
        column.addLayout(rows)
        self.play = QPushButton("Play the row")
        self.play.setToolTip("One ring after the other, as they were recorded; again for silence.")
        self.play.clicked.connect(presenter.play_row)
        column.addWidget(self.play)
        self.table = PlainTable("Rings on the notes of a scale", COLUMNS)
        self.table.setToolTip("Where each ring lies, how many cents over its note, and how many are left once the "
                              "cutoff is turned as the finding says.")
        column.addWidget(self.table, 1)
        presenter.row.changed.connect(self._heard)
        self.show_struck(None)

    def show_setting(self, setting: ModulationSetting) -> None:
        """What was typed, unless something is being typed."""
        if not (self.scale.hasFocus() and self.scale.isModified()):
            self.scale.setText(setting.scale)

    def show_struck(self, struck: Table | None) -> None:
        """What was measured last; None where it was not struck on a scale."""
        self.play.setEnabled(struck is not None)
        if struck is None:
            self.table.fill([])
            return
        rows, worst = [], int(np.nanargmax(np.abs(struck["left_cents"])))
        for note, ring, off, left in zip(*(struck[name] for name in ("note_hz", "ring_hz", "off_cents", "left_cents")),
                                         strict=True):
            name, cents = note_and_cents(note)
            called = name if abs(cents) < 0.5 else f"{name} {signed(cents, 0)}"
            rows.append([called, "no ring", "–", "–"] if np.isnan(ring) else
                        [called, f"{ring:.2f}", signed(off, 1), signed(left, 1)])
        self.table.fill(rows, strong={(worst, 3)})

    def _heard(self) -> None:
        self.play.setText("Silence" if self._presenter.row.heard is not None else "Play the row")
