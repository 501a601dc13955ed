"""The controls of the Response step: mode, cutoff, resonance; and what else is drawn."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QSlider, QVBoxLayout, QWidget

from jiyuu.bench.standing import Standing
from jiyuu.bench.steps.response import ResponseSetting
from jiyuu.book.stored import Shelved
from jiyuu.desktop.parts.frame import ModeBox, form, narrow
from jiyuu.desktop.parts.knobs import by_name, cutoff_field, model_field, resonance_field
from jiyuu.desktop.parts.typed_value import TypedValue
from jiyuu.desktop.steps.response.presenter import ResponsePresenter
from jiyuu.desktop.theme.style import STEP
from jiyuu.errors import JiyuuError
from jiyuu.quantities import parse_number

CUTOFF_NAMES = ("pole", "−3 dB", "peak", "oscillation")


class SettingsForm(QWidget):
    """Every control goes straight to the presenter."""

    def __init__(self, presenter: ResponsePresenter) -> None:
        super().__init__()
        self._presenter = presenter
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(STEP)
        rows = form()
        column.addLayout(rows)

        def refused(text: str) -> None:
            presenter.message.emit(text, True)

        self.mode = ModeBox()
        self.mode.textActivated.connect(presenter.set_mode)
        self.cutoff = cutoff_field(presenter.set_knob, lambda: presenter.reset("cutoff_hz"), refused)
        self.resonance = resonance_field(presenter.set_resonance, lambda: presenter.reset("resonance_percent"), refused)
        self.travel = QSlider(Qt.Orientation.Horizontal)
        self.travel.setRange(0, 1000)
        self.travel.setAccessibleName("Resonance travel")
        self.travel.sliderMoved.connect(lambda value: presenter.try_resonance(value / 10))
        self.travel.sliderReleased.connect(lambda: presenter.set_resonance(self.travel.value() / 10))
        self.travel.actionTriggered.connect(self._slider_stepped)
        for label, field in (("Mode", self.mode), ("Cutoff", self.cutoff), ("Resonance", self.resonance)):
            rows.addRow(label, field)
        rows.addRow("", self.travel)
        self.at_level = TypedValue(
            "At level", parse=_parse_level, show=lambda value: f"{value:.4g} V" if value else "off",
            stepped=lambda value, way, fine: max(value + way * (0.1 if fine else 1.0), 0.0),
        )
        self.at_level.setToolTip(
            "Second curve: gain of the first harmonic when a sine of this peak drives the filter. Type 2 V, or off."
        )
        self.at_level.entered.connect(lambda volts: presenter.ask(curve_level_v=volts or None))
        self.at_level.reset.connect(lambda: presenter.ask(curve_level_v=None))
        self.at_level.refused.connect(refused)
        rows.addRow("At level", self.at_level)
        self.beside = narrow(QComboBox())
        self.beside.setAccessibleName("Beside")
        self.beside.setToolTip(
            "Another filter's curve at the same cutoff, as far from its own onset. At small signal, filters of equal "
            "slope look alike; driven, they differ."
        )
        self.beside.activated.connect(lambda index: presenter.ask(beside=self.beside.itemData(index)))
        rows.addRow("Beside", self.beside)
        self.named = narrow(QComboBox())
        self.named.setAccessibleName("Cutoff shown as")
        self.named.addItems(CUTOFF_NAMES)
        self.named.setToolTip(str(ResponseSetting.model_fields["cutoff_named"].description))
        self.named.textActivated.connect(lambda name: presenter.ask(cutoff_named=name))
        rows.addRow("Cutoff shown as", self.named)
        self.sweep = model_field(ResponseSetting, "sweep_s", by_name(presenter.ask, "sweep_s"), refused)
        rows.addRow("Sweep", self.sweep)
        self.band = QCheckBox("1000 builds B")
        self.band.setToolTip("Where 5 to 95 % of builds lie when the filter's tolerances are drawn a thousand times.")
        self.band.toggled.connect(presenter.show_band)
        self.only = QCheckBox("One mode O")
        self.only.setToolTip("Draw only the chosen mode, or every mode of the circuit.")
        row = QHBoxLayout()
        row.setSpacing(2 * STEP)
        row.addWidget(self.band)
        row.addWidget(self.only)
        row.addStretch(1)
        column.addLayout(row)

    def _slider_stepped(self, action: int) -> None:
        if not self.travel.isSliderDown():
            self._presenter.set_resonance(self.travel.sliderPosition() / 10)

    def show_standing(self, standing: Standing, setting: ResponseSetting) -> None:
        """What the controls beside mode, cutoff and resonance stand at."""
        if not self.travel.isSliderDown():
            self.travel.setValue(round(standing.resonance_percent * 10))
        self.at_level.set_value(setting.curve_level_v or 0.0)
        self.named.setCurrentText(setting.cutoff_named)
        self.sweep.set_value(setting.sweep_s)

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
        raise JiyuuError(f"'{text}' is not a drive; type 0 to 100 V, for example 2 V, or off.")
    return value
