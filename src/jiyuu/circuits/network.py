"""A filter as a network of saturating branches between capacitors.

    v  = V(k)·x + U(k)·u + Z(k)·φ(v) + offset     branch voltages, Z strictly lower triangular
    x' = Ω(t) · W · φ(v)                          capacitor voltages
    y  = C(k)·x + D(k)·u + E(k)·φ(v)              one row per output

V, U, Z, C, D and E are affine in all named gains k: a filter alone has one, its resonance; joined filters keep their
own. Ω is diagonal: a tuned row turns at ω(t)·ρ of the named cutoff it belongs to, a fixed row at a constant rate.
Prediction, simulation, tolerance and netlist all read this one description.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import FloatArray
from jiyuu.errors import CircuitError


class BranchKind(StrEnum):
    """Shape of a branch; slope 1 at zero, headroom H in volts."""

    LINEAR = "linear"  # v
    TANH = "tanh"  # H·tanh(v/H): differential pair, OTA
    ASINH = "asinh"  # H·asinh(v/H): antiparallel diodes across a feedback resistor
    CLIP = "clip"  # clamp to ±H: supply rails
    FOLD = "fold"  # H·sin(v/H): what passes the top comes down again


@dataclass(frozen=True, slots=True)
class Branch:
    """One saturating branch: its kind, headroom (V, > 0) and input offset (V); rest_slope: its slope while nothing
    sounds, where it is biased on purpose."""

    name: str
    kind: BranchKind
    headroom_v: float = 1.0
    offset_v: float = 0.0
    rest_slope: float = 1.0

    def __post_init__(self) -> None:
        if not (np.isfinite(self.headroom_v) and self.headroom_v > 0):
            raise CircuitError(f"Branch '{self.name}' has headroom {self.headroom_v} V; give a finite value above 0.")
        if not np.isfinite(self.offset_v):
            raise CircuitError(f"Branch '{self.name}' has offset {self.offset_v} V; give a finite value.")


    def at(self, voltage_v: FloatArray) -> tuple[FloatArray, FloatArray]:
        """φ and its slope φ' at branch voltages of any shape; the offset is not added here."""
        if self.kind is BranchKind.LINEAR:
            return voltage_v, np.ones_like(voltage_v)
        x = voltage_v / self.headroom_v
        if self.kind is BranchKind.TANH:
            t = np.tanh(x)
            return self.headroom_v * t, 1 - t * t
        if self.kind is BranchKind.ASINH:
            return self.headroom_v * np.arcsinh(x), 1 / np.hypot(1, x)
        if self.kind is BranchKind.FOLD:
            return self.headroom_v * np.sin(x), np.cos(x)
        return np.clip(voltage_v, -self.headroom_v, self.headroom_v), (np.abs(x) < 1).astype(float)


@dataclass(frozen=True, slots=True, eq=False)
class Affine:
    """A matrix that is affine in g named gains: parts (1 + g, …), parts[0] + Σ k·parts[1 + …]."""

    parts: FloatArray

    def __post_init__(self) -> None:
        array = np.array(self.parts, dtype=float)
        array.setflags(write=False)
        object.__setattr__(self, "parts", array)

    @classmethod
    def constant(cls, matrix: FloatArray, gains: int) -> Affine:
        """The same whatever the gains are."""
        parts = np.zeros((1 + gains, *np.shape(matrix)))
        parts[0] = matrix
        return cls(parts)

    def at(self, gain: float | FloatArray) -> FloatArray:
        """The matrix at the gains (g,); one number stands for each of them."""
        if self.parts.shape[0] == 2:
            return np.asarray(self.parts[0] + float(np.reshape(gain, -1)[0]) * self.parts[1])
        each = np.broadcast_to(np.asarray(gain, dtype=float), (self.parts.shape[0] - 1,))
        return np.asarray(self.parts[0] + np.tensordot(each, self.parts[1:], 1))


RESONANCE, CUTOFF = "resonance", "cutoff"  # what the controls of a filter alone are called

# Which coefficients a compiled kernel keeps as literals: (matrix, row, column, part) -> +1 or −1 as written in the
# circuit, or None for a value that may change from unit to unit. part: 0, or 1 + which gain.
Structure = tuple[tuple[str, int, int, int, int | None], ...]


@dataclass(frozen=True, slots=True, eq=False)
class Network:
    """One filter. Shapes: n capacitors, m branches, r outputs; V (m, n), U (m,), Z (m, m), W (n, m), C (r, n), D (r,),
    E (r, m), rate_ratio (n,), fixed_rate (n,) in rad/s (0 where the row is tuned).

    cutoff_by (n, n): octaves by which row i runs faster for every volt of capacitor j; gain_by (g, n): what every volt
    of capacitor j adds to a gain. Both are zero unless an output is patched into its own filter's controls.

    gains: names of the g gains; cutoffs: names of the cutoffs; cutoff_of (n,): which one a tuned row belongs to."""

    capacitors: tuple[str, ...]
    branches: tuple[Branch, ...]
    outputs: tuple[str, ...]
    V: Affine
    U: Affine
    Z: Affine
    W: FloatArray
    C: Affine
    D: Affine
    E: Affine
    rate_ratio: FloatArray
    fixed_rate: FloatArray
    written: Structure = field(default=())  # as the circuit has it; of what was put together from arrays nothing is
    cutoff_by: FloatArray = field(default_factory=lambda: np.zeros((0, 0)))
    gain_by: FloatArray = field(default_factory=lambda: np.zeros((0, 0)))
    gains: tuple[str, ...] = (RESONANCE,)
    cutoffs: tuple[str, ...] = (CUTOFF,)
    cutoff_of: NDArray[np.intp] = field(default_factory=lambda: np.zeros(0, dtype=np.intp))
    _nonzeros: list[Structure] = field(default_factory=list, init=False, repr=False)

    def __post_init__(self) -> None:
        n, m, r, g = len(self.capacitors), len(self.branches), len(self.outputs), len(self.gains)
        wanted = {"V": (m, n), "U": (m,), "Z": (m, m), "C": (r, n), "D": (r,), "E": (r, m)}
        for name, shape in wanted.items():
            matrix: Affine = getattr(self, name)
            if matrix.parts.shape != (1 + g, *shape):
                raise CircuitError(f"Matrix {name} has shape {matrix.parts.shape[1:]}; the network needs {shape}, for "
                                   f"each of its {g} gains and without.")
            if not np.isfinite(matrix.parts).all():
                raise CircuitError(f"Matrix {name} holds a value that is not finite; check the circuit's parameters.")
        for name, shape in (("cutoff_by", (n, n)), ("gain_by", (g, n))):
            if getattr(self, name).size == 0:
                object.__setattr__(self, name, np.zeros(shape))
        arrays = {"W": (n, m), "rate_ratio": (n,), "fixed_rate": (n,), "cutoff_by": (n, n), "gain_by": (g, n)}
        for name, shape in arrays.items():
            array = np.array(getattr(self, name), dtype=float)
            if array.shape != shape or not np.isfinite(array).all():
                raise CircuitError(f"{name} must be finite with shape {shape}, found {array.shape}.")
            array.setflags(write=False)
            object.__setattr__(self, name, array)
        if self.cutoff_of.size != n:
            object.__setattr__(self, "cutoff_of", np.zeros(n, dtype=np.intp))
        self.cutoff_of.setflags(write=False)
        if len({*self.gains}) < g or len({*self.cutoffs}) < len(self.cutoffs):
            raise CircuitError("Two gains or two cutoffs of a network bear one name; give each its own.")
        if np.triu(self.Z.parts).any():
            raise CircuitError("A branch depends on itself or on a later one; order the branches so that it does not.")
        if (self.rate_ratio < 0).any() or (self.fixed_rate < 0).any():
            raise CircuitError("A capacitor has a negative rate; rates are ratios to the cutoff or rad/s, 0 or more.")

    @property
    def structure(self) -> Structure:
        """Which coefficients its kernel has. Looked for when it is asked: most networks are parts of others."""
        if self.written:
            return self.written
        if not self._nonzeros:
            self._nonzeros.append(_structure_of_nonzeros(self))
        return self._nonzeros[0]

    @property
    def is_modulated(self) -> bool:
        """Whether an output moves the filter's own cutoff or resonance."""
        return bool(self.cutoff_by.any() or self.gain_by.any())

    @property
    def is_tuned(self) -> NDArray[np.bool_]:
        """(n,) True where the capacitor's rate follows the cutoff."""
        return np.asarray(self.rate_ratio > 0)

    def slopes_at_rest(self) -> FloatArray:
        """(m,) slope of every branch while nothing sounds."""
        return np.array([branch.rest_slope for branch in self.branches])

    def output_index(self, mode: str) -> int:
        """Row of a mode. Raises CircuitError naming the modes there are."""
        if mode not in self.outputs:
            raise CircuitError(f"Mode '{mode}' is not one of this circuit's: {', '.join(self.outputs)}.")
        return self.outputs.index(mode)

    def rates(self, cutoff_hz: float | FloatArray) -> FloatArray:
        """(n,) rad/s of every row at the cutoffs (pole frequencies) given, one number standing for each of them."""
        own = np.broadcast_to(np.asarray(cutoff_hz, dtype=float), (len(self.cutoffs),))
        at = own[self.cutoff_of] if own.size else 0.0
        return np.where(self.is_tuned, 2 * np.pi * at * self.rate_ratio, self.fixed_rate)


def _structure_of_nonzeros(network: Network) -> Structure:
    """Structure of a network put together from arrays: every nonzero coefficient may change from unit to unit."""
    entries: list[tuple[str, int, int, int, int | None]] = []
    for name in ("V", "U", "Z"):
        matrix: Affine = getattr(network, name)
        for part, array in enumerate(matrix.parts):
            grid = array if array.ndim == 2 else array[:, np.newaxis]
            entries += [(name, int(i), int(j), part, None) for i, j in np.argwhere(grid != 0)]
    entries += [("W", int(i), int(j), 0, None) for i, j in np.argwhere(network.W != 0)]
    entries += [("M", int(i), int(j), 0, None) for i, j in np.argwhere(network.cutoff_by != 0)]
    entries += [("N", int(g), int(j), 0, None) for g, j in np.argwhere(network.gain_by != 0)]
    return tuple(sorted(entries, key=lambda entry: entry[:4]))
