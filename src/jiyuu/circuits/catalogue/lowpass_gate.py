"""Lowpass gate: two poles and a level, set by light-dependent resistors.

    a = x1 + k·asinh_Hf(x2),  x1' = ω(u − a),  x2' = ω(a − x2)     filter: 1/(s² + (2 − k)s + 1), onset k = 2
    level: a light-dependent resistor into a load with a capacitor across it: gain ω/(Ωo + s), Ωo = 2π·open_hz

The resistors are linear; only the diodes of the loop limit. What drives the lamp is followed slowly: the element opens
in about 10 ms and closes the slower the darker it is (see simulation.light_element).

In the level branch the load's voltage is written as tuned integrator and fixed differentiator, which comes to the same:
z' = ω(v − ε·z), h' = Ωo(z − h), y = z − h. The leak ε keeps a steady input from running away.
"""

import numpy as np

from jiyuu.circuits.circuit import Circuit, LightPath, Parameter, Values
from jiyuu.circuits.diagram import Back, Diagram
from jiyuu.circuits.drawing_up import Drawing, Expression
from jiyuu.circuits.network import BranchKind, Network
from jiyuu.circuits.parameters import INPUT_GAIN, feedback_headroom, stage_mismatch

TEACHING_ORDER = 9
_LEAK = 3e-4  # of the opening: a corner of a third of a hertz at a kilohertz


def draw(values: Values) -> Network:
    c = Drawing()
    x1, x2 = (
        c.capacitor(f"stage {i}", rate_ratio=1 + values[f"stage_{i}_mismatch_percent"] / 100) for i in (1, 2)
    )
    limited = c.branch("diodes", BranchKind.ASINH, x2, headroom_v=values["feedback_headroom_v"])
    a = x1 + c.gain * limited
    source = values["input_gain"] * c.input
    c.charge(x1, c.branch("resistor 1", BranchKind.LINEAR, source - a))
    c.charge(x2, c.branch("resistor 2", BranchKind.LINEAR, a - x2))

    def opened(name: str, voltage: Expression) -> Expression:
        turned = c.capacitor(f"{name} turned", rate_ratio=1.0)
        held = c.capacitor(f"{name} load", fixed_rate=2 * np.pi * values["open_hz"])
        across = turned - held
        c.charge(turned, c.branch(f"{name} resistor", BranchKind.LINEAR, voltage - _LEAK * turned))
        c.charge(held, c.branch(f"{name} current", BranchKind.LINEAR, across))
        return across

    c.output("both", opened("both", 1 * x2))
    c.output("filter", 1 * x2)
    c.output("level", opened("level", source))
    return c.network()


CIRCUIT = Circuit(
    id="lowpass-gate",
    title="Lowpass gate",
    explanation=(
        "A lamp shines on resistors that conduct in its light: brighter means a higher cutoff and a louder output at "
        "once. The element lights up fast and goes dark slowly, the slower the darker it is, so a short impulse rings "
        "like a struck thing. It works as a filter, as a level control, or as both."
    ),
    poles=2,
    modes=("filter", "level", "both"),
    parameters=(
        Parameter("open_hz", "Hz", 16_000.0, 1000.0, 40_000.0, "Opening at which the level control passes everything",
                  "Levels"),
        feedback_headroom(), INPUT_GAIN,
        Parameter("opening_ms", "ms", 10.0, 0.1, 1000.0, "Time in which the light opens the resistors", "Light"),
        Parameter("closing_ms", "ms", 50.0, 1.0, 5000.0, "Time in which they close while still bright", "Light"),
        Parameter("closing_dark_ms", "ms", 300.0, 1.0, 10_000.0, "Time in which they close when nearly dark", "Light"),
        *stage_mismatch(2),
    ),
    draw=draw,
    diagram=Diagram(("light", "light", "level"), back=(Back(1, 0, "+k, diodes"),), taps=((1, "filter"), (2, "both"))),
    light=LightPath("opening_ms", "closing_ms", "closing_dark_ms"),
)
