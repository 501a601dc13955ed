"""Recordings made by other means, and what there is to say of them: channel, interface, loudest harmonic."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import Enum
from pathlib import Path

from PyQt6.QtCore import Qt, QTimer, pyqtSignal
from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QSpinBox,
    QWidget,
)

from jiyuu.desktop.jobs import Crew, Jobs
from jiyuu.desktop.parts.aside import Aside, main_button, quiet
from jiyuu.desktop.parts.knobs import number_field
from jiyuu.desktop.theme.style import STEP, THEME
from jiyuu.rig.files import told_of
from jiyuu.signals.recordings import FULL_SCALE_V

KINDS = "Recordings (*.wav *.flac)"
LEAST_SCALE_V, MOST_SCALE_V = 0.01, 1000.0
PAUSE_MS = 200  # of the hand that types a name, before the file is looked into


class RecordingsFor(Enum):
    """What is measured from them."""

    RESPONSE = "response"
    STEPS = "steps"


@dataclass(frozen=True, slots=True)
class Recordings:
    """What was chosen. channel None: found by what is in it; harmonic None: found from the partials; full_scale_v:
    volts of a full sample."""

    purpose: RecordingsFor
    recording: Path
    stimulus: Path | None = None
    interface: Path | None = None
    channel: str | None = None
    harmonic: int | None = None
    full_scale_v: float = FULL_SCALE_V


class FileRow(QWidget):
    """A file: typed, or looked for."""

    changed = pyqtSignal()

    def __init__(self, name: str) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(STEP)
        self.text, self.look = QLineEdit(), QPushButton("Look …")
        self.text.setAccessibleName(name)
        self.text.setMinimumWidth(round(260 * THEME.scale))
        self.look.setAccessibleName(f"Look for {name.lower()}")
        row.addWidget(self.text, 1)
        row.addWidget(self.look)
        self.text.textChanged.connect(lambda _: self.changed.emit())
        self.look.clicked.connect(self._choose)
        self._name = name

    @property
    def path(self) -> Path | None:
        typed = self.text.text().strip()
        return Path(typed) if typed else None

    def _choose(self) -> None:
        found, _ = QFileDialog.getOpenFileName(self, self._name, "", KINDS)
        if found:
            self.text.setText(found)


class RecordingsChooser(Aside):
    """Not modal: the bench stays in view."""

    chosen = pyqtSignal(object)  # Recordings

    def __init__(self, parent: QWidget, crew: Crew) -> None:
        super().__init__(parent, "Measure recordings")
        self._looking = Jobs(crew, "looking into a recording", self)
        self._looking.stepped.connect(self._understood)
        self._looking.failed.connect(self._understood)
        self.purpose = RecordingsFor.RESPONSE
        column = self.sheet()
        self.explanation = quiet()
        column.addWidget(self.explanation)
        self._form = QFormLayout()
        self._form.setSpacing(2 * STEP)
        self.stimulus, self.recording = FileRow("Stimulus"), FileRow("Recording")
        self.interface = FileRow("Interface alone")
        self.interface.text.setPlaceholderText("none")
        self.channel, self.harmonic = QComboBox(), QSpinBox()
        self.channel.addItems(["found by what is in it", "left", "right"])
        self.harmonic.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)
        self.harmonic.setRange(0, 16)
        self.harmonic.setSpecialValueText("found from the partials")
        self.full_scale_v = FULL_SCALE_V
        self.full_scale = number_field("Full scale", "V", 1.0, example=FULL_SCALE_V)
        self.full_scale.set_value(FULL_SCALE_V)
        self.full_scale.setToolTip("Volts at which the interface's samples are full, in and out: what makes levels in "
                                   "the files volts.")
        self.full_scale.entered.connect(self._scaled)
        self.full_scale.reset.connect(lambda: self._scaled(FULL_SCALE_V))
        self.full_scale.refused.connect(self._understood)
        rows = (("Stimulus", self.stimulus), ("Recording", self.recording), ("Interface alone", self.interface),
                ("Full scale", self.full_scale), ("Channel", self.channel), ("Loudest harmonic", self.harmonic))
        for name, widget in rows:
            widget.setAccessibleName(name)
            self._form.addRow(name, widget)
        column.addLayout(self._form)
        self.understood = QLabel()
        self.understood.setWordWrap(True)
        self.understood.setAccessibleName("What is understood of the files")
        column.addWidget(self.understood)
        self.measure = main_button("Measure", self._take)
        column.addWidget(self.measure, 0, Qt.AlignmentFlag.AlignLeft)
        self._pause = QTimer(self)
        self._pause.setSingleShot(True)
        self._pause.setInterval(PAUSE_MS)
        self._pause.timeout.connect(self._look)
        for row in (self.stimulus, self.recording):
            row.changed.connect(self._check)
            row.changed.connect(self._pause.start)
            row.text.returnPressed.connect(self._take)
        self.channel.activated.connect(lambda _: self._pause.start())
        self._check()

    def ask(self, purpose: RecordingsFor) -> None:
        """Shows what is needed for that."""
        self.purpose = purpose
        steps = purpose is RecordingsFor.STEPS
        for widget, shown in ((self.stimulus, not steps), (self.interface, not steps), (self.harmonic, steps)):
            self._form.setRowVisible(widget, shown)
        self.explanation.setText(
            "The whistle over the control volts that are set here, in one recording." if steps else
            "The stimulus that was played and what was recorded of it. With the interface recorded alone, by the same "
            "stimulus, what it takes off the lowest and highest octave is divided out.")
        self._check()
        self.adjustSize()
        self.bring()

    def _check(self) -> None:
        needed = (self.recording,) if self.purpose is RecordingsFor.STEPS else (self.stimulus, self.recording)
        self.measure.setEnabled(all(row.path is not None for row in needed))

    def _look(self) -> None:
        """Into what is named so far, off the interface thread."""
        recording = self.recording.path
        stimulus = None if self.purpose is RecordingsFor.STEPS else self.stimulus.path
        channel = None if self.channel.currentIndex() == 0 else self.channel.currentText()
        full_scale_v = self.full_scale_v
        if recording is None:
            self._looking.drop()
            self.understood.setText("")
            return

        def steps() -> Iterator[str]:
            yield told_of(recording, stimulus, channel=channel, full_scale_v=full_scale_v)

        self._looking.start(steps)

    def _scaled(self, volts: float) -> None:
        if not LEAST_SCALE_V <= volts <= MOST_SCALE_V:
            self._understood(f"A full scale of {volts:g} V is out of range; type {LEAST_SCALE_V:g} to "
                             f"{MOST_SCALE_V:g} V, for example {FULL_SCALE_V:g} V.")
            self.full_scale.set_value(self.full_scale_v)
            return
        self.full_scale_v = volts
        self.full_scale.set_value(volts)
        self._pause.start()

    def _understood(self, text: str) -> None:
        self.understood.setText(text)
        self.adjustSize()

    def _take(self) -> None:
        recording = self.recording.path
        if recording is None or not self.measure.isEnabled():
            return
        channel = None if self.channel.currentIndex() == 0 else self.channel.currentText()
        steps = self.purpose is RecordingsFor.STEPS
        self.chosen.emit(Recordings(
            self.purpose, recording, None if steps else self.stimulus.path, None if steps else self.interface.path,
            channel, self.harmonic.value() or None if steps else None, self.full_scale_v,
        ))
        self.close()
