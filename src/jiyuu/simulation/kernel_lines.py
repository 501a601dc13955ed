"""Lines of LLVM's assembly language, written one operation at a time, for one filter or for several side by side: a
value is a double or a vector of them. What is written here stands at one place of a function after another, with loops
and branches between.

tanh and asinh are written out, since calls into the mathematics library cannot be vectorised:
- tanh(x): continued fraction of five terms (Lambert 1770) at x/8, doubled three times as a fraction,
  (n, d) -> (2nd, n² + d²), one division at the end; |error| ≤ 1e-12.
- asinh(x) = sign·ln(|x| + √(x² + 1)), the logarithm from exponent bits and the atanh series; |error| ≤ 1e-14.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

FAST = "nnan ninf nsz arcp contract"
LIBRARY = ("exp", "sin", "sqrt", "fabs", "copysign")  # as LLVM calls them


def constant(value: float) -> str:
    """A double, to the last bit."""
    return f"0x{struct.unpack('<Q', struct.pack('<d', value))[0]:016X}"


class Lines:
    """Writes values of `lanes` doubles and hands out their names. Where a number is meant to be the same for all,
    `all_of` makes one of it."""

    def __init__(self, lanes: int) -> None:
        self.lanes = lanes
        self.kind = "double" if lanes == 1 else f"<{lanes} x double>"
        self.whole = "i64" if lanes == 1 else f"<{lanes} x i64>"
        self.suffix = "f64" if lanes == 1 else f"v{lanes}f64"
        self.lines: list[str] = []
        self.places: list[str] = []  # a function makes them before all else
        self._count = 0

    def declared(self) -> list[str]:
        """What the text must say of the functions it uses."""
        pairs = {"copysign"}
        return [f"declare {self.kind} @llvm.{name}.{self.suffix}({', '.join([self.kind] * (1 + (name in pairs)))})"
                for name in LIBRARY]

    def named(self, text: str) -> str:
        """The name of a new value that is what the text says."""
        self._count += 1
        self.lines.append(f"  %v{self._count} = {text}")
        return f"%v{self._count}"

    def say(self, text: str) -> None:
        self.lines.append(f"  {text}")

    def number(self, value: float) -> str:
        """A literal."""
        text = constant(value)
        return text if self.lanes == 1 else "<" + ", ".join([f"double {text}"] * self.lanes) + ">"

    def all_of(self, one: str) -> str:
        """A double, the same in every lane."""
        if self.lanes == 1:
            return one
        first = self.named(f"insertelement {self.kind} poison, double {one}, i64 0")
        return self.named(f"shufflevector {self.kind} {first}, {self.kind} poison, "
                          f"<{self.lanes} x i32> zeroinitializer")

    def _binary(self, operation: str, a: str, b: str) -> str:
        return self.named(f"{operation} {FAST} {self.kind} {a}, {b}")

    def plus(self, a: str, b: str) -> str:
        return self._binary("fadd", a, b)

    def minus(self, a: str, b: str) -> str:
        return self._binary("fsub", a, b)

    def times(self, a: str, b: str) -> str:
        return self._binary("fmul", a, b)

    def over(self, a: str, b: str) -> str:
        return self._binary("fdiv", a, b)

    def negative(self, a: str) -> str:
        return self.named(f"fneg {FAST} {self.kind} {a}")

    def _bits(self, operation: str, a: str, b: str) -> str:
        return self.named(f"{operation} {self.whole} {a}, {b}")

    def _integer(self, value: int) -> str:
        return str(value) if self.lanes == 1 else "<" + ", ".join([f"i64 {value}"] * self.lanes) + ">"

    def chosen(self, relation: str, a: str, b: str, then: str, otherwise: str) -> str:
        """`then` where a stands in relation to b, 'olt' being less."""
        flag = "i1" if self.lanes == 1 else f"<{self.lanes} x i1>"
        holds = self.named(f"fcmp {FAST} {relation} {self.kind} {a}, {b}")
        return self.named(f"select {FAST} {flag} {holds}, {self.kind} {then}, {self.kind} {otherwise}")

    def lesser(self, a: str, b: str) -> str:
        return self.chosen("olt", a, b, a, b)

    def greater(self, a: str, b: str) -> str:
        return self.chosen("ogt", a, b, a, b)

    def called(self, name: str, *arguments: str) -> str:
        """exp, sin, sqrt, fabs or copysign."""
        given = ", ".join(f"{self.kind} {one}" for one in arguments)
        return self.named(f"call {FAST} {self.kind} @llvm.{name}.{self.suffix}({given})")

    def polynomial(self, s: str, coefficients: Sequence[float]) -> str:
        """In s, from the constant up."""
        value = self.number(coefficients[-1])
        for coefficient in reversed(coefficients[:-1]):
            value = self.plus(self.number(coefficient), self.times(s, value))
        return value

    def tanh_of_eight(self, z: str) -> str:
        """tanh(8 z)"""
        z = self.greater(self.lesser(z, self.number(2.5)), self.number(-2.5))
        s = self.times(z, z)
        n = self.times(z, self.polynomial(s, (1.0, 0.1111111111111111, 0.0010582010582010583)))
        d = self.polynomial(s, (1.0, 0.4444444444444444, 0.015873015873015872))
        for _ in range(3):
            squares = self.plus(self.times(n, n), self.times(d, d))
            n, d = self.times(self.plus(n, n), d), squares
        return self.over(n, d)

    def asinh(self, z: str) -> str:
        a = self.called("fabs", z)
        g = self.plus(a, self.called("sqrt", self.plus(self.times(a, a), self.number(1.0))))
        bits = self.named(f"bitcast {self.kind} {g} to {self.whole}")
        # Mantissa in [√½, √2): subtracting the bits of √½ before taking the exponent rounds it that way.
        shift = self._bits("sub", bits, self._integer(0x3FE6A09E667F3BCD))
        taken = self._bits("and", self._bits("ashr", shift, self._integer(52)), self._integer(0x7FF))
        raised = self._bits("or", taken, self._integer(0x4330000000000000))
        exponent = self.minus(self.named(f"bitcast {self.whole} {raised} to {self.kind}"),
                              self.number(4503599627370496.0))
        top = self._bits("and", shift, self._integer(0x7FF0000000000000))
        mantissa = self.named(f"bitcast {self.whole} {self._bits('sub', bits, top)} to {self.kind}")
        q = self.over(self.minus(mantissa, self.number(1.0)), self.plus(mantissa, self.number(1.0)))
        p = self.polynomial(self.times(q, q), [1 / (2 * i + 1) for i in range(9)])
        logarithm = self.plus(self.times(exponent, self.number(0.6931471805599453)),
                              self.times(self.times(self.number(2.0), q), p))
        return self.called("copysign", logarithm, z)

    def loaded(self, pointer: str, index: str) -> str:
        """All lanes from an index on."""
        place = self.named(f"getelementptr inbounds double, ptr {pointer}, i64 {index}")
        return self.named(f"load {self.kind}, ptr {place}, align 8")

    def single(self, pointer: str, index: str) -> str:
        """One double, the same for every lane."""
        place = self.named(f"getelementptr inbounds double, ptr {pointer}, i64 {index}")
        return self.all_of(self.named(f"load double, ptr {place}, align 8"))

    def stored(self, value: str, pointer: str, index: str) -> None:
        place = self.named(f"getelementptr inbounds double, ptr {pointer}, i64 {index}")
        self.say(f"store {self.kind} {value}, ptr {place}, align 8")

    def place(self, name: str) -> str:
        """Where a value is kept that changes from round to round."""
        self.places.append(f"  %at.{name} = alloca {self.kind}, align 64")
        return f"%at.{name}"

    def kept(self, place: str) -> str:
        return self.named(f"load {self.kind}, ptr {place}, align 64")

    def keep(self, value: str, place: str) -> None:
        self.say(f"store {self.kind} {value}, ptr {place}, align 64")

    def index(self, *terms: str | tuple[str, str]) -> str:
        """A sum of whole numbers and of products of two, each a name or digits."""
        total = ""
        for term in terms:
            value = term if isinstance(term, str) else self.named(f"mul nsw i64 {term[0]}, {term[1]}")
            total = self.named(f"add nsw i64 {total}, {value}") if total else value
        return total

    def block(self, name: str) -> None:
        self.lines.append(f"{name}:")

    @contextmanager
    def counted(self, name: str, count: str) -> Iterator[str]:
        """What is written inside is done so many times; gives the number of the round."""
        self.say(f"br label %{name}.before")
        self.block(f"{name}.before")
        place = f"%{name}.place"
        self.places.append(f"  {place} = alloca i64, align 8")
        self.say(f"store i64 0, ptr {place}")
        self.say(f"br label %{name}.head")
        self.block(f"{name}.head")
        turn = self.named(f"load i64, ptr {place}")
        goes_on = self.named(f"icmp slt i64 {turn}, {count}")
        self.say(f"br i1 {goes_on}, label %{name}.body, label %{name}.after")
        self.block(f"{name}.body")
        yield turn
        self.say(f"store i64 {self.named(f'add nsw i64 {turn}, 1')}, ptr {place}")
        self.say(f"br label %{name}.head")
        self.block(f"{name}.after")

    @contextmanager
    def where(self, name: str, flag: str) -> Iterator[None]:
        """What is written inside is done where a flag (i1) is set."""
        self.say(f"br i1 {flag}, label %{name}.then, label %{name}.on")
        self.block(f"{name}.then")
        yield
        self.say(f"br label %{name}.on")
        self.block(f"{name}.on")
