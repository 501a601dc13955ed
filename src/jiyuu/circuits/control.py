"""What stands between a knob or a control voltage and the circuit: exponential converter and resonance taper.

    ln(I/I0) = ln2·(1 + ε)·V − I·Re/VT + γ·I,   I + I_leak reaches the stages

ε is the scale error, Re the bulk resistance that flattens the top, γ the high-frequency trim that adds it back, I_leak
the leakage that holds up the bottom. Solved in closed form with the Lambert W function (Corless et al. 1996, Advances
in Computational Mathematics).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.components import thermal_v
from jiyuu.errors import CircuitError


@dataclass(frozen=True, slots=True)
class Converter:
    """An exponential converter at reference_a for 0 V. droop: bulk resistance as reference_a·Re/VT; hf_trim: γ in the
    same units, 0 when there is none; leak: leakage re the reference current."""

    scale_error: float = 0.0
    droop: float = 0.0
    hf_trim: float = 0.0
    leak: float = 0.0

    def octaves(self, volts: FloatArray | float) -> FloatArray:
        """log2 of the current re the reference at control volts (n,); V for an ideal converter.

        Raises CircuitError where the trim adds more than the resistance takes: then the current runs away."""
        ideal = np.exp(np.log(2) * (1 + self.scale_error) * np.asarray(volts, dtype=float))
        loss = self.droop - self.hf_trim
        if loss > 0:
            from scipy.special import lambertw

            current = np.real(lambertw(loss * ideal)) / loss
        elif loss < 0:
            from scipy.special import lambertw

            if np.any(loss * ideal < -np.exp(-1)):
                raise CircuitError("The high-frequency trim adds back more than there is to add; turn it down.")
            current = np.real(lambertw(loss * ideal)) / loss
        else:
            current = ideal
        return np.asarray(np.log2(current + self.leak))


def droop_of(resistance_ohm: float, reference_a: float, temperature_c: float = 25.0) -> float:
    """Bulk resistance as a Converter's droop."""
    return resistance_ohm * reference_a / thermal_v(temperature_c)


class Taper(StrEnum):
    """How a resonance control's travel becomes loop gain."""

    LINEAR = "linear"
    LOG = "log"
    REVERSE_LOG = "reverse-log"


_MIDDLE = 0.1  # what a log control gives at half its travel


def taper_share(travel: FloatArray | float, taper: Taper | Sequence[tuple[float, float]]) -> FloatArray:
    """Share of the full gain at a share of the travel, both 0 to 1. A table of (travel, share) is read between its
    points; raises CircuitError when it does not rise from one to the next."""
    t = np.clip(np.asarray(travel, dtype=float), 0.0, 1.0)
    if isinstance(taper, Taper):
        base = (1 / _MIDDLE - 1) ** 2
        if taper is Taper.LOG:
            return np.asarray((base**t - 1) / (base - 1))
        if taper is Taper.REVERSE_LOG:
            return np.asarray(1 - (base ** (1 - t) - 1) / (base - 1))
        return t
    x, y = checked_table(taper)
    return np.asarray(np.interp(t, x, y))


def loaded_share(travel: FloatArray | float, resistor_share: float, *, to_ground: bool) -> FloatArray:
    """Share of the voltage of a linear control with a resistor from its wiper to ground or to its top.

    resistor_share: the resistor re the control's own resistance. To ground it lags like a log control, to the top it
    leads. Raises CircuitError for a resistor of 0 or less."""
    if not (np.isfinite(resistor_share) and resistor_share > 0):
        raise CircuitError(f"A resistor across the control of {resistor_share:g} times its value cannot be; give > 0.")
    t = np.clip(np.asarray(travel, dtype=float), 0.0, 1.0)
    if not to_ground:
        t = 1 - t
    # The lower part t beside the resistor, under the upper part 1 − t.
    lower = t * resistor_share / (t + resistor_share)
    share = lower / (lower + 1 - t)
    return np.asarray(share if to_ground else 1 - share)


def taper_travel(share: FloatArray | float, taper: Taper | Sequence[tuple[float, float]]) -> FloatArray:
    """The travel that gives a share of the full gain; the inverse of taper_share, past 1 in proportion."""
    s = np.asarray(share, dtype=float)
    inside = np.clip(s, 0.0, 1.0)
    if isinstance(taper, Taper):
        base = (1 / _MIDDLE - 1) ** 2
        travel = {
            Taper.LINEAR: inside,
            Taper.LOG: np.log1p(inside * (base - 1)) / np.log(base),
            Taper.REVERSE_LOG: 1 - np.log1p((1 - inside) * (base - 1)) / np.log(base),
        }[taper]
    else:
        x, y = checked_table(taper)
        travel = np.interp(inside, y, x)
    return np.asarray(travel + np.maximum(s - 1, 0.0))


def checked_table(table: Sequence[tuple[float, float]]) -> tuple[FloatArray, FloatArray]:
    """(travel, share) of a measured taper, from (0, 0) to (1, 1) and rising. Raises CircuitError otherwise."""
    points = np.array(table, dtype=float)
    if points.ndim != 2 or points.shape[1:] != (2,) or len(points) < 2 or not np.isfinite(points).all():
        raise CircuitError("A taper table needs at least two pairs of finite numbers: travel and share, each 0 to 1.")
    x, y = points[:, 0], points[:, 1]
    if (np.diff(x) <= 0).any() or (np.diff(y) <= 0).any() or tuple(points[0]) != (0, 0) or tuple(points[-1]) != (1, 1):
        raise CircuitError("A taper table must rise from (0, 0) to (1, 1) in travel and in share; mend its points.")
    return x, y
