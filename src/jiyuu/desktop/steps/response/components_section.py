"""The values on the board behind the normalised numbers, each with what it moves."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from jiyuu.circuits.components import (
    MOVES,
    Components,
    current_span_a,
    cutoff_hz,
    shown,
    stage_headroom_v,
)
from jiyuu.desktop.parts.frame import form
from jiyuu.desktop.parts.typed_value import TypedValue
from jiyuu.desktop.theme.style import STEP
from jiyuu.errors import CircuitError
from jiyuu.quantities import parse_number, shown_hz, signed, volts_between

_FIELDS = (
    ("capacitor_f", "Capacitor", "F"), ("current_a", "Current at 0 V", "A"), ("attenuation", "Input share", ""),
    ("resonance_ohm", "Resonance R, end", "Ω"),
    ("diodes", "Diodes a rung", ""), ("temperature_c", "Temperature", "°C"),
)

EXAMPLES = {"capacitor_f": "4n7", "current_a": "20uA", "attenuation": "0.05", "resonance_ohm": "22k", "diodes": "2",
            "temperature_c": "35"}


class ComponentsSection(QWidget):
    """A change is told, not applied; `preferred` asks for the nearest capacitor of a series."""

    changed = pyqtSignal(str, float)
    preferred = pyqtSignal(str)
    refused = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(STEP)
        heading = QLabel("Components")
        heading.setProperty("role", "heading")
        column.addWidget(heading)
        self._form = form()
        self.fields: dict[str, TypedValue] = {}
        for name, title, unit in _FIELDS:
            field = self._field(name, title, unit)
            self._form.addRow(title, field)
            self.fields[name] = field
        column.addLayout(self._form)
        self.comes_to = QLabel()
        self.comes_to.setWordWrap(True)
        self.comes_to.setProperty("role", "quiet")
        column.addWidget(self.comes_to)
        row = QHBoxLayout()
        row.setSpacing(STEP)
        row.addWidget(QLabel("Nearest C"))
        for series in ("E6", "E12", "E24"):
            button = QPushButton(series)
            button.setAccessibleName(f"Nearest capacitor of {series}")
            button.clicked.connect(lambda _=False, name=series: self.preferred.emit(name))
            row.addWidget(button)
        column.addLayout(row)

    def show_values(self, circuit_id: str, components: Components, cutoff_set_hz: float) -> None:
        """The values and what they come to."""
        for name, _, _unit in _FIELDS:
            value = getattr(components, name)
            if value is not None:
                self.fields[name].set_value(float(value))
        self._form.setRowVisible(self.fields["diodes"], circuit_id == "diode-ladder")
        at_zero = cutoff_hz(circuit_id, components.model_copy(update={"cutoff_v": 0.0}))
        low, high = current_span_a(circuit_id, components, 20.0, 20_000.0)
        volts = signed(volts_between(at_zero, cutoff_set_hz), 2)
        self.comes_to.setText(
            f"0 V gives {shown_hz(at_zero)}; the cutoff set needs {volts} V. "
            f"Headroom {stage_headroom_v(components):.3g} V. 20 Hz to 20 kHz takes {shown(low, 'A')} to "
            f"{shown(high, 'A')}."
        )

    def _field(self, name: str, title: str, unit: str) -> TypedValue:
        def parse(text: str) -> float:
            value, given = parse_number(text)
            if given not in ("", unit, "C" if unit == "°C" else unit):
                raise CircuitError(f"'{text}' is not in {unit or 'plain numbers'}; type for example {EXAMPLES[name]}.")
            return value

        def show(value: float) -> str:
            return shown(value, unit) if unit in ("F", "A", "Ω") else f"{value:.4g} {unit}".rstrip()

        field = TypedValue(
            title, parse=parse, show=show,
            stepped=lambda value, way, fine: value + way if unit == "°C" or name == "diodes" else
            value * 2 ** (way * (0.1 if fine else 1.0) / 12),
        )
        field.setToolTip(f"Moves {MOVES[name].replace(': ', ', ')}. Type for example 4n7, 20uA.")
        field.entered.connect(lambda value: self.changed.emit(name, value))
        field.refused.connect(self.refused)
        return field
