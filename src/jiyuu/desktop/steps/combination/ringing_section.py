"""What drive does to what rings: a button, the findings in words, a soft note and a driven one to be heard."""

from __future__ import annotations

from PyQt6.QtWidgets import QLabel, QPushButton, QVBoxLayout, QWidget

from jiyuu.bench.heard import WARNING
from jiyuu.desktop.parts.sound_buttons import sound_buttons
from jiyuu.desktop.steps.combination.ringing_presenter import RingingPresenter
from jiyuu.desktop.theme.style import STEP


class RingingSection(QWidget):
    """Only there where something in the path rings on."""

    def __init__(self, presenter: RingingPresenter) -> None:
        super().__init__()
        self._presenter = presenter
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(STEP)
        self.find_it = QPushButton("Drive what rings")
        self.find_it.setToolTip("A note of the sources, 40 dB softer, as set up and 20 dB louder: how loud, how long "
                                "and how bright what is left behind it is.")
        self.find_it.clicked.connect(presenter.find)
        self.said = QLabel()
        self.said.setWordWrap(True)
        self.said.setAccessibleName("What drive does to its ring")
        row, self.hear = sound_buttons(("Hear it softly", "driven"), f"Equally loud. {WARNING}", presenter.hear)
        column.addWidget(self.find_it)
        column.addWidget(self.said)
        column.addLayout(row)
        presenter.changed.connect(self.show_state)
        self.show_state()

    def show_state(self) -> None:
        presenter, found = self._presenter, self._presenter.found
        self.setVisible(presenter.offered)
        self.find_it.setEnabled(not presenter.going)
        self.said.setText(presenter.said(""))
        self.said.setVisible(bool(self.said.text()))
        for which, button in enumerate(self.hear):
            button.setVisible(found is not None)
            button.setChecked(presenter.ear.heard == which)
