"""What the whistle is to be tuned to, at which level it should balance, and which bell it is a partial of."""

from __future__ import annotations

from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from jiyuu.bench.steps.self_oscillation import Target, WhistleSetting
from jiyuu.desktop.parts.model_form import ModelForm
from jiyuu.desktop.steps.self_oscillation.presenter import OscillationPresenter
from jiyuu.measurement.tuner import BELLS, INTERVALS

CHOICES = {"ratio": tuple(INTERVALS), "bell": tuple(BELLS)}
ORDER = ("target", "pitch_hz", "oscillator_hz", "ratio", "concert_a_hz", "balance_db", "bell")


class TargetPage(QWidget):
    """Fields; a button that moves the cutoff to the target."""

    def __init__(self, presenter: OscillationPresenter) -> None:
        super().__init__()
        self._presenter = presenter
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.form = ModelForm(WhistleSetting, ORDER, presenter.ask, lambda text: presenter.message.emit(text, True),
                              choices=CHOICES)
        column.addLayout(self.form.rows)
        self.numbers, self.choices = self.form.numbers, self.form.choices
        ratio = self.choices["ratio"]
        ratio.setEditable(True)
        line = ratio.lineEdit()
        assert line is not None
        line.editingFinished.connect(self._enter_ratio)
        self.go = QPushButton("Set cutoff to target")
        self.go.setToolTip("Moves the cutoff by the volts the tuner says; Ctrl+Z moves it back.")
        self.go.clicked.connect(presenter.go_to_target)
        column.addWidget(self.go)
        column.addStretch(1)

    def _enter_ratio(self) -> None:
        box = self.choices["ratio"]
        if self._presenter.shelved is not None and box.currentText() != self._presenter.setting.ratio:
            self._presenter.ask(ratio=box.currentText())
            box.setCurrentText(self._presenter.setting.ratio)  # as it was, when it was refused

    def show_setting(self, setting: WhistleSetting) -> None:
        """What is asked, and which fields have a say in it."""
        self.form.show(setting)
        self.numbers["pitch_hz"].setEnabled(setting.target is Target.PITCH)
        for widget in (self.numbers["oscillator_hz"], self.choices["ratio"]):
            widget.setEnabled(setting.target is Target.INTERVAL)
