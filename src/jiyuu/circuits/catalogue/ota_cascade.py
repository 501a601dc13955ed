"""OTA cascade: four identical buffered OTA–capacitor stages, a limiter in the feedback path.

    x0 = g·u − k·tanh_Hf(x4),   xi' = ω·tanh_Hs(x(i−1) − xi),   g = 1 + c·k
    small signal: as the transistor ladder; onset k = 4 at the cutoff

Each stage saturates on the difference it has to make good, so at level it slows down as a whole; in the transistor
ladder each pair saturates on its own voltage. That is why the two share a curve and not a sound.
"""

from jiyuu.circuits.circuit import Circuit, Values
from jiyuu.circuits.diagram import SUM, Back, Diagram
from jiyuu.circuits.drawing_up import Drawing, Expression, Gain
from jiyuu.circuits.network import BranchKind, Network
from jiyuu.circuits.parameters import COMPENSATION, INPUT_GAIN, feedback_headroom, stage_headroom, stage_mismatch

TEACHING_ORDER = 2


def four_stages(c: Drawing, values: Values) -> list[Expression]:
    """Draws the loop; returns [x0, x1, x2, x3, x4]."""
    x = [c.capacitor(f"stage {i}", rate_ratio=1 + values[f"stage_{i}_mismatch_percent"] / 100) for i in range(1, 5)]
    limited = c.branch("limiter", BranchKind.TANH, x[3], headroom_v=values["feedback_headroom_v"])
    x0 = Gain(1, float(values["compensation"])) * (values["input_gain"] * c.input) - c.gain * limited
    taps = [x0, *x]
    for i in range(4):
        stage = c.branch(f"OTA {i + 1}", BranchKind.TANH, taps[i] - taps[i + 1], headroom_v=values["stage_headroom_v"])
        c.charge(x[i], stage)
    return taps


PARAMETERS = (stage_headroom(), feedback_headroom(), COMPENSATION, INPUT_GAIN, *stage_mismatch(4))


def draw(values: Values) -> Network:
    c = Drawing()
    _, x1, x2, x3, x4 = four_stages(c, values)
    c.output("lowpass-24", 1 * x4)
    c.output("lowpass-18", 1 * x3)
    c.output("lowpass-12", 1 * x2)
    c.output("lowpass-6", 1 * x1)
    return c.network()


CIRCUIT = Circuit(
    id="ota-cascade",
    title="OTA cascade",
    explanation=(
        "Four equal stages, each an operational transconductance amplifier pushing current into a capacitor until the "
        "capacitor agrees with the stage before it. The small-signal curve is the ladder's; at level each stage can "
        "only follow so fast, so the peak softens and the whistle goes flat as resonance rises."
    ),
    poles=4,
    modes=("lowpass-24", "lowpass-18", "lowpass-12", "lowpass-6"),
    parameters=PARAMETERS,
    draw=draw,
    diagram=Diagram(
        (SUM, "OTA", "OTA", "OTA", "OTA"), back=(Back(4, 0, "−k, limiter"),),
        taps=((1, "6"), (2, "12"), (3, "18"), (4, "24")),
    ),
)
