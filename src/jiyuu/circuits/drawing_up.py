"""Draw up a network the way its equations are written.

    c = Drawing()
    x1, x2 = c.capacitor("bandpass"), c.capacitor("lowpass")
    limited = c.branch("limiter", TANH, x1, headroom_v=1.0)
    hp = c.branch("hp", LINEAR, c.input - 2 * x1 + c.gain * limited - x2)
    c.charge(x1, hp)

Whole numbers in the equations (the 2 above) belong to the circuit; floats are component values that differ from unit
to unit. A kernel compiled once for the circuit keeps the first as literals and takes the second as data.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.circuits.network import Affine, Branch, BranchKind, Network
from jiyuu.errors import CircuitError

Number = int | float


@dataclass(frozen=True, slots=True)
class Gain:
    """constant + slope·k, a factor that depends on the loop gain k."""

    constant: Number
    slope: Number

    def __mul__(self, other: Number) -> Gain:
        if not isinstance(other, int | float):  # an expression multiplies from its own side
            return NotImplemented
        return Gain(_times(self.constant, other), _times(self.slope, other))

    __rmul__ = __mul__

    def __add__(self, other: Number) -> Gain:
        return Gain(self.constant + other, self.slope)

    __radd__ = __add__


class Expression:
    """A weighted sum of signals (the input, capacitor voltages, branch outputs), weights affine in k."""

    __slots__ = ("terms",)

    def __init__(self, terms: dict[str, tuple[Number, Number]]) -> None:
        self.terms = terms

    def __add__(self, other: Expression) -> Expression:
        terms = dict(self.terms)
        for signal, (constant, slope) in other.terms.items():
            before = terms.get(signal, (0, 0))
            terms[signal] = (before[0] + constant, before[1] + slope)
        return Expression(terms)

    def __neg__(self) -> Expression:
        return self * -1

    def __sub__(self, other: Expression) -> Expression:
        return self + (-other)

    def __mul__(self, factor: Number | Gain) -> Expression:
        if isinstance(factor, Gain):
            if any(_present(slope) for _, slope in self.terms.values()):
                raise CircuitError("An expression may hold the loop gain only once; put a branch between the two.")
            return Expression(
                {signal: (_times(constant, factor.constant), _times(constant, factor.slope))
                 for signal, (constant, _) in self.terms.items()}
            )
        return Expression(
            {signal: (_times(constant, factor), _times(slope, factor))
             for signal, (constant, slope) in self.terms.items()}
        )

    __rmul__ = __mul__


def _times(weight: Number, factor: Number) -> Number:
    """The product; what is not there (a whole 0) stays not there."""
    return 0 if not (_present(weight) and _present(factor)) else weight * factor


def _present(weight: Number) -> bool:
    """Whole zero is 'not there'; a float zero is a component value that happens to be zero."""
    return isinstance(weight, float) or weight != 0


class Drawing:
    """Collects capacitors, branches and outputs, then gives the finished Network."""

    def __init__(self) -> None:
        self.input = Expression({"input": (1, 0)})
        self.gain = Gain(0, 1)
        self._capacitors: list[tuple[str, float, float]] = []
        self._branches: list[tuple[Branch, Expression]] = []
        self._charges: dict[str, Expression] = {}
        self._outputs: dict[str, Expression] = {}

    def capacitor(self, name: str, *, rate_ratio: float = 1.0, fixed_rate: float | None = None) -> Expression:
        """A capacitor voltage, its rate a ratio to the cutoff, or fixed in rad/s whatever the cutoff."""
        self._capacitors.append((name, 0.0 if fixed_rate is not None else rate_ratio, fixed_rate or 0.0))
        return Expression({f"x:{name}": (1, 0)})

    def branch(
        self, name: str, kind: BranchKind, voltage: Expression, *, headroom_v: float = 1.0
    ) -> Expression:
        """A branch driven by `voltage`; the expression returned is its output φ."""
        self._branches.append((Branch(name, kind, headroom_v), voltage))
        return Expression({f"f:{name}": (1, 0)})

    def charge(self, capacitor: Expression, current: Expression) -> None:
        """x' = Ω·current, a sum of branch outputs."""
        (name,) = capacitor.terms
        self._charges[name] = current

    def output(self, mode: str, voltage: Expression) -> None:
        """A named output."""
        self._outputs[mode] = voltage

    def network(self) -> Network:
        """The finished network. Raises CircuitError for a capacitor that no branch charges at a fixed weight."""
        states = [f"x:{name}" for name, _, _ in self._capacitors]
        outputs_of_branches = [f"f:{branch.name}" for branch, _ in self._branches]
        V, U, Z, structure = self._matrices([e for _, e in self._branches], states, outputs_of_branches)
        C, D, E, _ = self._matrices(list(self._outputs.values()), states, outputs_of_branches)
        W = np.zeros((len(states), len(outputs_of_branches)))
        for i, state in enumerate(states):
            for signal, (weight, slope) in self._charges[state].terms.items():
                if signal not in outputs_of_branches or _present(slope):
                    raise CircuitError(f"Capacitor '{state[2:]}' must be charged by branches at fixed weights.")
                j = outputs_of_branches.index(signal)
                W[i, j] = weight
                if _present(weight):
                    structure.append(("W", i, j, 0, _literal(weight)))
        return Network(
            capacitors=tuple(name for name, _, _ in self._capacitors),
            branches=tuple(branch for branch, _ in self._branches),
            outputs=tuple(self._outputs),
            V=V, U=Affine(U.parts[..., 0]), Z=Z, W=W, C=C, D=Affine(D.parts[..., 0]), E=E,
            rate_ratio=np.array([ratio for _, ratio, _ in self._capacitors]),
            fixed_rate=np.array([rate for _, _, rate in self._capacitors]),
            written=tuple(sorted(structure, key=lambda entry: entry[:4])),
        )

    @staticmethod
    def _matrices(
        rows: list[Expression], states: list[str], branch_outputs: list[str]
    ) -> tuple[Affine, Affine, Affine, list[tuple[str, int, int, int, int | None]]]:
        columns = {"V": states, "U": ["input"], "Z": branch_outputs}
        parts = {name: np.zeros((2, len(rows), len(signals))) for name, signals in columns.items()}
        place = {signal: (name, j) for name, signals in columns.items() for j, signal in enumerate(signals)}
        structure: list[tuple[str, int, int, int, int | None]] = []
        for i, row in enumerate(rows):
            for signal, weights in row.terms.items():
                name, j = place[signal]
                for part, weight in enumerate(weights):
                    parts[name][part, i, j] = weight
                    if _present(weight):
                        structure.append((name, i, j, part, _literal(weight)))
        affine = {name: Affine(array) for name, array in parts.items()}
        return affine["V"], affine["U"], affine["Z"], structure


def _literal(weight: Number) -> int | None:
    return weight if isinstance(weight, int) else None

