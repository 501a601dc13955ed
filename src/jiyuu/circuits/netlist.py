"""A circuit as SPICE-format text: one subcircuit, a behavioural source for every branch, a real capacitor for every
capacitor, values as parameters.

What is written is the network itself, term by term, so the text says what the rest of the program computes. It keeps to
elements and functions that general circuit simulators share: R, C, B sources, tanh, asinh, min, max.
"""

from __future__ import annotations

import re

from jiyuu.circuits.circuit import Circuit
from jiyuu.circuits.network import Affine, BranchKind, Network

NOMINAL_FARAD = 1e-9

_SHAPES = {
    BranchKind.LINEAR: "V({v})",
    BranchKind.TANH: "{h}*tanh(V({v})/{h})",
    BranchKind.ASINH: "{h}*asinh(V({v})/{h})",
    BranchKind.CLIP: "min(max(V({v}), -{h}), {h})",
    BranchKind.FOLD: "{h}*sin(V({v})/{h})",
}
_MEANING = {
    BranchKind.LINEAR: "a sum, without limit",
    BranchKind.TANH: "differential pair or OTA: H*tanh(v/H)",
    BranchKind.ASINH: "antiparallel diodes: H*asinh(v/H)",
    BranchKind.CLIP: "supply rails: clamp to +-H",
    BranchKind.FOLD: "folder: H*sin(v/H)",
}


def netlist_text(circuit: Circuit, network: Network, *, title: str, cutoff_hz: float, gain: float) -> str:
    """The subcircuit of a network and a bench that drives it. Nodes: in, cv (1 V/octave), one for every output."""
    name = circuit.id.replace("-", "_")
    outputs = [_node("out", mode) for mode in network.outputs]
    states = [_node("x", capacitor) for capacitor in network.capacitors]
    voltages = [_node("v", branch.name) for branch in network.branches]
    currents = [_node("f", branch.name) for branch in network.branches]
    lines = [
        f"* {' '.join(title.split())}: {_ascii(circuit.title)}, {circuit.poles} poles",
        "* Idealised: buffers without load, OTAs and pairs as pure tanh sources (no bias current, no bandwidth limit),",
        "* the exponential converter exact (cv adds volts at 1 V/octave), no supply rails, no noise.",
        "* Voltages are at the panel; 0 V of cv is the cutoff fc below. k is the loop gain of the resonance.",
        f".subckt {name} in cv {' '.join(outputs)} params: fc={cutoff_hz:.9g} k={gain:.9g} cn={NOMINAL_FARAD:g}",
    ]
    for j, branch in enumerate(network.branches):
        if branch.kind is not BranchKind.LINEAR:
            lines.append(f".param h{j + 1}={branch.headroom_v:.9g}")
    gain_text = "k"
    if network.gain_by.any():
        patched = _sum([(f"{w:.9g}", states[j]) for j, w in enumerate(network.gain_by[0]) if w], constant=0.0)
        lines += ["* resonance, moved by the filter's own output", f"Bkk kk 0 V=max(k + {patched}, 0)"]
        gain_text = "V(kk)"
    lines.append("* branches: the voltage that drives each, and what it gives")
    for j, branch in enumerate(network.branches):
        drive = _sum(
            [*_terms(network.V, j, states, gain_text), *_terms(network.Z, j, currents, gain_text),
             *_terms(network.U, j, ["in"], gain_text)],
            constant=branch.offset_v,
        )
        lines.append(f"* {_ascii(branch.name)}: {_MEANING[branch.kind]}")
        lines.append(f"B{voltages[j]} {voltages[j]} 0 V={drive}")
        shape = _SHAPES[branch.kind].format(v=voltages[j], h=f"h{j + 1}")
        lines.append(f"B{currents[j]} {currents[j]} 0 V={shape}")
    lines.append("* capacitors, each charged by its branches; a faster stage has a smaller one")
    for i, capacitor in enumerate(network.capacitors):
        moved = _sum([(f"{w:.9g}", states[j]) for j, w in enumerate(network.cutoff_by[i]) if w], constant=0.0)
        flow = _sum([(f"{weight:.9g}", currents[j]) for j, weight in enumerate(network.W[i]) if weight], constant=0.0)
        if network.rate_ratio[i] > 0:
            octaves = "" if moved == "0" else f" + {moved}"
            value, conductance = f"cn/{network.rate_ratio[i]:.9g}", f"6.283185307179586*fc*pow(2, V(cv){octaves})*cn"
        else:
            value, conductance = "cn", f"{network.fixed_rate[i]:.9g}*cn"
        lines.append(f"* {_ascii(capacitor)}")
        lines.append(f"C{states[i]} {states[i]} 0 {{{value}}} ic=0")
        lines.append(f"B{states[i]}_charge 0 {states[i]} I={conductance}*({flow})")
        lines.append(f"R{states[i]} {states[i]} 0 1e15")
    lines.append("* outputs")
    for r, node in enumerate(outputs):
        terms = [*_terms(network.C, r, states, gain_text), *_terms(network.E, r, currents, gain_text),
                 *_terms(network.D, r, ["in"], gain_text)]
        lines.append(f"B{node} {node} 0 V={_sum(terms, constant=0.0)}")
    lines += [
        f".ends {name}", "",
        "* bench: small-signal response of the first output",
        "Vsource in 0 dc 0 ac 1", "Vcontrol cv 0 dc 0",
        f"Xfilter in cv {' '.join(outputs)} {name}",
        ".ac dec 50 20 20k", f".print ac vdb({outputs[0]}) vp({outputs[0]})", ".end", "",
    ]
    return "\n".join(lines)


def _terms(matrix: Affine, row: int, nodes: list[str], gain: str) -> list[tuple[str, str]]:
    """(weight, node) of a row, weights affine in the loop gain, which is written as `gain`."""
    constant, per_gain = matrix.parts[:, row].reshape(2, -1)
    found = []
    for a, b, node in zip(constant, per_gain, nodes, strict=True):
        if a and b:
            found.append((f"({a:.9g}{b:+.9g}*{gain})", node))
        elif b:
            found.append((f"({b:.9g}*{gain})", node))
        elif a:
            found.append((f"{a:.9g}", node))
    return found


def _sum(terms: list[tuple[str, str]], *, constant: float) -> str:
    parts = [f"({weight})*V({node})" for weight, node in terms]
    if constant:
        parts.append(f"({constant:.9g})")
    return " + ".join(parts) or "0"


def _node(kind: str, name: str) -> str:
    return f"{kind}_" + re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_")


def _ascii(text: str) -> str:
    return text.replace("–", "-").encode("ascii", "replace").decode("ascii")
