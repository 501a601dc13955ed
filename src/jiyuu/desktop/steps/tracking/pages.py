"""What can be set in the Tracking step: the range asked for, and the trims with the record of them."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QCheckBox, QComboBox, QFormLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from jiyuu.bench.steps.tracking import TrackingSetting
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.trims import RANGES, Trim, Trims
from jiyuu.desktop.parts.frame import ModeBox, form, narrow, scrolled
from jiyuu.desktop.parts.knobs import by_name, model_field, number_field, scale_field
from jiyuu.desktop.parts.typed_value import TypedValue
from jiyuu.desktop.steps.tracking.presenter import TrackingPresenter

HOW = {"where it whistles": None, "by its tone": False, "by sweeps": True}
NUMBERS = ("start_hz", "key_follow_percent", "from_v", "to_v", "step_v", "resonance_percent", "tolerance_cents",
           "reference_v", "temperature_c", "hold_s")


def _form(page: QWidget) -> QFormLayout:
    whole = QVBoxLayout(page)
    whole.setContentsMargins(0, 0, 0, 0)
    area, column = scrolled()
    whole.addWidget(area)
    fields = form()
    column.addLayout(fields)
    column.addStretch(1)
    return fields


class AskPage(QWidget):
    """Range, step, tolerance, reference, temperature, and how to track."""

    def __init__(self, presenter: TrackingPresenter) -> None:
        super().__init__()
        rows = _form(self)
        self.mode = ModeBox()
        self.mode.textActivated.connect(presenter.set_mode)
        rows.addRow("Mode", self.mode)
        self.how = narrow(QComboBox())
        self.how.setAccessibleName("How to track")
        self.how.addItems(list(HOW))
        self.how.setToolTip("By its tone: resonance up, the whistle is counted. By sweeps: the −3 dB point or the peak "
                            "at every step, for filters that do not whistle.")
        self.how.textActivated.connect(lambda text: presenter.ask(by_sweeps=HOW[text]))
        rows.addRow("Track", self.how)
        self.scale = scale_field(TrackingSetting, "C2 E2 G2", lambda notes: presenter.ask(scale=notes))
        self.fields: dict[str, TypedValue] = {}
        for name in NUMBERS:
            self.fields[name] = model_field(
                TrackingSetting, name, by_name(presenter.ask, name),
                lambda text: presenter.message.emit(text, True))
            rows.addRow(str(TrackingSetting.model_fields[name].title), self.fields[name])
            if name == "start_hz":
                rows.addRow("Scale", self.scale)

    def show_setting(self, document: Filter, setting: TrackingSetting) -> None:
        """What is asked; where nothing is, what follows from the drawing."""
        self.how.setCurrentText(next(text for text, value in HOW.items() if value is setting.by_sweeps))
        if not (self.scale.hasFocus() and self.scale.isModified()):
            self.scale.setText(setting.scale)
        typed = bool(setting.scale.strip())
        self.fields["key_follow_percent"].setEnabled(typed)
        for name in ("from_v", "to_v", "step_v"):
            self.fields[name].setEnabled(not typed)
        volts = setting.volts(swept=setting.sweeps(document))
        follows = {
            "start_hz": setting.first_hz(document), "to_v": setting.to_v if typed else volts[-1],
            "resonance_percent": setting.whistles_at(document),
            "reference_v": volts[0] if setting.reference_v is None else setting.reference_v,
        }
        for name, field in self.fields.items():
            field.set_value(follows.get(name, getattr(setting, name)))


class TrimsPage(QWidget):
    """Turns of every trim to be typed, the note of where they stand on a real board, and the record."""

    def __init__(self, presenter: TrackingPresenter) -> None:
        super().__init__()
        fields = _form(self)
        self.turns: dict[Trim, TypedValue] = {}

        def turned(trim: Trim) -> Callable[[float], object]:
            return lambda turns: presenter.turn(trim, turns)

        for trim, allowed in RANGES.items():
            tip = (f"Turns clockwise from where the drawing has it, {allowed.least:g} to {allowed.most:g}; by the "
                   f"drawing one turn is {allowed.per_turn:g} {allowed.unit}.")
            field = number_field(allowed.title, "turns", 0.5)
            field.setToolTip(tip)
            field.entered.connect(turned(trim))
            field.reset.connect(lambda trim=trim: presenter.turn(trim, 0.0))
            field.refused.connect(lambda text: presenter.message.emit(text, True))
            self.turns[trim] = field
            fields.addRow(allowed.title.replace("High-frequency", "HF"), self.turns[trim])
        self.tune = QCheckBox("Bring 0 V to its pitch, too")
        self.tune.setToolTip("Also advise the offset trim, so that the reference step gives the pitch meant.")
        self.tune.clicked.connect(lambda on: presenter.ask(tune_offset=bool(on)))
        fields.addRow(self.tune)
        self.note = QLineEdit()
        self.note.setAccessibleName("Trim positions as noted")
        self.note.setPlaceholderText("none")
        self.note.setToolTip("The positions as they are noted on the board, for the calibration record; Enter takes "
                             "them over.")
        self.note.setMaxLength(500)
        self.note.returnPressed.connect(lambda: presenter.ask(note=self.note.text()))
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
