"""The controls of the Response step: mode, cutoff, resonance; and what else is drawn."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QComboBox, QFormLayout, QHBoxLayout, QSlider, QWidget

from jiyuu.book.store import Shelved
from jiyuu.desktop.bench.frame import ModeBox
from jiyuu.desktop.bench.knobs import cutoff_field, resonance_field
from jiyuu.desktop.bench.response.presenter import ResponsePresenter
from jiyuu.desktop.bench.typed_value import TypedValue
from jiyuu.desktop.theme.style import STEP
from jiyuu.errors import JiyuuError
from jiyuu.quantities import parse_number

CUTOFF_NAMES = ("pole", "−3 dB", "peak", "oscillation")


class SettingsForm(QWidget):
    """Every control goes straight to the presenter."""

    def __init__(self, presenter: ResponsePresenter) -> None:
        super().__init__()
        self._presenter = presenter
        form = QFormLayout(self)
        form.setContentsMargins(0, 0, 0, 0)
        form.setHorizontalSpacing(2 * STEP)
        form.setVerticalSpacing(STEP)
        self.mode = ModeBox(presenter)
        self.cutoff, self.resonance = cutoff_field(presenter), resonance_field(presenter)
        self.travel = QSlider(Qt.Orientation.Horizontal)
        self.travel.setRange(0, 1000)
        self.travel.setAccessibleName("Resonance travel")
        self.travel.sliderMoved.connect(lambda value: presenter.try_resonance(value / 10))
        self.travel.sliderReleased.connect(lambda: presenter.set_resonance(self.travel.value() / 10))
        self.travel.actionTriggered.connect(self._slider_stepped)
        for label, field in (("Mode", self.mode), ("Cutoff", self.cutoff), ("Resonance", self.resonance)):
            form.addRow(label, field)
        form.addRow("", self.travel)
        self.at_level = TypedValue(
            "At level", parse=_parse_level, show=lambda value: f"{value:.4g} V" if value else "off",
            stepped=lambda value, way, fine: max(value + way * (0.1 if fine else 1.0), 0.0),
        )
        self.at_level.setToolTip(
            "Second curve: gain of the first harmonic when a sine of this peak drives the filter. Type 2 V, or off."
        )
        self.at_level.entered.connect(presenter.set_level)
        self.at_level.reset.connect(lambda: presenter.set_level(0.0))
        self.at_level.refused.connect(lambda text: presenter.message.emit(text, True))
        form.addRow("At level", self.at_level)
        self.beside = QComboBox()
        self.beside.setAccessibleName("Beside")
        self.beside.setToolTip(
            "Another filter's curve at the same cutoff, as far from its own onset. Small, filters of one slope "
            "coincide; at level they part."
        )
        self.beside.activated.connect(lambda index: presenter.set_beside(self.beside.itemData(index)))
        form.addRow("Beside", self.beside)
        self.named = QComboBox()
        self.named.setAccessibleName("Cutoff labelled by")
        self.named.addItems(CUTOFF_NAMES)
        self.named.setToolTip(
            "Which of the four cutoffs the figure names: the pole the knob sets, the half-power point of data sheets, "
            "the peak the ear follows, or the pitch at which it would whistle."
        )
        self.named.textActivated.connect(presenter.name_cutoff)
        form.addRow("Label", self.named)
        self.band = QCheckBox("1000 builds B")
        self.only = QCheckBox("One mode O")
        self.only.setToolTip("Draw only the chosen mode, or every mode of the circuit.")
        self.band.setToolTip("Where 5 to 95 % of builds lie when the filter's tolerances are drawn a thousand times.")
        self.band.toggled.connect(presenter.show_band)
        row = QHBoxLayout()
        row.setSpacing(2 * STEP)
        row.addWidget(self.band)
        row.addWidget(self.only)
        row.addStretch(1)
        form.addRow(row)

    def _slider_stepped(self, action: int) -> None:
        if not self.travel.isSliderDown():
            self._presenter.set_resonance(self.travel.sliderPosition() / 10)

    def offer_beside(self, shelf: list[Shelved], chosen: int | None) -> None:
        """The filters that can stand beside the one in hand, and which one does."""
        others = [("none", None), *((f"{s.letter}  {s.document.entry.title}", s.id) for s in shelf)]
        if [self.beside.itemData(i) for i in range(self.beside.count())] != [data for _, data in others]:
            self.beside.clear()
            for text, data in others:
                self.beside.addItem(text, data)
        self.beside.setCurrentIndex(max(self.beside.findData(chosen), 0))


def _parse_level(text: str) -> float:
    if text.strip().lower() in ("", "off"):
        return 0.0
    value, unit = parse_number(text)
    if unit not in ("", "V") or not 0 <= value <= 100:
        raise JiyuuError(f"'{text}' is not a drive; type for example 2 V, or off.")
    return value
