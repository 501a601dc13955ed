"""Filters that are only their transfer function: shelves, peaks, bands of a bank, formants, all-pass chains; as
networks of straight branches, so that they join with any other and are played by the same integrator.

Formulas of the sections: s in units of the section's own angular frequency, A = 10^(dB/40)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.circuits.compose import only, parallel, scaled, series
from jiyuu.circuits.network import CUTOFF, Affine, Branch, BranchKind, Network


@dataclass(frozen=True, slots=True)
class Section:
    """(b2 s² + b1 s + b0)/(s² + a1 s + a0), s in units of 2π·frequency_hz."""

    frequency_hz: float
    b: tuple[float, float, float]
    a: tuple[float, float]

    @classmethod
    def of(cls, frequency_hz: float, over: Sequence[float], under: Sequence[float]) -> Section:
        """From polynomials, highest power first, in their own scale."""
        lead = under[0]
        return cls(frequency_hz, (over[0] / lead, over[1] / lead, over[2] / lead), (under[1] / lead, under[2] / lead))

    def gain(self, frequency_hz: FloatArray) -> ComplexArray:
        """(n,) V/V at frequencies (n,)."""
        s = 1j * np.asarray(frequency_hz) / self.frequency_hz
        (b2, b1, b0), (a1, a0) = self.b, self.a
        return np.asarray(((b2 * s + b1) * s + b0) / ((s + a1) * s + a0))


def peak(frequency_hz: float, gain_db: float, q: float) -> Section:
    a = 10 ** (gain_db / 40)
    return Section.of(frequency_hz, (1, a / q, 1), (1, 1 / (a * q), 1))


def low_shelf(frequency_hz: float, gain_db: float, q: float) -> Section:
    a = 10 ** (gain_db / 40)
    root = np.sqrt(a) / q
    return Section.of(frequency_hz, (a, a * root, a * a), (a, root, 1))


def high_shelf(frequency_hz: float, gain_db: float, q: float) -> Section:
    a = 10 ** (gain_db / 40)
    root = np.sqrt(a) / q
    return Section.of(frequency_hz, (a * a, a * root, a), (1, root, a))


def bandpass(frequency_hz: float, q: float) -> Section:
    return Section.of(frequency_hz, (0, 1 / q, 0), (1, 1 / q, 1))


def section_network(section: Section, name: str, unit_hz: float) -> Network:
    """One section with the output 'out', its frequency as a ratio to unit_hz."""
    b2, b1, b0 = section.b
    a1, a0 = section.a
    ratio = section.frequency_hz / unit_hz
    # x1' = x2, x2' = u − a1·x2 − a0·x1; the second branch holds all of it.
    V = np.array([[0.0, 1.0], [-a0, -a1]])
    return _network(
        (f"{name} 1", f"{name} 2"), (f"{name} up", f"{name} down"), V=V, U=np.array([0.0, 1.0]),
        C=np.array([b0 - b2 * a0, b1 - b2 * a1]), D=b2, ratio=np.full(2, ratio), W=np.eye(2),
    )


def chain(sections: Sequence[Section], name: str, unit_hz: float) -> Network | None:
    """One behind the other; None where there are none."""
    found: Network | None = None
    for i, section in enumerate(sections, start=1):
        own = section_network(section, f"{name} {i}", unit_hz)
        found = own if found is None else series(found, "out", own)
    return found


def side_by_side(sections: Sequence[Section], weights: Sequence[float], name: str, unit_hz: float) -> Network:
    """Their weighted sum."""
    found: Network | None = None
    for i, (section, weight) in enumerate(zip(sections, weights, strict=True), start=1):
        own = scaled(section_network(section, f"{name} {i}", unit_hz), weight)
        found = own if found is None else only(parallel(found, "out", own, "out"), "sum")
    assert found is not None
    return found


def bank_group(
    sections: Sequence[Section], weights: Sequence[float], back: float, name: str, unit_hz: float
) -> Network:
    """Bandpasses side by side, `back` times their weighted sum added to their common input; the output is the sum."""
    n = 2 * len(sections)
    V, U, C, ratio = np.zeros((n + 1, n)), np.zeros(n + 1), np.zeros(n), np.zeros(n)
    Z, W = np.zeros((n + 1, n + 1)), np.zeros((n, n + 1))
    U[0] = 1.0
    for i, (section, weight) in enumerate(zip(sections, weights, strict=True)):
        x1, x2 = 2 * i, 2 * i + 1
        (_, b1, _), (a1, a0) = section.b, section.a
        C[x2] = weight * b1
        V[1 + x1, x2] = 1.0
        V[1 + x2, x1], V[1 + x2, x2], Z[1 + x2, 0] = -a0, -a1, 1.0
        W[x1, 1 + x1] = W[x2, 1 + x2] = 1.0
        ratio[x1] = ratio[x2] = section.frequency_hz / unit_hz
    V[0] = back * C
    names = [f"{name} {i // 2 + 1} {'up' if i % 2 == 0 else 'down'}" for i in range(n)]
    return _network(tuple(f"{one} v" for one in names), (f"{name} sum", *names), V=V, U=U, C=C, D=0.0, ratio=ratio, W=W,
                    Z=Z)


def moving_bandpass(name: str, cutoff: str, damping: str) -> Network:
    """A bandpass whose frequency is a named cutoff and whose 1/Q is a named gain: x1' = ω·x2, x2' = ω·(u − x1 − g·x2),
    out g·x2."""
    def with_gain(fixed: FloatArray, by_gain: FloatArray) -> Affine:
        return Affine(np.stack([fixed, by_gain]))

    return Network(
        capacitors=(f"{name} 1", f"{name} 2"), outputs=("out",), W=np.eye(2), rate_ratio=np.ones(2),
        branches=tuple(Branch(f"{name} {way}", BranchKind.LINEAR) for way in ("up", "down")), fixed_rate=np.zeros(2),
        V=with_gain(np.array([[0.0, 1.0], [-1.0, 0.0]]), np.array([[0.0, 0.0], [0.0, -1.0]])),
        U=with_gain(np.array([0.0, 1.0]), np.zeros(2)), Z=with_gain(np.zeros((2, 2)), np.zeros((2, 2))),
        C=with_gain(np.zeros((1, 2)), np.array([[0.0, 1.0]])), D=with_gain(np.zeros(1), np.zeros(1)),
        E=with_gain(np.zeros((1, 2)), np.zeros((1, 2))), gains=(damping,), cutoffs=(cutoff,),
    )


def all_pass(
    stages: int, frequency_hz: float, back: float, name: str, unit_hz: float, *, moved_by: str = ""
) -> Network:
    """A/(1 − back·A) of A = ((1 − s)/(1 + s))ⁿ: what goes at once round the loop is solved for beforehand. moved_by: a
    new gain of that name, which is `round_loop` of the feedback, instead of it."""
    n = stages
    # Each stage: w' = u_k − w, out = 2w − u_k. D of the chain is (−1)ⁿ.
    into, by_state = np.zeros(n + 1), np.zeros((n + 1, n))  # of each stage's input, the last the output
    into[0] = 1.0
    for k in range(n):
        into[k + 1], by_state[k + 1] = -into[k], -by_state[k]
        by_state[k + 1, k] += 2.0
    # All of it is affine in r = back/(1 − back·D), since 1/(1 − back·D) = 1 + D·r.
    d = into[n]
    V = np.stack([by_state[:n] - np.eye(n), np.outer(into[:n], by_state[n])])
    U, C, D = (np.stack([own, d * own]) for own in (into[:n], by_state[n], np.array(d)))
    if not moved_by:
        r = round_loop(back, n)
        V, U, C, D = (own[:1] + r * own[1:] for own in (V, U, C, D))
    network = _network(
        tuple(f"{name} {k + 1} v" for k in range(n)), tuple(f"{name} {k + 1}" for k in range(n)), V=V[0], U=U[0],
        C=C[0], D=float(D[0]), ratio=np.full(n, frequency_hz / unit_hz), W=np.eye(n),
    )
    if not moved_by:
        return network
    nothing = {key: np.concatenate([matrix.parts, np.zeros((1, *matrix.parts.shape[1:]))])
               for key, matrix in (("Z", network.Z), ("E", network.E))}
    return replace(network, V=Affine(V), U=Affine(U), C=Affine(C[:, np.newaxis]), D=Affine(D[:, np.newaxis]),
                   Z=Affine(nothing["Z"]), E=Affine(nothing["E"]), gains=(moved_by,), written=(),
                   gain_by=np.zeros((1, n)))


def round_loop(back: float | FloatArray, stages: int) -> FloatArray:
    """What a feedback comes to round an all-pass chain, whose direct way is (−1)ⁿ."""
    return np.asarray(back / (1 - np.asarray(back) * (-1.0) ** stages))


def _network(
    capacitors: tuple[str, ...], branches: tuple[str, ...], *, V: FloatArray, U: FloatArray, C: FloatArray, D: float,
    ratio: FloatArray, W: FloatArray, Z: FloatArray | None = None,
) -> Network:
    m = len(branches)

    def fixed(matrix: FloatArray) -> Affine:
        return Affine.constant(matrix, 0)

    return Network(
        capacitors=capacitors, branches=tuple(Branch(name, BranchKind.LINEAR) for name in branches), outputs=("out",),
        V=fixed(V), U=fixed(U), Z=fixed(np.zeros((m, m)) if Z is None else Z), W=W, C=fixed(C[np.newaxis]),
        D=fixed(np.array([D])), E=fixed(np.zeros((1, m))), rate_ratio=ratio, fixed_rate=np.zeros(ratio.size), gains=(),
        cutoffs=(CUTOFF,),
    )
