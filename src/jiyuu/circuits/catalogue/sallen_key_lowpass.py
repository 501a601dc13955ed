"""Sallen–Key lowpass with OTAs for resistors and diodes in the loop.

    a = x1 + k·asinh_Hf(x2),  x1' = ω·tanh_Hs(u − a),  x2' = ω·tanh_Hs(a − x2),  y = x2
    small signal: 1/(s² + (2 − k)s + 1), DC gain 1, onset k = 2

Source: Sallen and Key 1955, IRE Transactions on Circuit Theory.
"""

from jiyuu.circuits.circuit import Circuit, Values
from jiyuu.circuits.diagram import Back, Diagram
from jiyuu.circuits.drawing_up import Drawing
from jiyuu.circuits.network import BranchKind, Network
from jiyuu.circuits.parameters import INPUT_GAIN, feedback_headroom, stage_headroom, stage_mismatch

TEACHING_ORDER = 6


def draw(values: Values) -> Network:
    c = Drawing()
    x1, x2 = (
        c.capacitor(f"stage {i}", rate_ratio=1 + values[f"stage_{i}_mismatch_percent"] / 100) for i in (1, 2)
    )
    limited = c.branch("diodes", BranchKind.ASINH, x2, headroom_v=values["feedback_headroom_v"])
    a = x1 + c.gain * limited
    headroom_v = values["stage_headroom_v"]
    first = c.branch("OTA 1", BranchKind.TANH, values["input_gain"] * c.input - a, headroom_v=headroom_v)
    c.charge(x1, first)
    c.charge(x2, c.branch("OTA 2", BranchKind.TANH, a - x2, headroom_v=headroom_v))
    c.output("lowpass-12", 1 * x2)
    return c.network()


CIRCUIT = Circuit(
    id="sallen-key-lowpass",
    title="Sallen–Key lowpass",
    explanation=(
        "Two stages and a positive feedback from the output to the foot of the first capacitor. Diodes keep the loop "
        "from running away: past their voltage the feedback gives less and less, which makes the resonance growl "
        "instead of ring. Passband level does not depend on resonance."
    ),
    poles=2,
    modes=("lowpass-12",),
    parameters=(stage_headroom(5.0), feedback_headroom(), INPUT_GAIN, *stage_mismatch(2)),
    draw=draw,
    diagram=Diagram(
        ("OTA", "OTA"), back=(Back(1, 0, "+k, diodes"),),
        taps=((1, "lowpass"),), both_ways=True,
    ),
)
