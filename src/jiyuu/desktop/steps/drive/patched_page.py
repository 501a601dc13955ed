"""What is patched round the filter or behind it while it is driven: feedback, a curve behind, the dry signal."""

from __future__ import annotations

from PyQt6.QtWidgets import QGridLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from jiyuu.bench.bent import Way
from jiyuu.bench.heard import WARNING
from jiyuu.bench.steps.drive import DriveSetting
from jiyuu.desktop.parts.model_form import ModelForm
from jiyuu.desktop.steps.drive.bent_presenter import WAYS, BentPresenter
from jiyuu.desktop.steps.drive.presenter import DrivePresenter
from jiyuu.desktop.theme.style import STEP

ORDER = ("feedback", "through", "behind", "dry_percent", "lamp_percent")
TIPS = {
    Way.CLEAN: "Through the filter as if nothing in it bent.",
    Way.DRIVEN: "At the nominal level through the filter, which bends it.",
    Way.BEHIND: "Clean through the filter and bent behind it by the curve chosen, as much in all as driving it does.",
    Way.FED_BACK: "At the nominal level, with the output fed back as set.",
}


class PatchedPage(QWidget):
    """Fields made from the model, and what each of the ways to bend it sounds like."""

    def __init__(self, presenter: DrivePresenter, bent: BentPresenter) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.form = ModelForm(DriveSetting, ORDER, presenter.ask, lambda text: presenter.message.emit(text, True))
        column.addLayout(self.form.rows)
        self._bent = bent
        self.label = QLabel("Hear the source, equally loud:")
        column.addWidget(self.label)
        grid = QGridLayout()
        grid.setSpacing(STEP)
        self.hear: dict[Way, QPushButton] = {}
        for which, way in enumerate(WAYS):
            self.hear[way] = button = QPushButton(str(way))
            button.setCheckable(True)
            button.setProperty("role", "sound")
            button.setToolTip(f"{TIPS[way]} {WARNING}")
            button.clicked.connect(lambda _, way=way: bent.hear(way))
            grid.addWidget(button, which // 2, which % 2)
        column.addLayout(grid)
        column.addStretch(1)
        bent.changed.connect(self.show_heard)

    def show_setting(self, setting: DriveSetting) -> None:
        """What is asked."""
        self.form.show(setting)
        self.form.choices["through"].setEnabled(setting.feedback != 0)

    def show_heard(self) -> None:
        """Which of them plays."""
        for which, button in enumerate(self.hear.values()):
            button.setChecked(self._bent.ear.heard == which)
            button.setEnabled(not self._bent.making)
