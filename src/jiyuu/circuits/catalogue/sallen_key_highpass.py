"""Sallen–Key highpass with OTAs for resistors and diodes in the loop.

    a = u − x1,  y = a − x2,  x1' = ω·tanh_Hs(a − k·asinh_Hf(y)),  x2' = ω·tanh_Hs(y)
    small signal: s²/(s² + (2 − k)s + 1), onset k = 2

Source: Sallen and Key 1955, IRE Transactions on Circuit Theory.
"""

from jiyuu.circuits.circuit import Circuit, Values
from jiyuu.circuits.diagram import Back, Diagram
from jiyuu.circuits.drawing_up import Drawing
from jiyuu.circuits.network import BranchKind, Network
from jiyuu.circuits.parameters import INPUT_GAIN, feedback_headroom, stage_headroom, stage_mismatch

TEACHING_ORDER = 7


def draw(values: Values) -> Network:
    c = Drawing()
    x1, x2 = (
        c.capacitor(f"stage {i}", rate_ratio=1 + values[f"stage_{i}_mismatch_percent"] / 100) for i in (1, 2)
    )
    a = values["input_gain"] * c.input - x1
    y = a - x2
    limited = c.branch("diodes", BranchKind.ASINH, y, headroom_v=values["feedback_headroom_v"])
    headroom_v = values["stage_headroom_v"]
    c.charge(x1, c.branch("OTA 1", BranchKind.TANH, a - c.gain * limited, headroom_v=headroom_v))
    c.charge(x2, c.branch("OTA 2", BranchKind.TANH, y, headroom_v=headroom_v))
    c.output("highpass-12", 1 * y)
    return c.network()


CIRCUIT = Circuit(
    id="sallen-key-highpass",
    title="Sallen–Key highpass",
    explanation=(
        "The lowpass turned round: the signal enters through the capacitors. It thins the low end at 12 dB per "
        "octave, keeps the top untouched, and its diodes limit the resonance in the same growling way. Usually it "
        "stands ahead of the lowpass of the same build."
    ),
    poles=2,
    modes=("highpass-12",),
    parameters=(stage_headroom(5.0), feedback_headroom(), INPUT_GAIN, *stage_mismatch(2)),
    draw=draw,
    diagram=Diagram(
        ("C", "C"), back=(Back(1, 0, "+k, diodes"),),
        taps=((1, "highpass"),), both_ways=True,
    ),
)
