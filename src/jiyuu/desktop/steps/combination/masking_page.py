"""What is to be heard beside the filter in hand, what hides it, and the cut: heard, and taken."""

from __future__ import annotations

from PyQt6.QtWidgets import QFileDialog, QLabel, QPushButton, QVBoxLayout, QWidget

from jiyuu.bench.heard import WARNING
from jiyuu.bench.steps.combination import CombinationSetting
from jiyuu.desktop.parts.model_form import ModelForm
from jiyuu.desktop.parts.sound_buttons import sound_buttons
from jiyuu.desktop.steps.combination.masking_presenter import TO_DO, MaskingPresenter
from jiyuu.desktop.steps.combination.presenter import CombinationPresenter
from jiyuu.desktop.theme.style import STEP

FILE = "file"


class MaskingPage(QWidget):
    """A choice, a button, a sentence; two sounds and the cut."""

    def __init__(self, presenter: MaskingPresenter, combination: CombinationPresenter) -> None:
        super().__init__()
        self._presenter = presenter
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2 * STEP)
        self._ask = combination.ask
        self.form = ModelForm(CombinationSetting, ("wanted", "wanted_hz", "wanted_db"), self._entered,
                              lambda text: presenter.message.emit(str(text), True))
        column.addLayout(self.form.rows)
        self.find_it = QPushButton("Find what hides it")
        self.find_it.clicked.connect(presenter.find)
        column.addWidget(self.find_it)
        self.said = QLabel()
        self.said.setWordWrap(True)
        self.said.setAccessibleName("What is hidden")
        column.addWidget(self.said)
        row, self.hear = sound_buttons(("Hear both", "with the cut"),
                                       f"Equally loud with the cut and without. {WARNING}", presenter.hear)
        column.addLayout(row)
        self.take = QPushButton("Take the cut into the path")
        self.take.clicked.connect(presenter.take)
        column.addWidget(self.take)
        column.addStretch(1)
        presenter.changed.connect(self.show_state)
        self.show_state()

    def _entered(self, **changes: object) -> None:
        if changes.get("wanted") == FILE:
            name, _ = QFileDialog.getOpenFileName(self, "Sound that is to be heard", "", "Recordings (*.wav *.flac)")
            if not name:
                self.show_state()
                return
            changes["wanted_path"] = name
        self._ask(**changes)

    def show_state(self) -> None:
        presenter = self._presenter
        setting, masked = presenter.setting, presenter.masked
        self.form.show(setting)
        self.form.numbers["wanted_hz"].setEnabled(setting.wanted != FILE)
        self.said.setText(presenter.said(TO_DO))
        self.find_it.setEnabled(not presenter.going)
        for which, button in enumerate(self.hear):
            button.setEnabled(masked is not None and which < len(masked.sounds))
            button.setChecked(presenter.ear.heard == which)
        self.take.setEnabled(masked is not None and masked.found.cut is not None)
