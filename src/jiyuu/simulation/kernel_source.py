"""Writes the integrator that fits one network's structure, in LLVM's assembly language.

One scheme for every network: the classical fourth-order Runge–Kutta step, with cutoff, resonance and input given at
every half step. The general matrices are written out term by term, so that zeros cost nothing and ±1 costs no
multiplication; what differs from unit to unit is read from a table of coefficients. Two forms come from the same
hand: one filter in registers, and LANES filters side by side in vector registers.
"""

from __future__ import annotations

from dataclasses import dataclass

from jiyuu.arrays import DEAD
from jiyuu.circuits.network import BranchKind, Network
from jiyuu.simulation.kernel_lines import Lines, constant

LANES = 8
TABLES = ("coefficients", "states", "u", "omega", "gain", "outputs", "C", "D", "E")
COUNTS = ("groups", "steps", "rows", "u_turn", "omega_move", "omega_turn", "gain_move", "gain_turn")
MOMENTS = ("start", "middle", "end")  # of a step


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


def kernel_source(network: Network) -> str:
    """A module with the functions `single` (W = 1) and `side_by_side` (W = LANES), both of TABLES, then half, COUNTS:

        coefficients (groups, size, W), states (groups, n, W), u (steps·2 + 1, groups·W or 1), omega (cutoffs,
        steps·2 + 1 or 1, groups·W or 1), gain (gains, the same), outputs (rows, steps, groups·W), C (1 + gains, rows,
        n), D (1 + gains, rows), E (1 + gains, rows, m); half a step in s; counts as they are, 1 or 0 for what moves
        with the steps and turns with the lanes

    Times in s, u in V, omega in rad/s. outputs hold y at the start of every step; states are left at the end of the
    record."""
    forms = [_Form(network, name, lanes) for name, lanes in (("single", 1), ("side_by_side", LANES))]
    return "\n".join([*(form.function() for form in forms), *(line for form in forms for line in form.declared())]) + "\n"


class _Form(Lines):
    """One of the two forms."""

    def __init__(self, network: Network, name: str, lanes: int) -> None:
        super().__init__(lanes)
        self.network, self.name = network, name
        self.layout = layout_of(network)
        self.coefficient_at = {entry: i for i, entry in enumerate(self.layout.entries)}
        self.capacitors, self.branches = len(network.capacitors), len(network.branches)
        self.gains, self.cutoffs = len(network.gains), len(network.cutoffs)
        self.coefficients: list[str] = []
        self.turns: dict[str, str] = {}  # whether every filter has a column of its own, by the table's name
        self.moves: dict[str, str] = {}  # whether every half step has a row of its own
        self.wide: dict[str, str] = {}  # columns
        self.long: dict[str, str] = {}  # rows

    def function(self) -> str:
        tables = [f"ptr noalias {'' if name in ('states', 'outputs') else 'readonly '}%{name}"
                  for name in TABLES]
        counts = [f"i64 %{name}" for name in COUNTS]
        self._body()
        return "\n".join([
            f"define void @{self.name}({', '.join([*tables, 'double %half', *counts])}) {{", "entry:",
            *self.places, "  br label %first", "first:", *self.lines, "  ret void", "}",
        ])

    def _body(self) -> None:
        states = [self.place(f"x{i}") for i in range(self.capacitors)]
        controls = [("u", "u", 0), *(("omega", f"omega{j}", j) for j in range(self.cutoffs)),
                    *(("gain", f"gain{g}", g) for g in range(self.gains))]
        moments = {name: [self.place(f"{name}.{moment}") for moment in MOMENTS] for _, name, _ in controls}
        half = self.all_of("%half")
        step = self.all_of(self.named(f"fmul double %half, {constant(2.0)}"))
        sixth = self.over(step, self.number(6.0))
        lanes = self._sizes()
        with self.counted("group", "%groups") as group:
            base = self.index((group, str(self.lanes)))
            table = self.index((group, str(self.layout.size * self.lanes)))
            self.coefficients = [self.loaded("%coefficients", self.index(table, str(i * self.lanes)))
                                 for i in range(self.layout.size)]
            own = self.index((group, str(self.capacitors * self.lanes)))
            for i, state in enumerate(states):
                self.keep(self.loaded("%states", self.index(own, str(i * self.lanes))), state)
            # Where the row of a control begins.
            rows = {name: "0" if array == "u" else self.index((self.long[array], self.index((str(j), self.wide[array]))))
                    for array, name, j in controls}
            for array, name, _ in controls:
                self._taken(f"{name}.0", array, rows[name], base, moments[name][2])
                if array != "u":
                    for place in moments[name][:2]:
                        self.keep(self.kept(moments[name][2]), place)
            with self.counted("step", "%steps") as t:
                for array, name, _ in controls:
                    with self.where(f"{name}.moves", self.moves[array]):
                        self.keep(self.kept(moments[name][2]), moments[name][0])
                        for moment in (1, 2):
                            moved = self.index(str(moment), (t, "2"))
                            row = self.index(rows[name], (moved, self.wide[array]))
                            self._taken(f"{name}.{moment}", array, row, base, moments[name][moment])
                self._step(states, moments, half, step, sixth, lanes, base, t)
            for i, state in enumerate(states):
                self.stored(self.kept(state), "%states", self.index(own, str(i * self.lanes)))

    def _sizes(self) -> str:
        """How input, cutoffs and gains lie; returns how many filters there are."""
        lanes = self.index(("%groups", str(self.lanes)))
        records = self.index("1", ("%steps", "2"))
        for array in ("u", "omega", "gain"):
            self.turns[array] = self.named(f"icmp ne i64 %{array}_turn, 0")
            self.moves[array] = self.named("icmp eq i64 1, 1" if array == "u" else f"icmp ne i64 %{array}_move, 0")
            self.wide[array] = self.named(f"select i1 {self.turns[array]}, i64 {lanes}, i64 1")
            self.long[array] = self.named(f"select i1 {self.moves[array]}, i64 {records}, i64 1")
        return lanes

    def _taken(self, name: str, array: str, row: str, base: str, place: str) -> None:
        """Of every filter its own, or one for all."""
        self.keep(self.single(f"%{array}", row), place)
        with self.where(f"{name}.turns", self.turns[array]):
            self.keep(self.loaded(f"%{array}", self.index(row, base)), place)

    def _step(
        self, states: list[str], moments: dict[str, list[str]], half: str, step: str, sixth: str, lanes: str, base: str,
        t: str,
    ) -> None:
        """One Runge–Kutta step; then the outputs as they were at its start, and the new states."""
        x = [self.kept(state) for state in states]
        at = [[[self.kept(moments[f"{kind}{j}" if kind != "u" else "u"][moment]) for j in range(count)]
               for kind, count in (("u", 1), ("omega", self.cutoffs), ("gain", self.gains))] for moment in range(3)]
        first, bent, gains = self._derivative(x, *at[0])
        slopes = [first]
        for moment, by in ((1, half), (1, half), (2, step)):
            here = [self.plus(own, self.times(by, slope)) for own, slope in zip(x, slopes[-1], strict=True)]
            slopes.append(self._derivative(here, *at[moment])[0])
        with self.counted("row", "%rows") as row:
            output = self._output(row, at[0][0][0], x, bent, gains)
            self.stored(output, "%outputs", self.index((self.index((row, "%steps"), t), lanes), base))
        for i, state in enumerate(states):
            d1, d2, d3, d4 = (slope[i] for slope in slopes)
            total = self.plus(self.plus(d1, self.times(self.number(2.0), self.plus(d2, d3))), d4)
            new = self.plus(x[i], self.times(sixth, total))
            # Brought to rest once it has died.
            dead = self.called("fabs", new)
            self.keep(self.chosen("olt", dead, self.number(DEAD), self.number(0.0), new), state)

    def _output(self, row: str, u: str, x: list[str], bent: list[str], gains: list[str]) -> str:
        """y of one row of C, D and E, each affine in the gains."""
        total = ""
        for matrix, signals in (("D", [u]), ("C", x), ("E", bent)):
            for j, signal in enumerate(signals):
                weight = ""
                for part, gain in enumerate(["", *gains]):
                    above = self.index((str(part), "%rows"), row) if part else row
                    one = self.single(f"%{matrix}", self.index((above, str(len(signals))), str(j)))
                    weight = self.plus(weight, self.times(gain, one)) if part else one
                term = self.times(weight, signal)
                total = self.plus(total, term) if total else term
        return total

    def _weighted(
        self, matrix: str, row: int, signals: dict[int, str], gains: list[str], begun: str = ""
    ) -> str:
        """What is begun plus the sum over the columns of one matrix row; '' for nothing."""
        parts: dict[tuple[int, int], int | None] = {
            (j, part): literal for m, i, j, part, literal in self.network.structure if m == matrix and i == row
        }
        total = begun
        for j in sorted({j for j, _ in parts}):
            weight, sign = "", 1
            mine = [part for part in range(1 + self.gains) if (j, part) in parts]
            for part in mine:
                literal = parts[j, part]
                if literal is not None and len(mine) == 1 and abs(literal) == 1:
                    weight, sign = gains[part - 1] if part else "1", int(literal)
                    break
                value = self.number(float(literal)) if literal is not None else self.coefficients[
                    self.coefficient_at[matrix, row, j, part]]
                if part:
                    value = self.times(value, gains[part - 1])
                weight = self.plus(weight, value) if weight else value
            term = signals[j] if weight == "1" else self.times(weight, signals[j])
            if not total:
                total = term if sign > 0 else self.negative(term)
            else:
                total = self.plus(total, term) if sign > 0 else self.minus(total, term)
        return total

    def _derivative(
        self, x: list[str], u: list[str], omegas: list[str], given: list[str]
    ) -> tuple[list[str], list[str], list[str]]:
        """(x' of every capacitor, φ of every branch, the gains as they are)"""
        states = dict(enumerate(x))
        gains: list[str] = []
        for g, gain in enumerate(given):
            moved = self._weighted("N", g, states, [], gain) if self.network.gain_by[g].any() else gain
            gains.append(self.greater(moved, self.number(0.0)) if moved != gain else gain)
        outputs: dict[int, str] = {}
        for j, branch in enumerate(self.network.branches):
            place = len(self.layout.entries) + 3 * j
            v = self.coefficients[place]
            for matrix, signals in (("V", states), ("U", {0: u[0]}), ("Z", outputs)):
                v = self._weighted(matrix, j, signals, gains, v)
            outputs[j] = self._bent(branch.kind, v, *self.coefficients[place + 1 : place + 3])
        slopes = []
        for i in range(self.capacitors):
            current = self._weighted("W", i, outputs, gains) or self.number(0.0)
            turn = omegas[self.network.cutoff_of[i]]
            octaves = self._weighted("M", i, states, [])
            if octaves:
                # Twenty octaves either way is past anything a converter does, and keeps the exponential finite.
                held = self.lesser(self.greater(octaves, self.number(-20.0)), self.number(20.0))
                turn = self.times(turn, self.called("exp", self.times(self.number(0.6931471805599453), held)))
            rate = len(self.layout.entries) + 3 * self.branches + 2 * i
            ratio, fixed = self.coefficients[rate : rate + 2]
            slopes.append(self.times(self.plus(self.times(ratio, turn), fixed), current))
        return slopes, list(outputs.values()), gains

    def _bent(self, kind: BranchKind, v: str, headroom: str, inverse: str) -> str:
        if kind is BranchKind.LINEAR:
            return v
        if kind is BranchKind.CLIP:
            return self.lesser(self.greater(v, self.negative(headroom)), headroom)
        if kind is BranchKind.FOLD:
            return self.times(headroom, self.called("sin", self.times(v, inverse)))
        if kind is BranchKind.TANH:
            eighth = self.times(v, self.times(inverse, self.number(0.125)))
            return self.times(headroom, self.tanh_of_eight(eighth))
        return self.times(headroom, self.asinh(self.times(v, inverse)))
