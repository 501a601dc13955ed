"""Writes the source of the integrator that fits one network's structure.

One scheme for every network: the classical fourth-order Runge–Kutta step, with cutoff, resonance and input given at
every half step. The general matrices are written out term by term, so that zeros cost nothing and ±1 costs no
multiplication; what differs from unit to unit is read from a table of coefficients. Two forms come from the same
text: one filter in registers, and LANES filters side by side, laid out so that the compiler can use vector units.

tanh and asinh are written out too, since calls into the mathematics library cannot be vectorised:
- tanh(x): continued fraction of five terms (Lambert 1770) at x/8, doubled three times as a fraction,
  (n, d) -> (2nd, n² + d²), one division at the end; |error| ≤ 1e-12.
- asinh(x) = sign·ln(|x| + √(x² + 1)), the logarithm from exponent bits and the atanh series; |error| ≤ 1e-14.
"""

from __future__ import annotations

from dataclasses import dataclass

from jiyuu.circuits.network import BranchKind, Network

LANES = 8


@dataclass(frozen=True, slots=True)
class Layout:
    """Where a network's numbers stand in the coefficient table: entries of the structure that are not literals, then
    per branch offset, headroom and 1/headroom, then per capacitor its rate ratio and its fixed rate."""

    entries: tuple[tuple[str, int, int, int], ...]
    branches: int
    capacitors: int

    @property
    def size(self) -> int:
        return len(self.entries) + 3 * self.branches + 2 * self.capacitors

    @property
    def fixed_rates(self) -> slice:
        """Where the fixed rates of the capacitors stand."""
        return slice(len(self.entries) + 3 * self.branches + 1, self.size, 2)


def layout_of(network: Network) -> Layout:
    """The coefficient table of a network."""
    entries = tuple((m, i, j, part) for m, i, j, part, literal in network.structure if literal is None)
    return Layout(entries, len(network.branches), len(network.capacitors))


def signature(network: Network) -> str:
    """Text that two networks share exactly when one compiled kernel serves both."""
    kinds = ",".join(branch.kind for branch in network.branches)
    return f"{len(network.capacitors)}|{kinds}|{network.structure}"


class _Writer:
    """Lines of the kernel for one network; `table(i)` says how to read coefficient i."""

    def __init__(self, network: Network, *, lanes: bool) -> None:
        self.network = network
        self.layout = layout_of(network)
        self.place = {entry: i for i, entry in enumerate(self.layout.entries)}
        self.lanes = lanes
        self.gain_out = "k_start"  # the gain the outputs are taken with; the lanes form gives it a slot
        self.lines: list[str] = []
        self.temporaries = 0

    def table(self, index: int) -> str:
        return f"w[{index * LANES} + b]" if self.lanes else f"c{index}"

    def branch_value(self, branch: int, what: int) -> str:
        return self.table(len(self.layout.entries) + 3 * branch + what)

    def rate(self, capacitor: int, what: int) -> str:
        return self.table(len(self.layout.entries) + 3 * self.layout.branches + 2 * capacitor + what)

    def weighted(self, matrix: str, row: int, signals: dict[int, str]) -> str:
        """Sum over the columns of one matrix row, as source text ('' when the row is empty)."""
        parts: dict[tuple[int, int], int | None] = {
            (j, part): literal for m, i, j, part, literal in self.network.structure if m == matrix and i == row
        }
        text = ""
        for j in sorted({j for j, _ in parts}):
            weights = []
            for part in (0, 1):
                if (j, part) not in parts:
                    continue
                literal = parts[(j, part)]
                value = str(literal) if literal is not None else self.table(self.place[(matrix, row, j, part)])
                if part == 1:
                    value = {"1": "k", "-1": "-k"}.get(value, f"{value}*k")
                weights.append(value)
            if weights == ["1"]:
                text += f" + {signals[j]}"
            elif weights == ["-1"]:
                text += f" - {signals[j]}"
            else:
                text += f" + ({' + '.join(weights)})*{signals[j]}"
        return text

    def derivative(self, stage: int, state: list[str], u: str, omega: str, k: str) -> list[str]:
        """Emits φ and x' at a state; returns the names that hold x'."""
        signals = dict(enumerate(state))
        added = self.weighted("N", 0, signals)
        self.lines.append(f"k = max({k}{added}, 0.0)" if added else f"k = {k}")
        if stage == 1 and added:
            self.lines.append(f"{self.gain_out} = k")
        outputs: dict[int, str] = {}
        for j, branch in enumerate(self.network.branches):
            v, f = f"v{stage}_{j}", f"f{stage}_{j}"
            sum_of = (
                self.weighted("V", j, signals) + self.weighted("U", j, {0: u}) + self.weighted("Z", j, outputs)
            )
            self.lines.append(f"{v} = {self.branch_value(j, 0)}{sum_of}")
            self.saturate(branch.kind, v, f, j)
            outputs[j] = f
        names = []
        for i in range(len(self.network.capacitors)):
            current = self.weighted("W", i, outputs) or " 0.0"
            name, turn = f"d{stage}_{i}", omega
            moved = self.weighted("M", i, signals)
            if moved:
                # Twenty octaves either way is past anything a converter does, and keeps the exponential finite.
                self.lines.append(f"o{i} = math.exp(0.6931471805599453*min(max(0.0{moved}, -20.0), 20.0))")
                turn = f"{omega}*o{i}"
            self.lines.append(f"{name} = ({self.rate(i, 0)}*{turn} + {self.rate(i, 1)})*({current.lstrip(' +')})")
            names.append(name)
        return names

    def saturate(self, kind: BranchKind, v: str, f: str, branch: int) -> None:
        headroom, inverse = self.branch_value(branch, 1), self.branch_value(branch, 2)
        if kind is BranchKind.LINEAR:
            self.lines.append(f"{f} = {v}")
        elif kind is BranchKind.CLIP:
            self.lines.append(f"{f} = min(max({v}, -{headroom}), {headroom})")
        elif kind is BranchKind.FOLD:
            self.lines.append(f"{f} = {headroom}*math.sin({v}*{inverse})")
        elif kind is BranchKind.TANH:
            self.lines += [
                f"z = min(max({v}*({inverse}*0.125), -2.5), 2.5)",
                "s = z*z",
                "n = z*(1.0 + s*(0.1111111111111111 + s*0.0010582010582010583))",
                "d = 1.0 + s*(0.4444444444444444 + s*0.015873015873015872)",
                "n2 = n*n", "d2 = d*d", "n = (n + n)*d", "d = n2 + d2",
                "n2 = n*n", "d2 = d*d", "n = (n + n)*d", "d = n2 + d2",
                "n2 = n*n", "d2 = d*d", "n = (n + n)*d", "d = n2 + d2",
                f"{f} = {headroom}*(n/d)",
            ]
        else:
            self.lines += [
                f"z = {v}*{inverse}",
                "a = abs(z)",
                "g = a + math.sqrt(a*a + 1.0)",
                "bits = np.float64(g).view(np.int64)",
                # mantissa in [√½, √2): subtracting the bits of √½ before taking the exponent rounds it that way
                "shift = bits - 0x3FE6A09E667F3BCD",
                "exponent = np.int64(((shift >> 52) & 0x7FF) | 0x4330000000000000).view(np.float64) - 4503599627370496.0",
                "mantissa = np.int64(bits - (shift & 0x7FF0000000000000)).view(np.float64)",
                "q = (mantissa - 1.0)/(mantissa + 1.0)",
                "s = q*q",
                "p = 1.0 + s*(0.3333333333333333 + s*(0.2 + s*(0.14285714285714285 + s*(0.1111111111111111"
                " + s*(0.09090909090909091 + s*(0.07692307692307693 + s*(0.06666666666666667 + s*0.058823529411764705)"
                "))))))",
                f"{f} = math.copysign({headroom}*(exponent*0.6931471805599453 + 2.0*q*p), z)",
            ]

    def step(self, state: list[str], at: dict[str, tuple[str, str, str]]) -> list[str]:
        """One Runge–Kutta step; `at` gives (u, ω, k) at 'start', 'middle' and 'end'. Returns the new state's text."""
        u, omega, k = at["start"]
        first = self.derivative(1, state, u, omega, k)
        u, omega, k = at["middle"]
        second = self.derivative(2, self.moved(2, state, first, "half"), u, omega, k)
        third = self.derivative(3, self.moved(3, state, second, "half"), u, omega, k)
        u, omega, k = at["end"]
        fourth = self.derivative(4, self.moved(4, state, third, "step"), u, omega, k)
        return [
            f"{x} + sixth*({a} + 2.0*({b} + {c}) + {d})"
            for x, a, b, c, d in zip(state, first, second, third, fourth, strict=True)
        ]

    def moved(self, stage: int, state: list[str], slopes: list[str], by: str) -> list[str]:
        names = [f"m{stage}_{i}" for i in range(len(state))]
        self.lines += [f"{n} = {x} + {by}*{d}" for n, x, d in zip(names, state, slopes, strict=True)]
        return names


_HEAD = '''"""Written by jiyuu.simulation.kernel_source for one network structure; safe to delete."""

import math

import numpy as np
from numba import njit

FAST = {"contract", "arcp", "nsz", "nnan", "ninf"}
'''

def kernel_source(network: Network) -> str:
    """A module with `single` and `side_by_side`, both

        f(coefficients (lanes, size), states (lanes, n), u (steps·2 + 1, lanes or 1), omega, gain (the same, or one
          row each), half, outputs (r, steps, lanes), C0, C1 (r, n), D0, D1 (r,), E0, E1 (r, m))

    Times in s, u in V, omega in rad/s. outputs hold y at the start of every step; states are left at the end of the
    record."""
    return "\n\n".join([_HEAD, _single(network), _side_by_side(network)]) + "\n"


def _single(network: Network) -> str:
    n, m = len(network.capacitors), len(network.branches)
    writer = _Writer(network, lanes=False)
    state = [f"x{i}" for i in range(n)]
    new = writer.step(
        state, {name: (f"u_{name}", f"omega_{name}", f"k_{name}") for name in ("start", "middle", "end")}
    )
    body = "\n            ".join(writer.lines)
    unpack = "\n        ".join(f"c{i} = coefficients[lane, {i}]" for i in range(writer.layout.size))
    load = "\n        ".join(f"x{i} = states[lane, {i}]" for i in range(n))
    advance = "\n            ".join(f"y{i} = {text}" for i, text in enumerate(new))
    commit = "\n            ".join(f"x{i} = y{i}" for i in range(n))
    keep = "\n        ".join(f"states[lane, {i}] = x{i}" for i in range(n))
    observed = " ".join(f"+ (C0[r, {i}] + k_start*C1[r, {i}])*x{i}" for i in range(n))
    observed += " " + " ".join(f"+ (E0[r, {j}] + k_start*E1[r, {j}])*f1_{j}" for j in range(m))
    return f'''@njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
def single(coefficients, states, u, omega, gain, half, outputs, C0, C1, D0, D1, E0, E1):
    step = 2.0*half
    sixth = step/6.0
    u_turn = 1 if u.shape[1] > 1 else 0
    omega_move = 1 if omega.shape[0] > 1 else 0
    omega_turn = 1 if omega.shape[1] > 1 else 0
    k_move = 1 if gain.shape[0] > 1 else 0
    k_turn = 1 if gain.shape[1] > 1 else 0
    for lane in range(states.shape[0]):
        {unpack}
        {load}
        for t in range(outputs.shape[1]):
            u_start = u[2*t, lane*u_turn]
            u_middle = u[2*t + 1, lane*u_turn]
            u_end = u[2*t + 2, lane*u_turn]
            omega_start = omega[2*t*omega_move, lane*omega_turn]
            omega_middle = omega[(2*t + 1)*omega_move, lane*omega_turn]
            omega_end = omega[(2*t + 2)*omega_move, lane*omega_turn]
            k_start = gain[2*t*k_move, lane*k_turn]
            k_middle = gain[(2*t + 1)*k_move, lane*k_turn]
            k_end = gain[(2*t + 2)*k_move, lane*k_turn]
            {body}
            for r in range(outputs.shape[0]):
                outputs[r, t, lane] = (D0[r] + k_start*D1[r])*u_start {observed}
            {advance}
            {commit}
        {keep}'''


def _side_by_side(network: Network) -> str:
    n, m = len(network.capacitors), len(network.branches)
    writer = _Writer(network, lanes=True)
    size = writer.layout.size
    x_at, f_at = size, size + n
    signal_at = f_at + m  # u, ω, k at start, middle, end
    rows = signal_at + 9
    if network.gain_by.any():
        writer.gain_out = f"w[{(rows + n) * LANES} + b]"

    def slot(row: int) -> str:
        return f"w[{row * LANES} + b]"

    state = [f"x{i}" for i in range(n)]
    at = {
        name: tuple(slot(signal_at + 3 * which + i) for which in range(3))
        for i, name in enumerate(("start", "middle", "end"))
    }
    new = writer.step(state, at)  # type: ignore[arg-type]
    indent = "\n                "
    load = indent.join(f"x{i} = {slot(x_at + i)}" for i in range(n))
    body = indent.join(writer.lines)
    record = indent.join(f"{slot(f_at + j)} = f1_{j}" for j in range(m))
    advance = indent.join(f"y{i} = {text}" for i, text in enumerate(new))
    # The state before the step is needed for the outputs, so the new one waits in the slots of the next step.
    next_at = rows
    rows += n
    gain_row = rows if writer.gain_out != "k_start" else signal_at + 6
    rows += 1
    hold = indent.join(f"{slot(next_at + i)} = y{i}" for i in range(n))
    return f'''@njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
def side_by_side(coefficients, states, u, omega, gain, half, outputs, C0, C1, D0, D1, E0, E1):
    step = 2.0*half
    sixth = step/6.0
    u_turn = 1 if u.shape[1] > 1 else 0
    omega_move = 1 if omega.shape[0] > 1 else 0
    omega_turn = 1 if omega.shape[1] > 1 else 0
    k_move = 1 if gain.shape[0] > 1 else 0
    k_turn = 1 if gain.shape[1] > 1 else 0
    w = np.zeros({(rows + 1) * LANES})
    for base in range(0, states.shape[0], {LANES}):
        for b in range({LANES}):
            for i in range({size}):
                w[i*{LANES} + b] = coefficients[base + b, i]
            for i in range({n}):
                w[({x_at} + i)*{LANES} + b] = states[base + b, i]
            w[{signal_at + 2}*{LANES} + b] = u[0, (base + b)*u_turn]
            for i in range(3):
                w[({signal_at + 3} + i)*{LANES} + b] = omega[0, (base + b)*omega_turn]
                w[({signal_at + 6} + i)*{LANES} + b] = gain[0, (base + b)*k_turn]
        for t in range(outputs.shape[1]):
            for b in range({LANES}):
                w[{signal_at}*{LANES} + b] = w[{signal_at + 2}*{LANES} + b]
            if u_turn:
                for b in range({LANES}):
                    w[{signal_at + 1}*{LANES} + b] = u[2*t + 1, base + b]
                    w[{signal_at + 2}*{LANES} + b] = u[2*t + 2, base + b]
            else:
                u_middle = u[2*t + 1, 0]
                u_end = u[2*t + 2, 0]
                for b in range({LANES}):
                    w[{signal_at + 1}*{LANES} + b] = u_middle
                    w[{signal_at + 2}*{LANES} + b] = u_end
            if omega_move:
                for i in range(3):
                    for b in range({LANES}):
                        w[({signal_at + 3} + i)*{LANES} + b] = omega[2*t + i, (base + b)*omega_turn]
            if k_move:
                for i in range(3):
                    for b in range({LANES}):
                        w[({signal_at + 6} + i)*{LANES} + b] = gain[2*t + i, (base + b)*k_turn]
            for b in range({LANES}):
                {load}
                {body}
                {record}
                {advance}
                {hold}
            for r in range(outputs.shape[0]):
                for b in range({LANES}):
                    w[{rows}*{LANES} + b] = (D0[r] + w[{gain_row}*{LANES} + b]*D1[r])*w[{signal_at}*{LANES} + b]
                for i in range({n}):
                    for b in range({LANES}):
                        w[{rows}*{LANES} + b] += (C0[r, i] + w[{gain_row}*{LANES} + b]*C1[r, i])*w[({x_at} + i)*{LANES} + b]
                for j in range({m}):
                    if E0[r, j] != 0.0 or E1[r, j] != 0.0:
                        for b in range({LANES}):
                            w[{rows}*{LANES} + b] += (E0[r, j] + w[{gain_row}*{LANES} + b]*E1[r, j])*w[({f_at} + j)*{LANES} + b]
                for b in range({LANES}):
                    outputs[r, t, base + b] = w[{rows}*{LANES} + b]
            for i in range({n}):
                for b in range({LANES}):
                    w[({x_at} + i)*{LANES} + b] = w[({next_at} + i)*{LANES} + b]
        for b in range({LANES}):
            for i in range({n}):
                states[base + b, i] = w[({x_at} + i)*{LANES} + b]'''
