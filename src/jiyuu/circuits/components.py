"""Component values and what they come to: capacitor, control current, input attenuation, diodes, temperature.

    transistor and diode ladders    ω = I / (4·C·V_T·m)
    OTA circuits                    ω = a·I / (2·C·V_T)
    stage headroom at the panel     H_s = 2·V_T·m / a

V_T = k·T/q; a is the share of a stage's input voltage that reaches its pair (1 without attenuation), m the number of
diodes a rung has in series (1 for transistors). Preferred values follow IEC 60063.
"""

from __future__ import annotations

import math
from typing import Annotated

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError

from jiyuu.errors import CircuitError, JiyuuError
from jiyuu.quantities import parse_number

BOLTZMANN_J_PER_K, ELEMENTARY_CHARGE_C = 1.380649e-23, 1.602176634e-19  # exact in the SI since 2019
ZERO_CELSIUS_K = 273.15

LADDERS = ("transistor-ladder", "diode-ladder")
_E24 = (1.0, 1.1, 1.2, 1.3, 1.5, 1.6, 1.8, 2.0, 2.2, 2.4, 2.7, 3.0, 3.3, 3.6, 3.9, 4.3, 4.7, 5.1, 5.6, 6.2, 6.8, 7.5,
        8.2, 9.1)
SERIES = {
    "E6": _E24[::4], "E12": _E24[::2], "E24": _E24,
    "E96": tuple(round(10 ** (i / 96), 2) for i in range(96)),
}


def _typed(value: object) -> object:
    """'4n7' and '20uA' as well as plain numbers."""
    if isinstance(value, str):
        try:
            return parse_number(value)[0]
        except JiyuuError as error:
            raise ValueError(str(error)) from error
    return value


Value = Annotated[float, BeforeValidator(_typed), Field(allow_inf_nan=False)]


class Components(BaseModel):
    """The values that set a filter's tuning and levels. cutoff_v: where the cutoff control stands, at 1 V/octave."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    capacitor_f: Annotated[Value, Field(ge=1e-12, le=1e-3)]
    current_a: Annotated[Value, Field(ge=1e-9, le=0.1, description="control current at 0 V, amperes")]
    attenuation: Annotated[Value, Field(gt=0, le=1, description="share of the input that reaches the pair")] = 1.0
    diodes: Annotated[int, Field(ge=1, le=10)] = 1
    temperature_c: Annotated[Value, Field(ge=-40, le=125)] = 25.0
    cutoff_v: Annotated[Value, Field(ge=-20, le=20)] = 0.0
    loop_ohm: Annotated[Value, Field(ge=10, le=1e8, description="resistor that sets the loop gain against")] = 100e3
    resonance_ohm: Annotated[Value, Field(ge=1, le=1e9, description="what the control leaves at its end")] | None = None

    def changed(self, **changes: object) -> Components:
        """With some of it changed. Raises CircuitError naming the value and its range."""
        try:
            return Components.model_validate({**self.model_dump(), **changes})
        except ValidationError as error:
            name = str(error.errors()[0]["loc"][0])
            title, unit, low, high = RANGES[name]
            given = changes.get(name)
            was = shown(given, unit) if isinstance(given, int | float) else str(given)
            raise CircuitError(f"{title} of {was} is out of range; type {shown(low, unit)} to {shown(high, unit)}."
                               ) from error


# What each value is called, its unit and its range, for whoever types one out of it.
RANGES: dict[str, tuple[str, str, float, float]] = {
    "capacitor_f": ("Capacitor", "F", 1e-12, 1e-3), "current_a": ("Control current", "A", 1e-9, 0.1),
    "attenuation": ("Attenuation", "", 1e-6, 1.0), "diodes": ("Diodes", "", 1, 10),
    "temperature_c": ("Temperature", "°C", -40, 125), "cutoff_v": ("Cutoff control", "V", -20, 20),
    "loop_ohm": ("Loop resistor", "Ω", 10, 1e8), "resonance_ohm": ("Resonance resistor", "Ω", 1, 1e9),
}

# What each value moves, in the words the window shows.
MOVES = {
    "capacitor_f": "cutoff: half the capacitance is an octave up",
    "current_a": "cutoff: twice the current is an octave up",
    "attenuation": "headroom up and, in OTA circuits, cutoff down, both by the ratio",
    "diodes": "headroom up and cutoff down by their number",
    "resonance_ohm": "loop gain at the end of the resonance control: k = loop resistor / this one",
    "temperature_c": "cutoff down and headroom up by 0.34 % a degree, where nothing compensates",
}


def thermal_v(temperature_c: float) -> float:
    """k·T/q: 25.7 mV at 25 °C."""
    return BOLTZMANN_J_PER_K * (temperature_c + ZERO_CELSIUS_K) / ELEMENTARY_CHARGE_C


def cutoff_hz(circuit_id: str, components: Components) -> float:
    """Pole frequency at the control's present volts."""
    return _per_current(circuit_id, components) * components.current_a * 2**components.cutoff_v / components.capacitor_f


def stage_headroom_v(components: Components) -> float:
    """Headroom of a stage at the panel."""
    return 2 * thermal_v(components.temperature_c) * components.diodes / components.attenuation


def full_gain(components: Components) -> float:
    """Loop gain at the end of the resonance control. Raises CircuitError where no resistor is given."""
    if components.resonance_ohm is None:
        raise CircuitError("the resonance resistor is not given, so the loop gain at the end of the control is open.")
    return components.loop_ohm / components.resonance_ohm


def capacitor_for(circuit_id: str, components: Components, wanted_hz: float) -> float:
    """Farad that put the cutoff at wanted_hz at the present current and volts. Raises CircuitError below 0 Hz."""
    if not wanted_hz > 0:
        raise CircuitError(f"a cutoff of {wanted_hz:g} Hz needs no capacitor; give more than 0 Hz.")
    return _per_current(circuit_id, components) * components.current_a * 2**components.cutoff_v / wanted_hz


def current_span_a(circuit_id: str, components: Components, lowest_hz: float, highest_hz: float) -> tuple[float, float]:
    """Control currents between which the cutoff runs from lowest_hz to highest_hz."""
    per_hertz = components.capacitor_f / _per_current(circuit_id, components)
    return lowest_hz * per_hertz, highest_hz * per_hertz


def preferred(value: float, series: str = "E12") -> float:
    """The nearest preferred value by ratio. Raises CircuitError for an unknown series or a value not above 0."""
    if series not in SERIES:
        raise CircuitError(f"there is no series '{series}'; choose one of: {', '.join(SERIES)}.")
    if not (math.isfinite(value) and value > 0):
        raise CircuitError(f"{value:g} is no component value; give more than 0.")
    decade = 10.0 ** math.floor(math.log10(value))
    choices = [mantissa * decade * step for step in (0.1, 1.0, 10.0) for mantissa in SERIES[series]]
    return float(f"{min(choices, key=lambda choice: abs(math.log(choice / value))):.6g}")


def error_cents(exact_f: float, chosen_f: float) -> float:
    """How far the cutoff moves when a capacitor is chosen instead of the exact one: a larger one lowers it."""
    return -1200 * math.log2(chosen_f / exact_f)


def shown(value: float, unit: str) -> str:
    """'4n7F' as people write it without the dot: 4.7 nF, 20 µA."""
    for scale, letter in ((1e6, "M"), (1e3, "k"), (1.0, ""), (1e-3, "m"), (1e-6, "µ"), (1e-9, "n"), (1e-12, "p")):
        if value >= scale * 0.9995:
            return f"{value / scale:.4g} {letter}{unit}"
    return f"{value:.3g} {unit}"


def usual_components(circuit_id: str, headroom_v: float, reference_hz: float) -> Components:
    """Values that give a stage headroom and reference_hz at 0 V, with 10 nF at 25 °C: where nothing else is known."""
    attenuation = min(1.0, 2 * thermal_v(25.0) / headroom_v)
    bare = Components(capacitor_f=10e-9, current_a=1e-6, attenuation=attenuation)
    return bare.model_copy(update={"current_a": 1e-6 * reference_hz / cutoff_hz(circuit_id, bare)})


def _per_current(circuit_id: str, components: Components) -> float:
    """Hertz per ampere per farad⁻¹: cutoff = this · I / C."""
    volts = thermal_v(components.temperature_c)
    if circuit_id in LADDERS:
        return 1 / (4 * volts * components.diodes) / (2 * math.pi)
    return components.attenuation / (2 * volts * components.diodes) / (2 * math.pi)
