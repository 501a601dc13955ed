"""What is patched round the filter or behind it while it is driven: feedback, a curve behind, the dry signal."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox, QVBoxLayout, QWidget

from jiyuu.bench.steps.drive import Bend, DriveSetting
from jiyuu.desktop.parts.frame import form, narrow
from jiyuu.desktop.parts.knobs import by_name, model_field
from jiyuu.desktop.steps.drive.presenter import DrivePresenter

ORDER = ("feedback", "through", "behind", "dry_percent", "lamp_percent")
CHOICES = ("through", "behind")


class PatchedPage(QWidget):
    """Fields made from the model."""

    def __init__(self, presenter: DrivePresenter) -> None:
        super().__init__()
        self._presenter = presenter
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        rows = form()
        column.addLayout(rows)
        self.choices = {name: self._choice(name) for name in CHOICES}
        self.numbers = {
            name: model_field(DriveSetting, name, by_name(presenter.ask, name),
                              lambda text: presenter.message.emit(text, True))
            for name in ORDER if name not in CHOICES
        }
        for name in ORDER:
            rows.addRow(str(DriveSetting.model_fields[name].title), {**self.numbers, **self.choices}[name])
        column.addStretch(1)

    def _choice(self, name: str) -> QComboBox:
        info, box = DriveSetting.model_fields[name], narrow(QComboBox())
        box.setAccessibleName(str(info.title))
        box.setToolTip(info.description or "")
        box.addItems([bend.value for bend in Bend])
        box.textActivated.connect(lambda text: self._presenter.ask(**{name: text}))
        return box

    def show_setting(self, setting: DriveSetting) -> None:
        """What is asked."""
        for name, field in self.numbers.items():
            field.set_value(getattr(setting, name))
        for name, box in self.choices.items():
            box.setCurrentText(getattr(setting, name).value)
        self.choices["through"].setEnabled(setting.feedback != 0)
