"""A circuit: a family of networks with named parameters, as the catalogue lists it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from jiyuu.circuits.diagram import Diagram
from jiyuu.circuits.linear import onset
from jiyuu.circuits.network import Network
from jiyuu.errors import CircuitError

CUTOFF_MINIMUM_HZ = 1.0
CUTOFF_MAXIMUM_HZ = 40_000.0  # an octave over the ear's limit is past what any exponential converter reaches
ONSET_TRAVEL = 10 / 11  # share of the resonance control at which a drawing's self-oscillation starts


@dataclass(frozen=True, slots=True)
class Parameter:
    """One number a circuit takes besides cutoff and resonance."""

    name: str
    unit: str
    default: float
    minimum: float
    maximum: float
    meaning: str
    group: str = "Circuit"

    def checked(self, value: float) -> float:
        """The value. Raises CircuitError naming the range."""
        if not (np.isfinite(value) and self.minimum <= value <= self.maximum):
            unit = f" {self.unit}" if self.unit else ""
            raise CircuitError(
                f"{self.name} = {value:g}{unit} is out of range; give {self.minimum:g} to {self.maximum:g}{unit}."
            )
        return float(value)


@dataclass(frozen=True, slots=True)
class LightPath:
    """The parameters (ms) of a light-dependent element between the cutoff control and the circuit."""

    opening: str
    closing: str
    closing_dark: str


Values = Mapping[str, float]


@dataclass(frozen=True, slots=True, eq=False)
class Circuit:
    """A catalogue entry. `draw` turns a full set of parameter values into a network; the first mode is the default."""

    id: str
    title: str
    explanation: str
    poles: int
    modes: tuple[str, ...]
    parameters: tuple[Parameter, ...]
    draw: Callable[[Values], Network]
    diagram: Diagram
    light: LightPath | None = None  # what the cutoff control passes on its way, where there is such a thing

    def values(self, given: Values | None = None) -> dict[str, float]:
        """All parameters, defaults filled in. Raises CircuitError for an unknown name or a value out of range."""
        known = {parameter.name: parameter for parameter in self.parameters}
        given = given or {}
        for name in given:
            if name not in known:
                raise CircuitError(f"{self.id} has no parameter '{name}'; it has: {', '.join(known) or 'none'}.")
        return {name: p.checked(given.get(name, p.default)) for name, p in known.items()}

    def network(self, given: Values | None = None) -> Network:
        """The network at the parameter values given, defaults for the rest; the same one for the same values, since it
        is asked for at every move of a control."""
        return _drawn(self, tuple(self.values(given).items()))

    def mode(self, wanted: str | None) -> str:
        """The mode meant: the first when none is given; 'lowpass' and 'lowpass-12' both find a circuit's only lowpass.

        Raises CircuitError listing the modes there are."""
        if wanted is None:
            return self.modes[0]
        if wanted in self.modes:
            return wanted
        bare = wanted.removesuffix(f"-{6 * self.poles}")
        close = [m for m in self.modes if m.startswith(wanted + "-")] or [m for m in self.modes if m == bare]
        if len(close) == 1:
            return close[0]
        raise CircuitError(f"{self.id} has no mode '{wanted}'; it has: {', '.join(self.modes)}.")

    @property
    def onset_gain(self) -> float | None:
        """Loop gain at which the circuit starts to oscillate, at default parameters; None if it never does."""
        return _default_onset(self)

    @property
    def full_gain(self) -> float:
        """Loop gain at the end of the resonance control's travel, when a filter file does not say otherwise."""
        return (self.onset_gain or 1.0) / ONSET_TRAVEL


@lru_cache(maxsize=64)
def _drawn(circuit: Circuit, values: tuple[tuple[str, float], ...]) -> Network:
    return circuit.draw(dict(values))


@lru_cache(maxsize=64)
def _default_onset(circuit: Circuit) -> float | None:
    found = onset(circuit.network(), cutoff_hz=1000.0)
    return found.gain if found else None


def checked_cutoff(cutoff_hz: float) -> float:
    """The cutoff in Hz. Raises CircuitError naming the range every circuit is stated for."""
    if not (np.isfinite(cutoff_hz) and CUTOFF_MINIMUM_HZ <= cutoff_hz <= CUTOFF_MAXIMUM_HZ):
        raise CircuitError(
            f"cutoff {cutoff_hz:g} Hz is out of range; give {CUTOFF_MINIMUM_HZ:g} to {CUTOFF_MAXIMUM_HZ:g} Hz."
        )
    return float(cutoff_hz)


def checked_gain(gain: float) -> float:
    """The loop gain. Raises CircuitError out of 0 to 1000."""
    if not (np.isfinite(gain) and 0 <= gain <= 1000):
        raise CircuitError(f"resonance gain {gain:g} is out of range; give 0 to 1000.")
    return float(gain)
