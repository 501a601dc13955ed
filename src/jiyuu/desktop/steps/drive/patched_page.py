"""What is patched round the filter or behind it while it is driven: feedback, a curve behind, the dry signal."""

from __future__ import annotations

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from jiyuu.bench.steps.drive import DriveSetting
from jiyuu.desktop.parts.model_form import ModelForm
from jiyuu.desktop.steps.drive.presenter import DrivePresenter

ORDER = ("feedback", "through", "behind", "dry_percent", "lamp_percent")


class PatchedPage(QWidget):
    """Fields made from the model."""

    def __init__(self, presenter: DrivePresenter) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.form = ModelForm(DriveSetting, ORDER, presenter.ask, lambda text: presenter.message.emit(text, True))
        column.addLayout(self.form.rows)
        column.addStretch(1)

    def show_setting(self, setting: DriveSetting) -> None:
        """What is asked."""
        self.form.show(setting)
        self.form.choices["through"].setEnabled(setting.feedback != 0)
