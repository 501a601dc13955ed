"""What can be set in the Tracking step: the range asked for, and the trims with the record of them."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFormLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from jiyuu.book.tracking_setting import TrackingSetting
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.trims import RANGES, Trim, Trims
from jiyuu.desktop.bench.frame import ModeBox, form
from jiyuu.desktop.bench.knobs import frequency_field, number_field
from jiyuu.desktop.bench.tracking.presenter import TrackingPresenter
from jiyuu.desktop.bench.typed_value import TypedValue

HOW = {"where it whistles": None, "by its tone": False, "by sweeps": True}


def _form(page: QWidget) -> QFormLayout:
    column = QVBoxLayout(page)
    column.setContentsMargins(0, 0, 0, 0)
    fields = form()
    column.addLayout(fields)
    return fields


class AskPage(QWidget):
    """Range, step, tolerance, reference, temperature, and how to track."""

    def __init__(self, presenter: TrackingPresenter) -> None:
        super().__init__()
        fields = _form(self)

        def field(name: str, unit: str, step: float, key: str, reset: float, tip: str) -> TypedValue:
            made = number_field(name, unit, step, presenter, lambda value: presenter.change(**{key: value}),
                                reset=reset, tip=tip)
            fields.addRow(name, made)
            return made

        self.mode = ModeBox(presenter)
        fields.addRow("Mode", self.mode)
        self.how = QComboBox()
        self.how.setAccessibleName("How to track")
        self.how.addItems(list(HOW))
        self.how.setToolTip("By its tone: resonance up, the whistle is counted. By sweeps: the −3 dB point or the peak "
                            "at every step, for filters that do not whistle.")
        self.how.textActivated.connect(lambda text: presenter.change(by_sweeps=HOW[text]))
        fields.addRow("Track", self.how)
        self.start = frequency_field("0 V is", presenter, lambda hz: presenter.change(start_hz=hz), reset=32.703,
                                     tip="Where the cutoff knob stands while 0 V is applied: 32.7, C1.")
        fields.addRow("0 V is", self.start)
        self.scale = QLineEdit()
        self.scale.setAccessibleName("Scale")
        self.scale.setPlaceholderText("C2 E2 G2, or C2 5/4 702c")
        self.scale.setMaxLength(2000)
        self.scale.setToolTip("Notes played instead of the range, in any tuning: names, hertz, or ratios and cents "
                              "over the first (over '0 V is' when there is no other). Enter; empty for the range.")
        self.scale.returnPressed.connect(lambda: presenter.change(scale=self.scale.text()))
        fields.addRow("Scale", self.scale)
        self.follow = field("Key follow", "%", 10.0, "key_follow_percent", 100.0,
                            "How much of the keys' volts the filter is given while a scale is played.")
        self.low = field("From", "V", 1.0, "from_v", 0.0, "First control voltage.")
        self.high = field("To", "V", 1.0, "to_v", 8.0, "Last control voltage.")
        self.step = field("Step", "V", 0.25, "step_v", 1.0, "Volts between steps; 1/12 V is a semitone.")
        self.percent = field("Resonance", "%", 1.0, "resonance_percent", 100.0,
                             "Where the resonance control stands while it is tracked: past the onset to count a tone.")
        self.tolerance = field("Tolerance", "cents", 1.0, "tolerance_cents", 5.0,
                               "Cents that count as in tune: 2 in unison, 5 usual, 20 for a charming wander.")
        self.reference = field("Reference", "V", 1.0, "reference_v", 0.0, "The step that the errors are against.")
        self.warmth = field("Temperature", "°C", 1.0, "temperature_c", 25.0, "Of the unit; goes into the record.")
        self.hold = field("Hold", "s", 5.0, "hold_s", 0.0, "Seconds of the first step held afterwards, for drift.")

    def show_setting(self, document: Filter, mode: str, setting: TrackingSetting) -> None:
        self.mode.show_mode(document.entry.modes, mode)
        self.how.setCurrentText(next(text for text, value in HOW.items() if value is setting.by_sweeps))
        self.start.set_value(setting.first_hz(document))
        if not (self.scale.hasFocus() and self.scale.isModified()):
            self.scale.setText(setting.scale)
        self.follow.setEnabled(bool(setting.scale.strip()))
        for field in (self.low, self.high, self.step):
            field.setEnabled(not setting.scale.strip())
        volts = setting.volts(swept=setting.sweeps(document))
        to_v = volts[-1] if not setting.scale.strip() else setting.to_v
        for field, value in (
            (self.low, setting.from_v), (self.high, to_v), (self.step, setting.step_v),
            (self.follow, setting.key_follow_percent),
            (self.percent, setting.whistles_at(document)), (self.tolerance, setting.tolerance_cents),
            (self.reference, volts[0] if setting.reference_v is None else setting.reference_v),
            (self.warmth, setting.temperature_c), (self.hold, setting.hold_s),
        ):
            field.set_value(value)


class TrimsPage(QWidget):
    """Turns of every trim to be typed, the note of where they stand on a real board, and the record."""

    def __init__(self, presenter: TrackingPresenter) -> None:
        super().__init__()
        self._presenter = presenter
        fields = _form(self)
        self.turns: dict[Trim, TypedValue] = {}

        def turned(trim: Trim) -> Callable[[float], object]:
            return lambda turns: presenter.turn(trim, turns)

        for trim, allowed in RANGES.items():
            tip = (f"Turns clockwise from where the drawing has it, {allowed.least:g} to {allowed.most:g}; by the "
                   f"drawing one turn is {allowed.per_turn:g} {allowed.unit}.")
            self.turns[trim] = number_field(allowed.title, "turns", 0.5, presenter, turned(trim), reset=0.0, tip=tip)
            fields.addRow(allowed.title.replace("High-frequency", "HF"), self.turns[trim])
        self.tune = QCheckBox("Bring 0 V to its pitch, too")
        self.tune.setToolTip("Also advise the offset trim, so that the reference step gives the pitch meant.")
        self.tune.clicked.connect(lambda on: presenter.change(tune_offset=bool(on)))
        fields.addRow(self.tune)
        self.note = QLineEdit()
        self.note.setAccessibleName("Trim positions as noted")
        self.note.setPlaceholderText("as noted on the board, Enter")
        self.note.setMaxLength(500)
        self.note.returnPressed.connect(lambda: presenter.change(note=self.note.text()))
        fields.addRow("Noted", self.note)
        self.record = QPushButton("Write calibration record …")
        self.record.setToolTip("Date, temperature, readings, trims and advice as CSV or JSON.")
        fields.addRow(self.record)
        caution = QLabel("Before a screwdriver goes near a board under power: insulated tip, one hand, no jewellery; "
                         "anything on mains voltage is for people licensed for it.")
        caution.setProperty("role", "quiet")
        caution.setWordWrap(True)
        fields.addRow(caution)

    def show_trims(self, trims: Trims, setting: TrackingSetting) -> None:
        for trim, field in self.turns.items():
            field.set_value(trims[trim])
        self.tune.setChecked(setting.tune_offset)
        if not (self.note.hasFocus() and self.note.isModified()):
            self.note.setText(setting.note)
