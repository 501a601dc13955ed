"""Writes the source of the integrator that fits one network's structure.

One scheme for every network: the classical fourth-order Runge–Kutta step, with cutoff, resonance and input given at
every half step. The general matrices are written out term by term, so that zeros cost nothing and ±1 costs no
multiplication; what differs from unit to unit is read from a table of coefficients. Two forms come from the same
text: one filter in registers, and LANES filters side by side, laid out so that the compiler can use vector units.

tanh and asinh are written out too, since calls into the mathematics library cannot be vectorised; as functions of
their own, which the compiler puts in their place: what stands in the text once is looked through once.
- tanh(x): continued fraction of five terms (Lambert 1770) at x/8, doubled three times as a fraction,
  (n, d) -> (2nd, n² + d²), one division at the end; |error| ≤ 1e-12.
- asinh(x) = sign·ln(|x| + √(x² + 1)), the logarithm from exponent bits and the atanh series; |error| ≤ 1e-14.
"""

from __future__ import annotations

from dataclasses import dataclass

from jiyuu.arrays import DEAD
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
    controls = f"{len(network.gains)}|{network.cutoff_of.tolist() if len(network.cutoffs) > 1 else ''}"
    return f"{len(network.capacitors)}|{kinds}|{controls}|{network.structure}"


class _Writer:
    """The equations of one network, as a function of their own, and what calls it."""

    def __init__(self, network: Network) -> None:
        self.network = network
        self.layout = layout_of(network)
        self.place = {entry: i for i, entry in enumerate(self.layout.entries)}
        self.capacitors, self.branches = len(network.capacitors), len(network.branches)
        self.moved_gains = [g for g, row in enumerate(network.gain_by) if row.any()]
        self.coefficients = [f"c{i}" for i in range(self.layout.size)]
        self.lines: list[str] = []

    def branch_value(self, branch: int, what: int) -> str:
        return f"c{len(self.layout.entries) + 3 * branch + what}"

    def rate(self, capacitor: int, what: int) -> str:
        return f"c{len(self.layout.entries) + 3 * self.layout.branches + 2 * capacitor + what}"

    def weighted(self, matrix: str, row: int, signals: dict[int, str]) -> str:
        """Sum over the columns of one matrix row, as source text ('' when the row is empty)."""
        parts: dict[tuple[int, int], int | None] = {
            (j, part): literal for m, i, j, part, literal in self.network.structure if m == matrix and i == row
        }
        text = ""
        for j in sorted({j for j, _ in parts}):
            weights = []
            for part in range(1 + len(self.network.gains)):
                if (j, part) not in parts:
                    continue
                literal = parts[(j, part)]
                value = str(literal) if literal is not None else f"c{self.place[(matrix, row, j, part)]}"
                if part:
                    value = {"1": f"k{part - 1}", "-1": f"-k{part - 1}"}.get(value, f"{value}*k{part - 1}")
                weights.append(value)
            if weights == ["1"]:
                text += f" + {signals[j]}"
            elif weights == ["-1"]:
                text += f" - {signals[j]}"
            else:
                text += f" + ({' + '.join(weights)})*{signals[j]}"
        return text

    def derivative(self) -> str:
        """A function of states, input, cutoffs, gains and coefficients: x' of every capacitor, φ of every branch, and
        the gains that move by themselves."""
        n, cutoffs, gains = self.capacitors, len(self.network.cutoffs), len(self.network.gains)
        arguments = [*(f"x{i}" for i in range(n)), "u", *(f"omega{j}" for j in range(cutoffs)),
                     *(f"gain{g}" for g in range(gains)), *self.coefficients]
        signals = {i: f"x{i}" for i in range(n)}
        for g in range(gains):
            added = self.weighted("N", g, signals)
            self.lines.append(f"k{g} = max(gain{g}{added}, 0.0)" if added else f"k{g} = gain{g}")
        outputs: dict[int, str] = {}
        for j, branch in enumerate(self.network.branches):
            sum_of = self.weighted("V", j, signals) + self.weighted("U", j, {0: "u"}) + self.weighted("Z", j, outputs)
            self.lines.append(f"v{j} = {self.branch_value(j, 0)}{sum_of}")
            self.saturate(branch.kind, f"v{j}", f"f{j}", j)
            outputs[j] = f"f{j}"
        for i in range(n):
            current = self.weighted("W", i, outputs) or " 0.0"
            turn = f"omega{self.network.cutoff_of[i]}"
            moved = self.weighted("M", i, signals)
            if moved:
                # Twenty octaves either way is past anything a converter does, and keeps the exponential finite.
                self.lines.append(f"o{i} = math.exp(0.6931471805599453*min(max(0.0{moved}, -20.0), 20.0))")
                turn = f"{turn}*o{i}"
            self.lines.append(f"d{i} = ({self.rate(i, 0)}*{turn} + {self.rate(i, 1)})*({current.lstrip(' +')})")
        found = [*(f"d{i}" for i in range(n)), *outputs.values(), *(f"k{g}" for g in self.moved_gains)]
        body = "\n    ".join([*self.lines, f"return {_tuple(found)}"])
        return f"{_INLINE}\ndef derivative({', '.join(arguments)}):\n    {body}\n"

    def saturate(self, kind: BranchKind, v: str, f: str, branch: int) -> None:
        headroom, inverse = self.branch_value(branch, 1), self.branch_value(branch, 2)
        if kind is BranchKind.LINEAR:
            self.lines.append(f"{f} = {v}")
        elif kind is BranchKind.CLIP:
            self.lines.append(f"{f} = min(max({v}, -{headroom}), {headroom})")
        elif kind is BranchKind.FOLD:
            self.lines.append(f"{f} = {headroom}*math.sin({v}*{inverse})")
        elif kind is BranchKind.TANH:
            self.lines.append(f"{f} = {headroom}*tanh_of_eight({v}*({inverse}*0.125))")
        else:
            self.lines.append(f"{f} = {headroom}*asinh({v}*{inverse})")

    def step(self, state: list[str], at: dict[str, tuple[str, list[str], list[str]]]) -> tuple[list[str], list[str]]:
        """One Runge–Kutta step: its lines, and the new state's text. `at` gives (u, ω, k) at 'start', 'middle' and
        'end'. On the way φ at the start is called f1_j, gains that move by themselves k1_g."""
        lines: list[str] = []
        here = state
        for stage, (moment, by) in enumerate((("start", "half"), ("middle", "half"), ("middle", "step"), ("end", "")),
                                             start=1):
            u, omegas, gains = at[moment]
            called = f"derivative({', '.join([*here, u, *omegas, *gains, *self.coefficients])})"
            slopes = [f"d{stage}_{i}" for i in range(self.capacitors)]
            if stage == 1:
                found = [*slopes, *(f"f1_{j}" for j in range(self.branches)), *(f"k1_{g}" for g in self.moved_gains)]
                lines += [f"{_tuple(found)} = {called}"] if found else []
            else:
                lines += [f"{_tuple(slopes)} = {called}[:{self.capacitors}]"] if slopes else []
            if by:
                here = [f"m{stage}_{i}" for i in range(self.capacitors)]
                lines += [f"{m} = {x} + {by}*{d}" for m, x, d in zip(here, state, slopes, strict=True)]
        return lines, [f"{x} + sixth*(d1_{i} + 2.0*(d2_{i} + d3_{i}) + d4_{i})" for i, x in enumerate(state)]


def _tuple(names: list[str]) -> str:
    """As text, one alone too."""
    return f"({', '.join(names)}{',' if len(names) == 1 else ''})"


def _rested(name: str, text: str) -> tuple[str, str]:
    """A new state, brought to rest once it has died."""
    return f"{name} = {text}", f"{name} = 0.0 if abs({name}) < {DEAD!r} else {name}"


_HEAD = '''"""Written by jiyuu.simulation.kernel_source for one network structure; safe to delete."""

import math

import numpy as np
from numba import njit

FAST = {"contract", "arcp", "nsz", "nnan", "ninf"}


@njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy", forceinline=True)
def tanh_of_eight(z):
    z = min(max(z, -2.5), 2.5)
    s = z*z
    n = z*(1.0 + s*(0.1111111111111111 + s*0.0010582010582010583))
    d = 1.0 + s*(0.4444444444444444 + s*0.015873015873015872)
    n2 = n*n
    d2 = d*d
    n = (n + n)*d
    d = n2 + d2
    n2 = n*n
    d2 = d*d
    n = (n + n)*d
    d = n2 + d2
    n2 = n*n
    d2 = d*d
    n = (n + n)*d
    d = n2 + d2
    return n/d


@njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy", forceinline=True)
def asinh(z):
    a = abs(z)
    g = a + math.sqrt(a*a + 1.0)
    bits = np.float64(g).view(np.int64)
    # mantissa in [√½, √2): subtracting the bits of √½ before taking the exponent rounds it that way
    shift = bits - 0x3FE6A09E667F3BCD
    exponent = np.int64(((shift >> 52) & 0x7FF) | 0x4330000000000000).view(np.float64) - 4503599627370496.0
    mantissa = np.int64(bits - (shift & 0x7FF0000000000000)).view(np.float64)
    q = (mantissa - 1.0)/(mantissa + 1.0)
    s = q*q
    p = 1.0 + s*(0.3333333333333333 + s*(0.2 + s*(0.14285714285714285 + s*(0.1111111111111111
        + s*(0.09090909090909091 + s*(0.07692307692307693 + s*(0.06666666666666667 + s*0.058823529411764705)))))))
    return math.copysign(exponent*0.6931471805599453 + 2.0*q*p, z)
'''

_INLINE = '@njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy", forceinline=True)'
MOMENTS = ("start", "middle", "end")  # of a step
_ARGUMENTS = "coefficients, states, u, omega, gain, half, outputs, C, D, E"
_OPENING = """@njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
def {name}({arguments}):
    step = 2.0*half
    sixth = step/6.0
    u_turn = 1 if u.shape[1] > 1 else 0
    omega_move = 1 if omega.shape[1] > 1 else 0
    omega_turn = 1 if omega.shape[2] > 1 else 0
    k_move = 1 if gain.shape[1] > 1 else 0
    k_turn = 1 if gain.shape[2] > 1 else 0"""


def kernel_source(network: Network) -> str:
    """A module with `single` and `side_by_side`, both

        f(coefficients (lanes, size), states (lanes, n), u (steps·2 + 1, lanes or 1), omega (cutoffs, the same, or one
          row each), gain (gains, the same), half, outputs (r, steps, lanes), C (1 + gains, r, n), D (1 + gains, r),
          E (1 + gains, r, m))

    Times in s, u in V, omega in rad/s. outputs hold y at the start of every step; states are left at the end of the
    record."""
    return "\n\n".join([_HEAD, _Writer(network).derivative(), _single(network), _side_by_side(network)]) + "\n"


def _affine(matrix: str, place: str, gains: list[str]) -> str:
    """One output's weight at the gains in force."""
    return " + ".join([f"{matrix}0[{place}]", *(f"{gain}*{matrix}{g + 1}[{place}]" for g, gain in enumerate(gains))])


def _opened(name: str, gains: int) -> str:
    """The head of a form, with a name for each part of the outputs' matrices."""
    parts = (f"    {matrix}{part} = {matrix}[{part}]" for matrix in "CDE" for part in range(1 + gains))
    return "\n".join([_OPENING.format(name=name, arguments=_ARGUMENTS), *parts])


def _single(network: Network) -> str:
    n, m, g, c = len(network.capacitors), len(network.branches), len(network.gains), len(network.cutoffs)
    writer = _Writer(network)
    started = [f"k1_{i}" if i in writer.moved_gains else f"k{i}_start" for i in range(g)]
    state = [f"x{i}" for i in range(n)]
    lines, new = writer.step(state, {name: (f"u_{name}", [f"omega{i}_{name}" for i in range(c)],
                                     [f"k{i}_{name}" for i in range(g)]) for name in MOMENTS})
    outer, inner = "\n        ", "\n            "
    taken = [f"u_{name} = u[2*t + {i}, lane*u_turn]" for i, name in enumerate(MOMENTS)]
    for array, letter, count in (("omega", "omega", c), ("gain", "k", g)):
        taken += [f"{letter}{j}_{name} = {array}[{j}, (2*t + {i})*{letter}_move, lane*{letter}_turn]"
                  for j in range(count) for i, name in enumerate(MOMENTS)]
    observed = [f"({_affine('D', 'r', started)})*u_start"]
    observed += [f"({_affine('C', f'r, {i}', started)})*x{i}" for i in range(n)]
    observed += [f"({_affine('E', f'r, {j}', started)})*f1_{j}" for j in range(m)]
    return f'''{_opened("single", g)}
    for lane in range(states.shape[0]):
        {outer.join(f"c{i} = coefficients[lane, {i}]" for i in range(writer.layout.size))}
        {outer.join(f"x{i} = states[lane, {i}]" for i in range(n))}
        for t in range(outputs.shape[1]):
            {inner.join(taken)}
            {inner.join(lines)}
            for r in range(outputs.shape[0]):
                outputs[r, t, lane] = {" + ".join(observed)}
            {inner.join(line for i, text in enumerate(new) for line in _rested(f"y{i}", text))}
            {inner.join(f"x{i} = y{i}" for i in range(n))}
        {outer.join(f"states[lane, {i}] = x{i}" for i in range(n))}'''


class _Slots:
    """Rows of the working table of filters side by side, each known by a name; the coefficients come first."""

    def __init__(self, coefficients: int) -> None:
        self.rows = coefficients
        self._place: dict[str, int] = {}

    def take(self, *names: str) -> None:
        for name in names:
            self._place[name] = self.rows
            self.rows += 1

    def row(self, name: str) -> int:
        return self._place[name]

    def __getitem__(self, name: str) -> str:
        return f"w[{self._place[name] * LANES} + b]"


def _side_by_side(network: Network) -> str:
    n, m, g, c = len(network.capacitors), len(network.branches), len(network.gains), len(network.cutoffs)
    slots = _Slots(layout_of(network).size)
    states, branches = [f"x{i}" for i in range(n)], [f"f{j}" for j in range(m)]
    slots.take(*states, *branches, *(f"u {name}" for name in MOMENTS))
    for letter, count in (("omega", c), ("k", g)):
        slots.take(*(f"{letter}{j} {name}" for j in range(count) for name in MOMENTS))
    # The state before the step is needed for the outputs, so the new one waits until they are taken.
    slots.take(*(f"next {name}" for name in states))
    writer = _Writer(network)
    slots.take(*(f"k{j} out" for j in writer.moved_gains), "out")
    gains = [slots[f"k{j} {'out' if j in writer.moved_gains else 'start'}"] for j in range(g)]
    lines, new = writer.step(states, {name: (slots[f"u {name}"], [slots[f"omega{j} {name}"] for j in range(c)],
                                      [slots[f"k{j} {name}"] for j in range(g)]) for name in MOMENTS})
    indent = "\n                "
    lanes = f"for b in range({LANES}):"

    def moved(start: int, at: str) -> list[str]:
        """Lines that bring ω and k from half step `at` on: three moments each."""
        lines = []
        for array, letter, count in (("omega", "omega", c), ("gain", "k", g)):
            if not count:
                continue
            lines += [f"if {letter}_move:" if at != "0" else "if True:", f"    {lanes}"]
            lines += [f"        {slots[f'{letter}{j} {name}']} = {array}[{j}, ({at} + {i})*{letter}_move, "
                      f"(base + b)*{letter}_turn]" for j in range(count) for i, name in enumerate(MOMENTS)]
        return [" " * start + line for line in lines]

    taken = [
        f"{slots['out']} = ({_affine('D', 'r', gains)})*{slots['u start']}",
    ]
    weighed = f"({_affine('C', 'r, i', gains)})*w[({slots.row('x0') if n else 0} + i)*{LANES} + b]"
    bent = f"({_affine('E', 'r, j', gains)})*w[({slots.row('f0') if m else 0} + j)*{LANES} + b]"
    used = " or ".join(f"E{part}[r, j] != 0.0" for part in range(1 + g))
    newline = "\n"
    return f'''{_opened("side_by_side", g)}
    w = np.zeros({slots.rows * LANES})
    for base in range(0, states.shape[0], {LANES}):
        {lanes}
            for i in range({writer.layout.size}):
                w[i*{LANES} + b] = coefficients[base + b, i]
            for i in range({n}):
                w[({slots.row("x0") if n else 0} + i)*{LANES} + b] = states[base + b, i]
            {slots["u end"]} = u[0, (base + b)*u_turn]
{newline.join(moved(8, "0"))}
        for t in range(outputs.shape[1]):
            {lanes}
                {slots["u start"]} = {slots["u end"]}
            if u_turn:
                {lanes}
                    {slots["u middle"]} = u[2*t + 1, base + b]
                    {slots["u end"]} = u[2*t + 2, base + b]
            else:
                u_middle = u[2*t + 1, 0]
                u_end = u[2*t + 2, 0]
                {lanes}
                    {slots["u middle"]} = u_middle
                    {slots["u end"]} = u_end
{newline.join(moved(12, "2*t"))}
            {lanes}
                {indent.join(f"c{i} = w[{i * LANES} + b]" for i in range(writer.layout.size))}
                {indent.join(f"{name} = {slots[name]}" for name in states)}
                {indent.join(lines)}
                {indent.join(f"{slots[f'k{j} out']} = k1_{j}" for j in writer.moved_gains)}
                {indent.join(f"{slots[name]} = f1_{j}" for j, name in enumerate(branches))}
                {indent.join(line for i, text in enumerate(new) for line in _rested(f"y{i}", text))}
                {indent.join(f"{slots[f'next x{i}']} = y{i}" for i in range(n))}
            for r in range(outputs.shape[0]):
                {lanes}
                    {taken[0]}
                for i in range({n}):
                    {lanes}
                        {slots["out"]} += {weighed}
                for j in range({m}):
                    if {used}:
                        {lanes}
                            {slots["out"]} += {bent}
                {lanes}
                    outputs[r, t, base + b] = {slots["out"]}
            {lanes}
                {indent.join(f"{slots[name]} = {slots[f'next {name}']}" for name in states)}
        {lanes}
            {(newline + " " * 12).join(f"states[base + b, {i}] = {slots[name]}" for i, name in enumerate(states))}'''
