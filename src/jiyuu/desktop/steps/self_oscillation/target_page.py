"""What the whistle is to be tuned to, at which level it should balance, and which bell it is a partial of."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox, QPushButton, QVBoxLayout, QWidget

from jiyuu.bench.steps.self_oscillation import Target, WhistleSetting
from jiyuu.desktop.parts.frame import form, narrow
from jiyuu.desktop.parts.knobs import by_name, model_field
from jiyuu.desktop.steps.self_oscillation.presenter import OscillationPresenter
from jiyuu.measurement.tuner import BELLS, INTERVALS

NUMBERS = ("pitch_hz", "oscillator_hz", "concert_a_hz", "balance_db")
CHOICES = {"target": [target.value for target in Target], "ratio": list(INTERVALS), "bell": list(BELLS)}
ORDER = ("target", "pitch_hz", "oscillator_hz", "ratio", "concert_a_hz", "balance_db", "bell")


class TargetPage(QWidget):
    """Fields; a button that moves the cutoff to the target."""

    def __init__(self, presenter: OscillationPresenter) -> None:
        super().__init__()
        self._presenter = presenter
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        rows = form()
        column.addLayout(rows)
        self.numbers = {
            name: model_field(WhistleSetting, name, by_name(presenter.ask, name),
                              lambda text: presenter.message.emit(text, True))
            for name in NUMBERS
        }
        self.choices = {name: self._choice(name, items) for name, items in CHOICES.items()}
        for name in ORDER:
            rows.addRow(str(WhistleSetting.model_fields[name].title), {**self.numbers, **self.choices}[name])
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

    def _choice(self, name: str, items: list[str]) -> QComboBox:
        info, box = WhistleSetting.model_fields[name], narrow(QComboBox())
        box.setAccessibleName(str(info.title))
        box.setToolTip(info.description or "")
        box.addItems(items)
        box.textActivated.connect(lambda text: self._presenter.ask(**{name: text}))
        return box

    def _enter_ratio(self) -> None:
        box = self.choices["ratio"]
        if self._presenter.shelved is not None and box.currentText() != self._presenter.setting.ratio:
            self._presenter.ask(ratio=box.currentText())
            box.setCurrentText(self._presenter.setting.ratio)  # as it was, when it was refused

    def show_setting(self, setting: WhistleSetting) -> None:
        """What is asked, and which fields have a say in it."""
        for name, box in self.choices.items():
            box.setCurrentText(str(getattr(setting, name)))
        for name, field in self.numbers.items():
            field.set_value(getattr(setting, name))
        self.numbers["pitch_hz"].setEnabled(setting.target is Target.PITCH)
        for widget in (self.numbers["oscillator_hz"], self.choices["ratio"]):
            widget.setEnabled(setting.target is Target.INTERVAL)
