"""Diode ladder: four stages that load one another.

    v0 = g·u − k·x4,  q0 = tanh(v0),  qi = tanh(xi − x(i+1)),  q4 = tanh(x4),  xi' = ω·ci·(q(i−1) − qi)
    c = (2, 1, 1, 1): onset k = 17 at √2·fc;  all equal: onset k = 18.3878 at 1.19523·fc;  DC gain 1 at x4, k = 0
"""

import numpy as np

from jiyuu.circuits.circuit import Circuit, Parameter, Values
from jiyuu.circuits.diagram import SUM, Back, Diagram
from jiyuu.circuits.drawing_up import Drawing, Gain
from jiyuu.circuits.network import BranchKind, Network
from jiyuu.circuits.parameters import COMPENSATION, FEEDBACK_COUPLING_HZ, INPUT_GAIN, stage_headroom

TEACHING_ORDER = 4


def draw(values: Values) -> Network:
    c = Drawing()
    x = [c.capacitor(f"stage {i}", rate_ratio=values[f"capacitor_ratio_{i}"]) for i in range(1, 5)]
    feedback = 1 * x[3]
    if values["feedback_coupling_hz"] > 0:
        held = c.capacitor("feedback coupling", fixed_rate=2 * np.pi * values["feedback_coupling_hz"])
        feedback = x[3] - held
        c.charge(held, c.branch("coupling", BranchKind.LINEAR, feedback))
    v0 = Gain(1, float(values["compensation"])) * (values["input_gain"] * c.input) - c.gain * feedback
    headroom_v = values["stage_headroom_v"]
    voltages = [v0, x[0] - x[1], x[1] - x[2], x[2] - x[3], 1 * x[3]]
    q = [c.branch(f"diodes {i}", BranchKind.TANH, v, headroom_v=headroom_v) for i, v in enumerate(voltages)]
    for i in range(4):
        c.charge(x[i], q[i] - q[i + 1])
    c.output("lowpass-24", 1 * x[3])
    return c.network()


CIRCUIT = Circuit(
    id="diode-ladder",
    title="Diode ladder",
    explanation=(
        "A ladder of diodes with no buffering between the rungs: every capacitor feels its neighbours, so the four "
        "poles spread apart and the knee is soft. It needs far more feedback before it whistles and never gets as "
        "sharp on the way there."
    ),
    poles=4,
    modes=("lowpass-24",),
    parameters=(
        stage_headroom(), COMPENSATION, FEEDBACK_COUPLING_HZ, INPUT_GAIN,
        *(
            Parameter(
                f"capacitor_ratio_{i}", "", 2.0 if i == 1 else 1.0, 0.1, 10.0,
                f"Rate of stage {i} re the cutoff: 2 is a capacitor half the nominal one", "Stages",
            )
            for i in range(1, 5)
        ),
    ),
    draw=draw,
    diagram=Diagram(
        (SUM, "diodes", "diodes", "diodes", "diodes"), back=(Back(4, 0, "−k"),),
        taps=((4, "24"),), both_ways=True,
    ),
)
