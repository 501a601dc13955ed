"""State variable: two integrators in a loop, every mode at once.

    hp = u − 2·x1 + k·tanh(x1) − x2,   x1' = ω·tanh(hp),   x2' = ω·tanh(x1)
    small signal: 1/Q = 2 − k; onset k = 2 at the cutoff; passband gain 1 whatever k

Source: Kerwin, Huelsman and Newcomb 1967, IEEE Journal of Solid-State Circuits (the two-integrator loop).
"""

from jiyuu.circuits.circuit import Circuit, Parameter, Values
from jiyuu.circuits.diagram import SUM, Back, Diagram
from jiyuu.circuits.drawing_up import Drawing
from jiyuu.circuits.network import BranchKind, Network
from jiyuu.circuits.parameters import INPUT_GAIN, feedback_headroom, stage_headroom, stage_mismatch

TEACHING_ORDER = 5


def draw(values: Values) -> Network:
    c = Drawing()
    bandpass, lowpass = (
        c.capacitor(name, rate_ratio=1 + values[f"stage_{i}_mismatch_percent"] / 100)
        for i, name in ((1, "bandpass"), (2, "lowpass"))
    )
    limited = c.branch("limiter", BranchKind.TANH, bandpass, headroom_v=values["feedback_headroom_v"])
    highpass = values["input_gain"] * c.input - 2 * bandpass + c.gain * limited - lowpass
    headroom_v = values["stage_headroom_v"]
    c.charge(bandpass, c.branch("integrator 1", BranchKind.TANH, highpass, headroom_v=headroom_v))
    c.charge(lowpass, c.branch("integrator 2", BranchKind.TANH, bandpass, headroom_v=headroom_v))
    morph = values["morph"]
    c.output("lowpass", 1 * lowpass)
    c.output("bandpass", 1 * bandpass)
    c.output("highpass", 1 * highpass)
    c.output("notch", highpass + lowpass)
    c.output("morph", min(1.0, 2 - 2 * morph) * lowpass + min(1.0, 2 * morph) * highpass)
    return c.network()


CIRCUIT = Circuit(
    id="state-variable",
    title="State variable",
    explanation=(
        "Two integrators in a loop, each an OTA charging a capacitor. The two capacitor voltages and the sum that "
        "drives them are bandpass, lowpass and highpass at the same time. Resonance takes away damping instead of "
        "feeding the output back, so the bass stays and the level rises towards Q."
    ),
    poles=2,
    modes=("lowpass", "bandpass", "highpass", "notch", "morph"),
    parameters=(
        Parameter("morph", "", 0.5, 0.0, 1.0, "Mode 'morph': 0 lowpass, ½ notch, 1 highpass", "Outputs"),
        stage_headroom(), feedback_headroom(), INPUT_GAIN, *stage_mismatch(2),
    ),
    draw=draw,
    diagram=Diagram(
        (SUM, "∫ OTA", "∫ OTA"), back=(Back(1, 0, "k − 2, limiter"), Back(2, 0, "−1")),
        taps=((0, "highpass"), (1, "bandpass"), (2, "lowpass")),
    ),
)
