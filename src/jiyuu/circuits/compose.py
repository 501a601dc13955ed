"""Networks joined into bigger networks: series, parallel, feedback, outputs patched into the controls.

A joint is a linear branch: what flows from one network into the next keeps its name and its place in the order, and the
matrices stay affine in the gains. Gains and cutoffs of one name are one control, moved together; `named` keeps those of
one network apart from another's.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import FloatArray
from jiyuu.circuits.network import CUTOFF, Affine, Branch, BranchKind, Network
from jiyuu.errors import CircuitError

MATRICES = ("V", "U", "Z", "C", "D", "E")


def detuned(network: Network, octaves: float) -> Network:
    """The same filter with its cutoff so many octaves above the common one."""
    return replace(network, rate_ratio=network.rate_ratio * 2.0**octaves)


def _changed(network: Network, names: Iterable[str], change: Callable[[Affine], Affine]) -> dict[str, Any]:
    """Some of the matrices by name, changed."""
    return {name: change(getattr(network, name)) for name in names}


def held(network: Network, gain: float) -> Network:
    """The same filter with its gains fixed: a common control no longer moves them."""

    def fixed(matrix: Affine) -> Affine:
        return Affine.constant(matrix.at(gain), 0)

    return replace(
        network, **_changed(network, MATRICES, fixed), gains=(), gain_by=np.zeros((0, 0)), written=(),
    )


def modulated(network: Network, mode: str, *, octaves_per_v: float = 0.0, gain_per_v: float = 0.0) -> Network:
    """An output patched into the filter's own cutoff and resonance. Raises CircuitError when the output is not a sum of
    capacitor voltages: then it would move the controls that it depends on at the same instant."""
    row = network.output_index(mode)
    if network.D.parts[:, row].any() or network.E.parts[:, row].any() or network.C.parts[1:, row].any():
        raise CircuitError(
            f"The output '{mode}' is not a sum of capacitor voltages, so it cannot be patched into the controls it "
            "depends on; take an output behind a capacitor."
        )
    patched = network.C.parts[0, row]
    return replace(
        network, written=(), gain_by=network.gain_by + gain_per_v * patched,
        cutoff_by=network.cutoff_by + octaves_per_v * network.is_tuned[:, np.newaxis] * patched[np.newaxis, :],
    )


def wire() -> Network:
    """What comes in goes out: the output 'out'."""
    return _without_capacitors((), np.zeros(0), np.zeros((0, 0)), through=1.0)


def shaper(branch: Branch) -> Network:
    """One branch between in and out, φ(v + offset) − φ(offset): silence in gives silence out."""
    if not branch.offset_v:
        return _without_capacitors((branch,), np.ones(1), np.zeros((1, 1)))
    rests, slope = (float(value) for value in branch.at(np.asarray(branch.offset_v)))
    branch = replace(branch, rest_slope=slope)
    back = Branch(f"{branch.name}, bias taken off", BranchKind.LINEAR, offset_v=-rests)
    return _without_capacitors((branch, back), np.array([1.0, 0.0]), np.array([[0.0, 0.0], [1.0, 0.0]]))


def _without_capacitors(
    branches: tuple[Branch, ...], into: FloatArray, between: FloatArray, *, through: float = 0.0
) -> Network:
    """The last branch is the output, or the input itself `through` times."""
    m = len(branches)
    taken = np.zeros((1, m))
    taken[0, m - 1 :] = 1.0
    V, U, Z, C, D, E = (Affine.constant(matrix, 0) for matrix in (
        np.zeros((m, 0)), into, between, np.zeros((1, 0)), np.array([through]), taken))
    return Network(
        capacitors=(), branches=branches, outputs=("out",), W=np.zeros((0, m)), rate_ratio=np.zeros(0),
        fixed_rate=np.zeros(0), gains=(), cutoffs=(), V=V, U=U, Z=Z, C=C, D=D, E=E,
    )


def scaled(network: Network, factor: float) -> Network:
    """The same with its outputs so many times as large."""
    return replace(network, **_changed(network, "CDE", lambda matrix: Affine(factor * matrix.parts)))


def levelled(network: Network, gain: str) -> Network:
    """The same with its one output as many times as large as a new gain of that name says."""
    moved = [network.C.parts[1:], network.D.parts[1:], network.E.parts[1:]]
    if any(part.any() for part in moved):
        # What is moved by a gain already goes through a joint first, so that no two gains multiply each other.
        network = series(network, network.outputs[0], wire())

    def by(matrix: Affine) -> Affine:
        nothing = np.zeros_like(matrix.parts[0])
        return Affine(np.stack([nothing, *(nothing for _ in network.gains), matrix.parts[0]]))

    def unmoved(matrix: Affine) -> Affine:
        return Affine(np.concatenate([matrix.parts, np.zeros((1, *matrix.parts.shape[1:]))]))

    return replace(
        network, gains=(*network.gains, gain), written=(),
        gain_by=np.concatenate([network.gain_by, np.zeros((1, len(network.capacitors)))]),
        **_changed(network, "VUZ", unmoved), **_changed(network, "CDE", by),
    )


def blended(network: Network, modes: Mapping[str, str]) -> Network:
    """One output 'out', the sum of some outputs, each times a new gain: {mode: the gain's name}."""
    rows = [network.output_index(mode) for mode in modes]
    n, m, g, more = len(network.capacitors), len(network.branches), len(network.gains), len(rows)
    own = {name: np.concatenate([matrix.parts, np.zeros((more, *matrix.parts.shape[1:]))])
           for name, matrix in ((name, getattr(network, name)) for name in MATRICES)}
    # What is blended goes through a branch each, so that no two gains multiply each other.
    Z, E = np.zeros((1 + g + more, m + more, m + more)), np.zeros((1 + g + more, 1, m + more))
    Z[:, :m, :m], Z[:, m:, :m] = own["Z"], own["E"][:, rows]
    for k in range(more):
        E[1 + g + k, 0, m + k] = 1.0
    branches = (*network.branches, *(Branch(f"{mode} taken", BranchKind.LINEAR) for mode in modes))
    return replace(
        network, branches=branches, outputs=("out",), gains=(*network.gains, *modes.values()), written=(),
        V=Affine(np.concatenate([own["V"], own["C"][:, rows]], axis=1)),
        U=Affine(np.concatenate([own["U"], own["D"][:, rows]], axis=1)), Z=Affine(Z),
        W=np.concatenate([network.W, np.zeros((n, more))], axis=1), C=Affine(np.zeros((1 + g + more, 1, n))),
        D=Affine(np.zeros((1 + g + more, 1))), E=Affine(E),
        gain_by=np.concatenate([network.gain_by, np.zeros((more, n))]),
    )


def only(network: Network, mode: str) -> Network:
    """One output, named 'out'."""
    row = [network.output_index(mode)]
    return replace(network, outputs=("out",), **_changed(network, "CDE", lambda matrix: Affine(matrix.parts[:, row])))


def named(network: Network, prefix: str, controls: str = "") -> Network:
    """With what its capacitors and branches are called put behind a prefix; controls: the same for its gains and
    cutoffs, joined by a point, where one is given."""
    found = replace(
        network, capacitors=tuple(f"{prefix} {name}" for name in network.capacitors),
        branches=tuple(replace(branch, name=f"{prefix} {branch.name}") for branch in network.branches),
    )
    if not controls:
        return found
    return replace(found, gains=tuple(f"{controls}.{name}" for name in network.gains),
                   cutoffs=tuple(f"{controls}.{name}" for name in network.cutoffs))


def silent(network: Network) -> Network:
    """The same with a capacitor that nothing charges, where it has none: for what needs a state."""
    if network.capacitors:
        return network
    m, r, g = len(network.branches), len(network.outputs), len(network.gains)
    return replace(
        network, capacitors=("nothing",), V=Affine.constant(np.zeros((m, 1)), g),
        C=Affine.constant(np.zeros((r, 1)), g), W=np.zeros((1, m)), rate_ratio=np.zeros(1), fixed_rate=np.zeros(1),
        cutoff_by=np.zeros((0, 0)),
        gain_by=np.zeros((0, 0)), cutoffs=network.cutoffs or (CUTOFF,), cutoff_of=np.zeros(1, dtype=np.intp),
    )


def series(first: Network, mode: str, second: Network) -> Network:
    """The first's output `mode` drives the second; outputs are the second's. Controls of one name are shared."""
    first, second = _apart(first, second)
    n1, n2, m1, m2 = len(first.capacitors), len(second.capacitors), len(first.branches), len(second.branches)
    row, joint, r = first.output_index(mode), m1, len(second.outputs)
    gains, a, b = _aligned(first, second)
    p = 1 + len(gains)
    n, m = n1 + n2, m1 + 1 + m2
    V, U, Z = np.zeros((p, m, n)), np.zeros((p, m)), np.zeros((p, m, m))
    V[:, :m1, :n1], V[:, joint, :n1], V[:, joint + 1 :, n1:] = a["V"], a["C"][:, row], b["V"]
    U[:, :m1], U[:, joint] = a["U"], a["D"][:, row]
    Z[:, :m1, :m1], Z[:, joint, :m1] = a["Z"], a["E"][:, row]
    Z[:, joint + 1 :, joint], Z[:, joint + 1 :, joint + 1 :] = b["U"], b["Z"]
    C = np.concatenate([np.zeros((p, r, n1)), b["C"]], axis=2)
    E = np.concatenate([np.zeros((p, r, m1)), b["D"][..., np.newaxis], b["E"]], axis=2)
    W = np.zeros((n, m))
    W[:n1, :m1], W[n1:, joint + 1 :] = first.W, second.W
    joints = sum(branch.name.startswith("joint") for branch in (*first.branches, *second.branches))
    between = Branch(f"joint {joints + 1}" if joints else "joint", BranchKind.LINEAR)
    branches = (*first.branches, between, *second.branches)
    return _joined(first, second, gains, branches, second.outputs, W, (V, U, Z, C, np.zeros((p, r)), E))


def parallel(
    first: Network, first_mode: str, second: Network, second_mode: str, *, first_weight: float = 1.0,
    second_weight: float = 1.0,
) -> Network:
    """Both are driven by the input; the one output 'sum' adds their modes with weights. Controls of one name are
    shared."""
    first, second = _apart(first, second)
    n1, n2, m1, m2 = len(first.capacitors), len(second.capacitors), len(first.branches), len(second.branches)
    rows = first.output_index(first_mode), second.output_index(second_mode)
    gains, a, b = _aligned(first, second)
    p = 1 + len(gains)
    V, Z = np.zeros((p, m1 + m2, n1 + n2)), np.zeros((p, m1 + m2, m1 + m2))
    V[:, :m1, :n1], V[:, m1:, n1:] = a["V"], b["V"]
    Z[:, :m1, :m1], Z[:, m1:, m1:] = a["Z"], b["Z"]
    C, E = (np.concatenate([first_weight * a[name][:, rows[0]], second_weight * b[name][:, rows[1]]],
                           axis=1)[:, np.newaxis] for name in ("C", "E"))
    D = (first_weight * a["D"][:, rows[0]] + second_weight * b["D"][:, rows[1]])[:, np.newaxis]
    W = np.zeros((n1 + n2, m1 + m2))
    W[:n1, :m1], W[n1:, m1:] = first.W, second.W
    return _joined(first, second, gains, (*first.branches, *second.branches), ("sum",), W,
                   (V, np.concatenate([a["U"], b["U"]], axis=1), Z, C, D, E))


def feedback(network: Network, mode: str, amount: float, *, moved_by: str = "") -> Network:
    """`amount` times an output added to the input; moved_by: a new gain of that name instead of it. Raises CircuitError
    when the output follows the input without any capacitor between: such a loop has no time to go round in."""
    row, m, g = network.output_index(mode), len(network.branches), len(network.gains)
    after_input = _driven_directly(network)
    through = np.flatnonzero(network.E.parts[:, row].any(axis=0))
    if network.D.parts[:, row].any() or any(after_input[j] for j in through):
        raise CircuitError(
            f"The output '{mode}' follows the input at once, so feeding it back has no defined result; take an output "
            "behind a capacitor."
        )
    if moved_by and (network.C.parts[1:, row].any() or network.E.parts[1:, row].any()):
        raise CircuitError(f"The output '{mode}' is moved by a gain already; put a joint behind it.")
    # What the joint needs stands before it, what the input drives behind it.
    order = [j for j in range(m) if not after_input[j]]
    place = len(order)
    order += [j for j in range(m) if after_input[j]]
    at = [j if j < place else j + 1 for j in range(m)]
    more, n = int(bool(moved_by)), len(network.capacitors)
    p, parts = 1 + g + more, {name: getattr(network, name).parts for name in MATRICES}
    parts = {name: np.concatenate([own, np.zeros((more, *own.shape[1:]))]) for name, own in parts.items()}
    V, Z, U = np.zeros((p, m + 1, n)), np.zeros((p, m + 1, m + 1)), np.zeros((p, m + 1))
    E = np.zeros((p, len(network.outputs), m + 1))
    V[:, at], Z[np.ix_(range(p), at, at)] = parts["V"][:, order], parts["Z"][np.ix_(range(p), order, order)]
    Z[:, at, place] = parts["U"][:, order]
    E[:, :, at], E[:, :, place] = parts["E"][:, :, order], parts["D"]
    U[0, place] = 1.0
    if moved_by:
        V[-1, place], Z[-1, place, at] = parts["C"][0, row], parts["E"][0, row][order]
    else:
        V[:, place] = amount * parts["C"][:, row]
        Z[np.ix_(range(p), [place], at)] = amount * parts["E"][:, row][:, np.newaxis, order]
    W = np.zeros((n, m + 1))
    W[:, at] = network.W[:, order]
    branches = [network.branches[j] for j in order]
    branches.insert(place, Branch("feedback sum", BranchKind.LINEAR))
    return replace(
        network, branches=tuple(branches), V=Affine(V), U=Affine(U), Z=Affine(Z), C=Affine(parts["C"]),
        D=Affine(np.zeros((p, len(network.outputs)))), E=Affine(E), W=W, written=(),
        gains=(*network.gains, moved_by) if moved_by else network.gains,
        gain_by=np.concatenate([network.gain_by, np.zeros((more, n))]),
    )


def _driven_directly(network: Network) -> list[bool]:
    """(m,) which branches the input reaches without passing a capacitor."""
    own, passed = (np.abs(matrix.parts).max(axis=0) > 0 for matrix in (network.U, network.Z))
    reached: list[bool] = []
    for j in range(len(network.branches)):
        reached.append(bool(own[j]) or any(reached[i] and bool(passed[j, i]) for i in range(j)))
    return reached


def _apart(first: Network, second: Network) -> tuple[Network, Network]:
    """With names of their own, where some are alike."""
    names = {*first.capacitors, *(branch.name for branch in first.branches)}
    if names & {*second.capacitors, *(branch.name for branch in second.branches)}:
        return named(first, "1"), named(second, "2")
    return first, second


def _aligned(
    first: Network, second: Network
) -> tuple[tuple[str, ...], dict[str, FloatArray], dict[str, FloatArray]]:
    """Names of all gains, and the parts of both networks' matrices by them."""
    gains = (*first.gains, *(name for name in second.gains if name not in first.gains))

    def parts(network: Network) -> dict[str, FloatArray]:
        places = [0, *(1 + gains.index(name) for name in network.gains)]
        found = {}
        for name in MATRICES:
            own = getattr(network, name).parts
            found[name] = np.zeros((1 + len(gains), *own.shape[1:]))
            found[name][places] = own
        return found

    return gains, parts(first), parts(second)


def _joined(
    first: Network, second: Network, gains: tuple[str, ...], branches: tuple[Branch, ...], outputs: tuple[str, ...],
    W: FloatArray, matrices: tuple[FloatArray, ...],
) -> Network:
    if any(network.gain_by.any() and set(network.gains) & set(other.gains)
           for network, other in ((first, second), (second, first))):
        raise CircuitError("A filter that moves its own resonance shares no loop gain; join first, then patch.")
    n1, n = len(first.capacitors), len(first.capacitors) + len(second.capacitors)
    cutoff_by, gain_by = np.zeros((n, n)), np.zeros((len(gains), n))
    cutoff_by[:n1, :n1], cutoff_by[n1:, n1:] = first.cutoff_by, second.cutoff_by
    for network, part in ((first, slice(0, n1)), (second, slice(n1, n))):
        gain_by[[gains.index(name) for name in network.gains], part] = network.gain_by
    cutoffs = (*first.cutoffs, *(name for name in second.cutoffs if name not in first.cutoffs))
    V, U, Z, C, D, E = (Affine(parts) for parts in matrices)
    return Network(
        cutoff_by=cutoff_by, gain_by=gain_by, gains=gains, cutoffs=cutoffs,
        cutoff_of=np.concatenate([_places(first, cutoffs), _places(second, cutoffs)]),
        capacitors=(*first.capacitors, *second.capacitors), branches=branches, outputs=outputs, V=V, U=U, Z=Z, W=W,
        C=C, D=D, E=E, rate_ratio=np.concatenate([first.rate_ratio, second.rate_ratio]),
        fixed_rate=np.concatenate([first.fixed_rate, second.fixed_rate]),
    )


def _places(network: Network, cutoffs: tuple[str, ...]) -> NDArray[np.intp]:
    """(n,) of each capacitor, which of all cutoffs it belongs to."""
    own = np.array([cutoffs.index(name) for name in network.cutoffs] or [0], dtype=np.intp)
    return own[network.cutoff_of]
