"""What can be set in the Setup step: the source with its drive, and what moves the cutoff."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QFormLayout,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from jiyuu.book.setup import Setup, SourceSetting
from jiyuu.desktop.bench.knobs import frequency_field, number_field
from jiyuu.desktop.bench.setup.presenter import SetupPresenter
from jiyuu.desktop.bench.typed_value import TypedValue
from jiyuu.desktop.theme.style import STEP
from jiyuu.quantities import signed
from jiyuu.signals.source import PITCHED, SourceKind


class _InputRow(QWidget):
    """One input of the mix."""

    def __init__(self, index: int, presenter: SetupPresenter) -> None:
        super().__init__()
        self._index, self._presenter = index, presenter
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, STEP)
        grid.setSpacing(STEP)
        self.kind = QComboBox()
        self.kind.setAccessibleName(f"Source {index + 1}")
        self.kind.addItems([kind.value for kind in SourceKind])
        self.kind.textActivated.connect(self._choose)
        self.away = QPushButton("Remove")
        self.away.setAccessibleName(f"Remove source {index + 1}")
        self.away.clicked.connect(lambda: presenter.remove_input(index))
        self.pitch = frequency_field(
            f"Pitch of source {index + 1}", presenter, lambda hz: presenter.change_input(index, pitch_hz=hz),
            reset=110.0, tip="110 Hz, A2 or −1.25 V.",
        )
        self.level = number_field(
            f"Level of source {index + 1}", "V", 0.5, presenter,
            lambda volts: presenter.change_input(index, level_v=volts), reset=5.0, tip="Peak volts at the panel.",
        )
        self.pulse_width = number_field(
            f"Width of source {index + 1}", "%", 5.0, presenter,
            lambda percent: presenter.change_input(index, width=percent / 100), reset=25.0,
            tip="Share of the period that a pulse is high.",
        )
        grid.addWidget(self.kind, 0, 0, 1, 2)
        grid.addWidget(self.away, 0, 2)
        grid.addWidget(self.pitch, 1, 0)
        grid.addWidget(self.level, 1, 1)
        grid.addWidget(self.pulse_width, 1, 2)

    def _choose(self, text: str) -> None:
        if text != SourceKind.FILE.value:
            self._presenter.change_input(self._index, kind=text, path=None)
            return
        name, _ = QFileDialog.getOpenFileName(self, "Source", "", "Recordings (*.wav *.flac)")
        if name:
            self._presenter.change_input(self._index, kind=text, path=name)
        else:
            self._presenter.refresh()

    def show_setting(self, setting: SourceSetting, *, only: bool) -> None:
        self.kind.setCurrentText(setting.kind.value)
        self.kind.setToolTip(setting.path or "What is played into the filter.")
        self.pitch.set_value(setting.pitch_hz)
        self.pitch.setEnabled(setting.kind in PITCHED)
        self.level.set_value(setting.level_v)
        self.pulse_width.set_value(100 * setting.width)
        self.pulse_width.setVisible(setting.kind is SourceKind.PULSE)
        self.away.setVisible(not only)


def _page(scrolled: QScrollArea) -> QVBoxLayout:
    inside = QWidget()
    column = QVBoxLayout(inside)
    column.setContentsMargins(0, 0, STEP, 0)
    column.setSpacing(STEP)
    scrolled.setWidget(inside)
    scrolled.setWidgetResizable(True)
    scrolled.setFrameShape(QScrollArea.Shape.NoFrame)
    scrolled.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    return column


class SourcePage(QScrollArea):
    """Up to three inputs mixed, the drive ahead of the filter, the limit of what comes next."""

    def __init__(self, presenter: SetupPresenter) -> None:
        super().__init__()
        column = _page(self)
        self.rows = [_InputRow(i, presenter) for i in range(3)]
        for row in self.rows:
            column.addWidget(row)
        self.more = QPushButton("Mix in another source")
        self.more.clicked.connect(presenter.add_input)
        column.addWidget(self.more)
        form = QFormLayout()
        form.setHorizontalSpacing(2 * STEP)
        form.setVerticalSpacing(STEP)
        self.drive = number_field("Drive", "dB", 1.0, presenter, lambda db: presenter.change(drive_db=db), reset=0.0,
                                  tip="Gain ahead of the filter.")
        self.limit = number_field("Next module", "V", 0.5, presenter, lambda v: presenter.change(next_limit_v=v),
                                  reset=5.0, tip="Peak volts that what comes next takes without overload.")
        form.addRow("Drive", self.drive)
        form.addRow("Next takes ±", self.limit)
        column.addLayout(form)
        column.addStretch(1)

    def show_setup(self, setup: Setup) -> None:
        for i, row in enumerate(self.rows):
            row.setVisible(i < len(setup.inputs))
            if i < len(setup.inputs):
                row.show_setting(setup.inputs[i], only=len(setup.inputs) == 1)
        self.more.setVisible(len(setup.inputs) < 3)
        self.drive.set_value(setup.drive_db)
        self.limit.set_value(setup.next_limit_v)


class CutoffPage(QScrollArea):
    """Knob range, fine tuning, key follow, three control voltages, the circuit's limits."""

    def __init__(self, presenter: SetupPresenter) -> None:
        super().__init__()
        self._presenter = presenter
        column = _page(self)
        grid = QGridLayout()
        grid.setHorizontalSpacing(STEP)
        grid.setVerticalSpacing(STEP)
        change = presenter.change
        self.knob = (
            frequency_field("Knob from", presenter, lambda hz: change(knob_low_hz=hz), reset=16.35,
                            tip="Cutoff at the lower end of the knob's travel."),
            frequency_field("Knob to", presenter, lambda hz: change(knob_high_hz=hz), reset=16_744.0,
                            tip="Cutoff at the upper end of the knob's travel."),
        )
        self.limits = (
            frequency_field("Circuit from", presenter, lambda hz: change(lowest_hz=hz), reset=16.0,
                            tip="Lowest cutoff the circuit reaches."),
            frequency_field("Circuit to", presenter, lambda hz: change(highest_hz=hz), reset=22_000.0,
                            tip="Highest cutoff the circuit reaches."),
        )
        self.fine = number_field("Fine", "c", 10.0, presenter, lambda c: change(fine_cents=c), reset=0.0,
                                 tip="Fine tuning, cents.")
        self.follow = number_field("Key follow", "%", 10.0, presenter, lambda p: change(key_follow_percent=p),
                                   reset=0.0, tip="100 % is 1 V/octave; 0 to 200 %.")
        self.key = number_field("Key at", "V", 1 / 12, presenter, lambda v: change(key_v=v), reset=0.0,
                                tip="Volts of the key held; 0 V is C4.")
        for row, (name, low, high) in enumerate((("Knob", *self.knob), ("Circuit", *self.limits))):
            grid.addWidget(QLabel(name), row, 0)
            grid.addWidget(low, row, 1)
            grid.addWidget(high, row, 2)
        grid.addWidget(QLabel("Fine"), 2, 0)
        grid.addWidget(self.fine, 2, 1)
        grid.addWidget(QLabel("Key"), 3, 0)
        grid.addWidget(self.follow, 3, 1)
        grid.addWidget(self.key, 3, 2)
        column.addLayout(grid)
        self.cvs = [self._cv(i, column) for i in range(3)]
        column.addStretch(1)

    def _cv(self, index: int, column: QVBoxLayout) -> tuple[TypedValue, TypedValue, TypedValue, TypedValue]:
        presenter = self._presenter
        heading = QLabel(f"CV {index + 1}: amount, standing at; moves from, to")
        heading.setProperty("role", "quiet")
        column.addWidget(heading)

        def field(what: str, unit: str, step: float, name: str, reset: float) -> TypedValue:
            return number_field(f"CV {index + 1} {what}", unit, step, presenter,
                                lambda value: presenter.change_cv(index, **{name: value}), reset=reset)

        fields = (field("amount", "%", 10.0, "amount_percent", 0.0), field("now", "V", 0.5, "now_v", 0.0),
                  field("from", "V", 0.5, "low_v", 0.0), field("to", "V", 0.5, "high_v", 5.0))
        row = QHBoxLayout()
        row.setSpacing(2)
        for each in fields:
            row.addWidget(each)
        column.addLayout(row)
        return fields

    def show_setup(self, setup: Setup) -> None:
        self.knob[0].set_value(setup.knob_low_hz)
        self.knob[1].set_value(setup.knob_high_hz)
        self.limits[0].set_value(setup.lowest_hz)
        self.limits[1].set_value(setup.highest_hz)
        self.fine.set_value(setup.fine_cents)
        self.follow.set_value(setup.key_follow_percent)
        self.key.set_value(setup.key_v)
        for fields, cv in zip(self.cvs, setup.cvs, strict=True):
            for field, value in zip(fields, (cv.amount_percent, cv.now_v, cv.low_v, cv.high_v), strict=True):
                field.set_value(value)
        self.fine.setToolTip(f"Fine tuning, cents; standing at {signed(setup.fine_cents, 0)} cents.")
