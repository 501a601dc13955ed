"""Networks joined into bigger networks: series, parallel, feedback, outputs patched into the controls.

A joint is a linear branch: what flows from one network into the next keeps its name and its place in the order, and the
matrices stay affine in the loop gain.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.network import Affine, Branch, BranchKind, Network
from jiyuu.errors import CircuitError


def detuned(network: Network, octaves: float) -> Network:
    """The same filter with its cutoff so many octaves above the common one."""
    return replace(network, rate_ratio=network.rate_ratio * 2.0**octaves)


def held(network: Network, gain: float) -> Network:
    """The same filter with its loop gain fixed: a common resonance control no longer moves it."""

    def fixed(matrix: Affine) -> Affine:
        return Affine(matrix.at(gain), np.zeros_like(matrix.constant))

    return replace(
        network, V=fixed(network.V), U=fixed(network.U), Z=fixed(network.Z), C=fixed(network.C), D=fixed(network.D),
        E=fixed(network.E), structure=(),
    )


def modulated(network: Network, mode: str, *, octaves_per_v: float = 0.0, gain_per_v: float = 0.0) -> Network:
    """An output patched into the filter's own cutoff and resonance. Raises CircuitError when the output is not a sum of
    capacitor voltages: then it would move the controls that it depends on at the same instant."""
    row = network.output_index(mode)
    other = (network.D.constant[row], network.D.per_gain[row], *network.E.constant[row], *network.E.per_gain[row],
             *network.C.per_gain[row])
    if any(other):
        raise CircuitError(
            f"The output '{mode}' is not a sum of capacitor voltages, so it cannot be patched into the controls it "
            "depends on; take an output behind a capacitor."
        )
    patched = network.C.constant[row]
    return replace(
        network, structure=(), gain_by=network.gain_by + gain_per_v * patched,
        cutoff_by=network.cutoff_by + octaves_per_v * network.is_tuned[:, np.newaxis] * patched[np.newaxis, :],
    )


def wire() -> Network:
    """What comes in goes out: the output 'out'."""
    return _without_capacitors((), np.zeros(0), np.zeros((0, 0)), through=1.0)


def shaper(branch: Branch) -> Network:
    """One branch between in and out, φ(v + offset) − φ(offset): silence in gives silence out."""
    if not branch.offset_v:
        return _without_capacitors((branch,), np.ones(1), np.zeros((1, 1)))
    rests = float(branch.at(np.asarray(branch.offset_v))[0])
    back = Branch(f"{branch.name}, bias taken off", BranchKind.LINEAR, offset_v=-rests)
    return _without_capacitors((branch, back), np.array([1.0, 0.0]), np.array([[0.0, 0.0], [1.0, 0.0]]))


def _without_capacitors(
    branches: tuple[Branch, ...], into: FloatArray, between: FloatArray, *, through: float = 0.0
) -> Network:
    """The last branch is the output, or the input itself `through` times."""
    m = len(branches)
    taken = np.zeros((1, m))
    taken[0, m - 1 :] = 1.0

    def constant(array: FloatArray) -> Affine:
        return Affine(array, np.zeros_like(array))

    return Network(
        capacitors=(), branches=branches, outputs=("out",), V=constant(np.zeros((m, 0))), U=constant(into),
        Z=constant(between), W=np.zeros((0, m)), C=constant(np.zeros((1, 0))), D=constant(np.array([through])),
        E=constant(taken), rate_ratio=np.zeros(0), fixed_rate=np.zeros(0),
    )


def scaled(network: Network, factor: float) -> Network:
    """The same with its outputs so many times as large."""

    def times(matrix: Affine) -> Affine:
        return Affine(factor * matrix.constant, factor * matrix.per_gain)

    return replace(network, C=times(network.C), D=times(network.D), E=times(network.E))


def only(network: Network, mode: str) -> Network:
    """One output, named 'out'."""
    row = [network.output_index(mode)]

    def chosen(matrix: Affine) -> Affine:
        return Affine(matrix.constant[row], matrix.per_gain[row])

    return replace(network, outputs=("out",), C=chosen(network.C), D=chosen(network.D), E=chosen(network.E))


def named(network: Network, prefix: str) -> Network:
    """With what its capacitors and branches are called put behind a prefix."""
    return replace(
        network, capacitors=tuple(f"{prefix} {name}" for name in network.capacitors),
        branches=tuple(replace(branch, name=f"{prefix} {branch.name}") for branch in network.branches),
    )


def silent(network: Network) -> Network:
    """The same with a capacitor that nothing charges, where it has none: for what needs a state."""
    if network.capacitors:
        return network
    m, r = len(network.branches), len(network.outputs)

    def column(rows: int) -> Affine:
        return Affine(np.zeros((rows, 1)), np.zeros((rows, 1)))

    return replace(network, capacitors=("nothing",), V=column(m), C=column(r), W=np.zeros((1, m)),
                   rate_ratio=np.zeros(1), fixed_rate=np.zeros(1), cutoff_by=np.zeros((0, 0)), gain_by=np.zeros(0))


def series(first: Network, mode: str, second: Network) -> Network:
    """The first's output `mode` drives the second; outputs are the second's. Both share cutoff and loop gain."""
    n1, n2, m1, m2 = len(first.capacitors), len(second.capacitors), len(first.branches), len(second.branches)
    row, joint = first.output_index(mode), m1

    def assembled(part: str) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray, FloatArray, FloatArray]:
        a = {name: getattr(getattr(first, name), part) for name in "VUZCDE"}
        b = {name: getattr(getattr(second, name), part) for name in "VUZCDE"}
        V = np.zeros((m1 + 1 + m2, n1 + n2))
        V[:m1, :n1], V[joint, :n1], V[joint + 1 :, n1:] = a["V"], a["C"][row], b["V"]
        U = np.concatenate([a["U"], [a["D"][row]], np.zeros(m2)])
        Z = np.zeros((m1 + 1 + m2, m1 + 1 + m2))
        Z[:m1, :m1], Z[joint, :m1] = a["Z"], a["E"][row]
        Z[joint + 1 :, joint], Z[joint + 1 :, joint + 1 :] = b["U"], b["Z"]
        C = np.concatenate([np.zeros((len(second.outputs), n1)), b["C"]], axis=1)
        E = np.concatenate([np.zeros((len(second.outputs), m1)), b["D"][:, np.newaxis], b["E"]], axis=1)
        return V, U, Z, C, np.zeros(len(second.outputs)), E

    W = np.zeros((n1 + n2, m1 + 1 + m2))
    W[:n1, :m1], W[n1:, joint + 1 :] = first.W, second.W
    return _joined(first, second, assembled("constant"), assembled("per_gain"), W, second.outputs, joint=m1)


def parallel(
    first: Network, first_mode: str, second: Network, second_mode: str, *, first_weight: float = 1.0,
    second_weight: float = 1.0,
) -> Network:
    """Both are driven by the input; the one output 'sum' adds their modes with weights."""
    n1, n2, m1, m2 = len(first.capacitors), len(second.capacitors), len(first.branches), len(second.branches)
    rows = first.output_index(first_mode), second.output_index(second_mode)

    def assembled(part: str) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray, FloatArray, FloatArray]:
        a = {name: getattr(getattr(first, name), part) for name in "VUZCDE"}
        b = {name: getattr(getattr(second, name), part) for name in "VUZCDE"}
        V, Z = np.zeros((m1 + m2, n1 + n2)), np.zeros((m1 + m2, m1 + m2))
        V[:m1, :n1], V[m1:, n1:] = a["V"], b["V"]
        Z[:m1, :m1], Z[m1:, m1:] = a["Z"], b["Z"]
        C = np.concatenate([first_weight * a["C"][rows[0]], second_weight * b["C"][rows[1]]])[np.newaxis, :]
        E = np.concatenate([first_weight * a["E"][rows[0]], second_weight * b["E"][rows[1]]])[np.newaxis, :]
        D = np.array([first_weight * a["D"][rows[0]] + second_weight * b["D"][rows[1]]])
        return V, np.concatenate([a["U"], b["U"]]), Z, C, D, E

    W = np.zeros((n1 + n2, m1 + m2))
    W[:n1, :m1], W[n1:, m1:] = first.W, second.W
    return _joined(first, second, assembled("constant"), assembled("per_gain"), W, ("sum",), joint=None)


def feedback(network: Network, mode: str, amount: float) -> Network:
    """`amount` times an output added to the input. Raises CircuitError when the output follows the input without any
    capacitor between: such a loop has no time to go round in."""
    row, m = network.output_index(mode), len(network.branches)
    after_input = _driven_directly(network)
    instant = network.D.constant[row] or network.D.per_gain[row]
    through = [j for j in range(m) if network.E.constant[row, j] or network.E.per_gain[row, j]]
    if instant or any(after_input[j] for j in through):
        raise CircuitError(
            f"The output '{mode}' follows the input at once, so feeding it back has no defined result; take an output "
            "behind a capacitor."
        )
    # What the joint needs stands before it, what the input drives behind it.
    order = [j for j in range(m) if not after_input[j]]
    place = len(order)
    order += [j for j in range(m) if after_input[j]]
    at = [j if j < place else j + 1 for j in range(m)]

    def assembled(part: str) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray, FloatArray, FloatArray]:
        a = {name: getattr(getattr(network, name), part) for name in "VUZCDE"}
        V, Z = np.zeros((m + 1, len(network.capacitors))), np.zeros((m + 1, m + 1))
        U, E = np.zeros(m + 1), np.zeros((len(network.outputs), m + 1))
        V[at], Z[np.ix_(at, at)] = a["V"][order], a["Z"][np.ix_(order, order)]
        Z[at, place] = a["U"][order]
        E[:, at], E[:, place] = a["E"][:, order], a["D"]
        V[place], Z[place, at] = amount * a["C"][row], amount * a["E"][row, order]
        U[place] = 1.0 if part == "constant" else 0.0
        return V, U, Z, a["C"], np.zeros(len(network.outputs)), E

    W = np.zeros((len(network.capacitors), m + 1))
    W[:, at] = network.W[:, order]
    branches = [network.branches[j] for j in order]
    branches.insert(place, Branch("feedback sum", BranchKind.LINEAR))
    constant, per_gain = assembled("constant"), assembled("per_gain")
    V, U, Z, C, D, E = (Affine(a, b) for a, b in zip(constant, per_gain, strict=True))
    return replace(network, branches=tuple(branches), V=V, U=U, Z=Z, C=C, D=D, E=E, W=W, structure=())


def _driven_directly(network: Network) -> list[bool]:
    """(m,) which branches the input reaches without passing a capacitor."""
    reached: list[bool] = []
    for j in range(len(network.branches)):
        own = bool(network.U.constant[j] or network.U.per_gain[j])
        through = any(
            reached[i] and bool(network.Z.constant[j, i] or network.Z.per_gain[j, i]) for i in range(j)
        )
        reached.append(own or through)
    return reached


def _joined(
    first: Network, second: Network, constant: tuple[FloatArray, ...], per_gain: tuple[FloatArray, ...], W: FloatArray,
    outputs: tuple[str, ...], *, joint: int | None,
) -> Network:
    names = {*first.capacitors, *(branch.name for branch in first.branches)}
    if names & {*second.capacitors, *(branch.name for branch in second.branches)}:
        first, second = named(first, "1"), named(second, "2")
    branches = list(first.branches)
    if joint is not None:
        joints = sum(branch.name.startswith("joint") for branch in (*first.branches, *second.branches))
        branches.append(Branch(f"joint {joints + 1}" if joints else "joint", BranchKind.LINEAR))
    branches += second.branches
    if first.gain_by.any() or second.gain_by.any():
        raise CircuitError("A filter that moves its own resonance shares no loop gain; join first, then patch.")
    n1, n = len(first.capacitors), len(first.capacitors) + len(second.capacitors)
    cutoff_by = np.zeros((n, n))
    cutoff_by[:n1, :n1], cutoff_by[n1:, n1:] = first.cutoff_by, second.cutoff_by
    V, U, Z, C, D, E = (Affine(a, b) for a, b in zip(constant, per_gain, strict=True))
    return Network(
        cutoff_by=cutoff_by, capacitors=(*first.capacitors, *second.capacitors),
        branches=tuple(branches), outputs=outputs, V=V, U=U, Z=Z, W=W, C=C, D=D, E=E,
        rate_ratio=np.concatenate([first.rate_ratio, second.rate_ratio]),
        fixed_rate=np.concatenate([first.fixed_rate, second.fixed_rate]),
    )
