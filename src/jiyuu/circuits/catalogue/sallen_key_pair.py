"""Sallen–Key pair: the highpass ahead of the lowpass of the same build, each with its own resonance.

    highpass: s²/(s² + (2 − kh)s + 1) at fc·2^spacing, kh fixed by its own control
    lowpass:  1/(s² + (2 − k)s + 1) at fc; onset k = 2

Between the two cutoffs a band of chosen width is left. Source: Sallen and Key 1955, IRE Transactions on Circuit Theory.
"""

from jiyuu.circuits.circuit import Circuit, Parameter, Values
from jiyuu.circuits.diagram import Back, Diagram
from jiyuu.circuits.drawing_up import Drawing
from jiyuu.circuits.network import BranchKind, Network
from jiyuu.circuits.parameters import INPUT_GAIN, feedback_headroom, stage_headroom, stage_mismatch

TEACHING_ORDER = 8


def draw(values: Values) -> Network:
    c = Drawing()
    spacing = 2.0 ** values["spacing_octaves"]
    stage_v, diode_v = values["stage_headroom_v"], values["feedback_headroom_v"]
    ratio = [1 + values[f"stage_{i}_mismatch_percent"] / 100 for i in range(1, 5)]
    h1, h2 = (c.capacitor(f"highpass {i}", rate_ratio=ratio[i - 1] * spacing) for i in (1, 2))
    x1, x2 = (c.capacitor(f"lowpass {i}", rate_ratio=ratio[i + 1]) for i in (1, 2))
    a = values["input_gain"] * c.input - h1
    high = a - h2
    high_diodes = c.branch("highpass diodes", BranchKind.ASINH, high, headroom_v=diode_v)
    c.charge(h1, c.branch("OTA 1", BranchKind.TANH, a - values["highpass_gain"] * high_diodes, headroom_v=stage_v))
    c.charge(h2, c.branch("OTA 2", BranchKind.TANH, high, headroom_v=stage_v))
    low_diodes = c.branch("lowpass diodes", BranchKind.ASINH, x2, headroom_v=diode_v)
    b = x1 + c.gain * low_diodes
    c.charge(x1, c.branch("OTA 3", BranchKind.TANH, high - b, headroom_v=stage_v))
    c.charge(x2, c.branch("OTA 4", BranchKind.TANH, b - x2, headroom_v=stage_v))
    c.output("bandpass-24", 1 * x2)
    c.output("highpass-12", 1 * high)
    return c.network()


CIRCUIT = Circuit(
    id="sallen-key-pair",
    title="Sallen–Key pair",
    explanation=(
        "The highpass stands ahead of the lowpass, each with diodes in its loop and a resonance of its own. Set apart "
        "they leave a band; set close they sing as two formants; the highpass keeps the lowpass's growl from drowning "
        "in its own bass."
    ),
    poles=4,
    modes=("bandpass-24", "highpass-12"),
    parameters=(
        Parameter("spacing_octaves", "oct", -2.0, -8.0, 4.0, "Highpass cutoff re the lowpass's, octaves"),
        Parameter("highpass_gain", "", 0.0, 0.0, 1.99, "Highpass resonance, loop gain; oscillates at 2", "Resonance"),
        stage_headroom(5.0), feedback_headroom(), INPUT_GAIN, *stage_mismatch(4),
    ),
    draw=draw,
    diagram=Diagram(
        ("C", "C", "OTA", "OTA"), back=(Back(1, 0, "+kh, diodes"), Back(3, 2, "+k, diodes")),
        taps=((1, "highpass"), (3, "bandpass")),
    ),
)
