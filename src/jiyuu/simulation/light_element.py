"""How a light-dependent resistor follows its lamp: fast into the light, slowly into the dark, slower the darker.

    l' = (target − l)/τ,   τ = opening while it brightens; while it darkens from closing (bright) to closing_dark (dark)

l is the opening in octaves (of conductance, and so of cutoff). Eight octaves below its brightest the element counts as
dark. Integrated exactly over every sample for a τ held through it.
"""

from __future__ import annotations

import math

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.circuit import Circuit, Values
from jiyuu.signals.long_record import Record

DARK_OCTAVES = 8.0


def through_light(
    circuit: Circuit, values: Values, control_v: FloatArray, sample_rate_hz: float, *, cutoff_hz: float
) -> FloatArray:
    """The cutoff control (n,) as it reaches a circuit set to cutoff_hz: through its light-dependent element, where it
    has one, and as it is where it has none."""
    return record_through_light(circuit, values, Record.of(control_v), sample_rate_hz, cutoff_hz=cutoff_hz).whole()


def record_through_light(
    circuit: Circuit, values: Values, control: Record, sample_rate_hz: float, *, cutoff_hz: float
) -> Record:
    """The same of a record of any length."""
    light = circuit.light
    if light is None:
        return control
    found = Record()
    for block in control.blocks():
        found.add(followed(
            block, sample_rate_hz, opening_s=values[light.opening] / 1000, closing_s=values[light.closing] / 1000,
            closing_dark_s=values[light.closing_dark] / 1000, brightest_v=math.log2(values["open_hz"] / cutoff_hz),
            start=float(found.read(found.size - 1, found.size)[0]) if found.size else None,
        ))
    return found


def followed(
    control_v: FloatArray, sample_rate_hz: float, *, opening_s: float, closing_s: float, closing_dark_s: float,
    brightest_v: float, start: float | None = None,
) -> FloatArray:
    """The opening (n,) in octaves that follows control_v (n,) at 1 V/octave, from start, or from where the control
    starts. brightest_v: the control at which the element is fully lit."""
    result = np.empty(control_v.size)
    step = 1 / sample_rate_hz
    opening = math.exp(-step / opening_s)
    level = start if start is not None else float(control_v[0]) if control_v.size else 0.0
    spread = math.log(closing_dark_s / closing_s)
    for i, target in enumerate(control_v.tolist()):
        if target >= level:
            keep = opening
        else:
            dark = min(max((brightest_v - level) / DARK_OCTAVES, 0.0), 1.0)
            keep = math.exp(-step / (closing_s * math.exp(spread * dark)))
        level = target + (level - target) * keep
        result[i] = level
    return result
