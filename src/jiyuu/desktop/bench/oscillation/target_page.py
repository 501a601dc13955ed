"""What the whistle is to be tuned to, where its cusp should lie, and which bell it is a partial of."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox, QPushButton, QVBoxLayout, QWidget

from jiyuu.book.whistle_setting import Target, WhistleSetting
from jiyuu.desktop.bench.frame import form
from jiyuu.desktop.bench.knobs import frequency_field, number_field
from jiyuu.desktop.bench.oscillation.presenter import OscillationPresenter
from jiyuu.measurement.tuner import BELLS, INTERVALS


class TargetPage(QWidget):
    """Fields; a button that moves the cutoff to the target."""

    def __init__(self, presenter: OscillationPresenter) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        fields = form()
        column.addLayout(fields)
        self.target, self.ratio, self.bell = QComboBox(), QComboBox(), QComboBox()
        for box, name, items, key in (
            (self.target, "Tune to", [target.value for target in Target], "target"),
            (self.ratio, "Interval", list(INTERVALS), "ratio"), (self.bell, "Bell", list(BELLS), "bell"),
        ):
            box.setAccessibleName(name)
            box.addItems(items)
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(8)
            box.textActivated.connect(lambda text, key=key: presenter.change(**{key: text}))
        self.ratio.setEditable(True)
        self.ratio.setToolTip("Above the oscillator: a name, or a free ratio such as 7:4.")
        line = self.ratio.lineEdit()
        assert line is not None
        line.editingFinished.connect(lambda: self._enter_ratio(presenter))
        self.pitch = frequency_field("Pitch", presenter, lambda hz: presenter.change(pitch_hz=hz), reset=440.0,
                                     tip="Pitch aimed at: 440, A4, A4+10 (cents).")
        self.oscillator = frequency_field("Oscillator", presenter, lambda hz: presenter.change(oscillator_hz=hz),
                                          reset=220.0, tip="Pitch of the oscillator that the interval stands on.")
        self.concert = number_field("A4", "Hz", 1.0, presenter, lambda hz: presenter.change(concert_a_hz=hz),
                                    reset=440.0, tip="Concert pitch.")
        self.cusp = number_field("Cusp", "dB", 1.0, presenter, lambda db: presenter.change(cusp_db=db), reset=-6.0,
                                 tip="Level at which the whistle should sit re what is played.")
        for name, field in (
            ("Tune to", self.target), ("Pitch", self.pitch), ("Oscillator", self.oscillator), ("Interval", self.ratio),
            ("A4", self.concert), ("Cusp at", self.cusp), ("Bell", self.bell),
        ):
            fields.addRow(name, field)
        self.go = QPushButton("Put the cutoff there")
        self.go.setToolTip("Moves the cutoff by the volts the tuner says; Ctrl+Z moves it back.")
        self.go.clicked.connect(presenter.go_to_target)
        column.addWidget(self.go)
        column.addStretch(1)

    def _enter_ratio(self, presenter: OscillationPresenter) -> None:
        if self.ratio.currentText() != presenter.setting.ratio:
            presenter.change(ratio=self.ratio.currentText())
            self.ratio.setCurrentText(presenter.setting.ratio)  # as it was, when it was refused

    def show_setting(self, setting: WhistleSetting) -> None:
        self.target.setCurrentText(setting.target.value)
        self.ratio.setCurrentText(setting.ratio)
        self.bell.setCurrentText(setting.bell)
        self.pitch.set_value(setting.pitch_hz)
        self.oscillator.set_value(setting.oscillator_hz)
        self.concert.set_value(setting.concert_a_hz)
        self.cusp.set_value(setting.cusp_db)
        self.pitch.setEnabled(setting.target is Target.PITCH)
        for field in (self.oscillator, self.ratio):
            field.setEnabled(setting.target is Target.INTERVAL)
