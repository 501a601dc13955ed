"""The ear at the end of the signal path: what is heard, play or stop, loop, level, and the ceiling in force."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from jiyuu.bench.heard import Heard
from jiyuu.desktop.listening import Listening
from jiyuu.desktop.parts.frame import narrow
from jiyuu.desktop.parts.knobs import number_field
from jiyuu.desktop.sound_file import LEVEL_DB
from jiyuu.quantities import signed
from jiyuu.signals.ceiling import CEILING_DB


class EarPanel(QWidget):
    """Everything it does goes through `listening`."""

    def __init__(self, listening: Listening) -> None:
        super().__init__()
        self._listening = listening
        self.note = QLabel()
        self.note.setProperty("role", "quiet")
        self.what = narrow(QComboBox())
        self.what.setAccessibleName("What is heard")
        self.what.setToolTip("The source through the filter, the source alone, or the whistle of the filter by itself.")
        self.what.addItems([what.value for what in Heard])
        self.what.textActivated.connect(lambda text: listening.choose(Heard(text)))
        self.button = QPushButton()
        self.button.setAccessibleName("Play or stop")
        self.button.setToolTip("Ctrl+P. Simulated as it stands and played on this machine's output, following what is "
                               "turned. Start low: self-oscillation can jump to full level.")
        self.button.clicked.connect(listening.toggle)
        self.pair = QPushButton()
        self.pair.setAccessibleName("Compare by ear")
        self.pair.setToolTip("X. Marks the filter as it stands; once one is marked, switches between it and the filter "
                             "in hand, in step and at equal loudness. Right click forgets the mark.")
        self.pair.clicked.connect(listening.compare)
        self.pair.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.pair.customContextMenuRequested.connect(lambda _: listening.forget_marked())
        self.loop = QCheckBox("loop")
        self.loop.clicked.connect(listening.set_loop)
        self.level = number_field("Listening level", "dB", 3.0, example=LEVEL_DB)
        self.level.setToolTip("10 V at this level of full scale, −60 to 0 dB. The ceiling holds at any level.")
        self.level.entered.connect(listening.set_level)
        self.level.reset.connect(lambda: listening.set_level(LEVEL_DB))
        self.level.refused.connect(lambda text: listening.message.emit(text, True))
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        for widget in (self.what, self.button, self.pair, self.loop, self.level):
            row.addWidget(widget)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 2, 0, 2)
        column.setSpacing(0)
        column.addWidget(self.note)
        column.addLayout(row)
        listening.changed.connect(self._show)
        self._show()

    def _show(self) -> None:
        state = self._listening
        self.button.setText("Stop" if state.playing else "Play")
        marked = state.marked
        self.pair.setText("mark" if marked is None else f"{marked.letter}, marked" if state.hears_marked else "in hand")
        self.what.setCurrentText(state.what.value)
        self.loop.setChecked(state.loop)
        self.level.set_value(state.level_db)
        sounding = "playing" if state.playing else "silent"
        self.note.setText(f"ear, {sounding}; never above {signed(CEILING_DB, 0)} dB of full scale")
