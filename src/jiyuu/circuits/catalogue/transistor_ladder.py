"""Transistor ladder: four buffered-by-current one-pole stages and one global feedback path.

    v0 = g·u − k·x4,   x1' = ω(tanh(v0) − tanh(x1)),   xi' = ω(tanh(x(i−1)) − tanh(xi)),   g = 1 + c·k
    small signal: lowpass-24 = g / ((1 + s)^4 + k); onset k = 4 at the cutoff

Sources: Stinchcombe 2008 (analysis of the ladder); Huovilainen 2004, DAFx (nonlinear ladder, stage by stage).
"""

import numpy as np

from jiyuu.circuits.circuit import Circuit, Values
from jiyuu.circuits.diagram import SUM, Back, Diagram
from jiyuu.circuits.drawing_up import Drawing, Gain
from jiyuu.circuits.network import BranchKind, Network
from jiyuu.circuits.parameters import (
    COMPENSATION,
    FEEDBACK_COUPLING_HZ,
    INPUT_GAIN,
    stage_headroom,
    stage_mismatch,
)

TEACHING_ORDER = 1


def draw(values: Values) -> Network:
    c = Drawing()
    x = [
        c.capacitor(f"stage {i}", rate_ratio=1 + values[f"stage_{i}_mismatch_percent"] / 100) for i in range(1, 5)
    ]
    feedback = x[3]
    if values["feedback_coupling_hz"] > 0:
        held = c.capacitor("feedback coupling", fixed_rate=2 * np.pi * values["feedback_coupling_hz"])
        feedback = x[3] - held
        c.charge(held, c.branch("coupling", BranchKind.LINEAR, feedback))
    into_loop = values["input_gain"] * c.input
    v0 = Gain(1, float(values["compensation"])) * into_loop - c.gain * feedback
    headroom_v = values["stage_headroom_v"]
    pairs = [c.branch("input pair", BranchKind.TANH, v0, headroom_v=headroom_v)]
    pairs += [c.branch(f"pair {i}", BranchKind.TANH, x[i - 1], headroom_v=headroom_v) for i in range(1, 5)]
    for i in range(4):
        c.charge(x[i], pairs[i] - pairs[i + 1])
    c.output("lowpass-24", 1 * x[3])
    c.output("lowpass-18", 1 * x[2])
    c.output("lowpass-12", 1 * x[1])
    c.output("lowpass-6", 1 * x[0])
    c.output("bandpass-12", 2 * (x[0] - x[1]))
    c.output("bandpass-24", 4 * (x[1] - 2 * x[2] + x[3]))
    c.output("highpass-12", v0 - 2 * x[0] + x[1])
    c.output("highpass-24", v0 - 4 * x[0] + 6 * x[1] - 4 * x[2] + x[3])
    c.output("notch", v0 - 2 * x[0] + 2 * x[1])
    return c.network()


CIRCUIT = Circuit(
    id="transistor-ladder",
    title="Transistor ladder",
    explanation=(
        "Four pairs of transistors stacked like rungs, a capacitor between each. The current through the stack sets "
        "how fast the capacitors charge, and so the cutoff. A single path from the last rung back to the input gives "
        "resonance; since it also feeds the bass back in opposition, the low end sinks as resonance rises."
    ),
    poles=4,
    modes=("lowpass-24", "lowpass-18", "lowpass-12", "lowpass-6", "bandpass-12", "bandpass-24", "highpass-12",
           "highpass-24", "notch"),
    parameters=(stage_headroom(), COMPENSATION, FEEDBACK_COUPLING_HZ, INPUT_GAIN, *stage_mismatch(4)),
    draw=draw,
    diagram=Diagram(
        (SUM, "pair", "pair", "pair", "pair"), back=(Back(4, 0, "−k"),),
        taps=((1, "6"), (2, "12"), (3, "18"), (4, "24")),
    ),
)
