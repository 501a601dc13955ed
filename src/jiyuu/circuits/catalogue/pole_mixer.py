"""Pole mixer: the OTA cascade with an output stage that adds up its taps.

With p = 1/(1 + s) per stage the taps are x0·(1, p, p², p³, p⁴); a mode is five coefficients on [x0 … x4]. At k = 0,
x0 is the input, and for instance 1 − 2p + p² = (s/(1 + s))² is a highpass of 12 dB per octave.
"""

from jiyuu.circuits.catalogue.ota_cascade import PARAMETERS, four_stages
from jiyuu.circuits.circuit import Circuit, Parameter, Values
from jiyuu.circuits.diagram import SUM, Back, Diagram
from jiyuu.circuits.drawing_up import Drawing
from jiyuu.circuits.network import Network

TEACHING_ORDER = 3

MIXES: dict[str, tuple[int, int, int, int, int]] = {
    "lowpass-24": (0, 0, 0, 0, 1),
    "lowpass-18": (0, 0, 0, 1, 0),
    "lowpass-12": (0, 0, 1, 0, 0),
    "lowpass-6": (0, 1, 0, 0, 0),
    "highpass-6": (1, -1, 0, 0, 0),
    "highpass-12": (1, -2, 1, 0, 0),
    "highpass-18": (1, -3, 3, -1, 0),
    "highpass-24": (1, -4, 6, -4, 1),
    "bandpass-12": (0, 2, -2, 0, 0),
    "bandpass-24": (0, 0, 4, -8, 4),
    "bandpass-hp6-lp12": (0, 0, 1, -1, 0),
    "bandpass-hp6-lp18": (0, 0, 0, 1, -1),
    "bandpass-hp12-lp6": (0, 1, -2, 1, 0),
    "bandpass-hp18-lp6": (0, 1, -3, 3, -1),
    "notch": (1, -2, 2, 0, 0),
    "notch-lowpass-6": (0, 1, -2, 2, 0),
    "all-pass-3": (1, -6, 12, -8, 0),
    "all-pass-3-lowpass-6": (0, 1, -6, 12, -8),
}


def draw(values: Values) -> Network:
    c = Drawing()
    taps = four_stages(c, values)

    def mixed(name: str, weights: tuple[float, ...]) -> None:
        total = weights[0] * taps[0]
        for weight, tap in zip(weights[1:], taps[1:], strict=True):
            total = total + weight * tap
        c.output(name, total)

    for name, mix in MIXES.items():
        mixed(name, mix)
    mixed("free", tuple(values[f"mix_{i}"] for i in range(5)))
    return c.network()


CIRCUIT = Circuit(
    id="pole-mixer",
    title="Pole mixer",
    explanation=(
        "The OTA cascade with every tap brought out and summed in chosen amounts and signs. Lowpass, highpass, "
        "bandpass, notch and all-pass are only different sums, so one loop with one resonance serves them all; the "
        "free mode takes any five coefficients."
    ),
    poles=4,
    modes=(*MIXES, "free"),
    parameters=(
        *PARAMETERS,
        *(
            Parameter(f"mix_{i}", "", 1.0 if i == 4 else 0.0, -20.0, 20.0, f"Mode 'free': amount of tap {i}", "Outputs")
            for i in range(5)
        ),
    ),
    draw=draw,
    diagram=Diagram(
        (SUM, "OTA", "OTA", "OTA", "OTA", "mix"), back=(Back(4, 0, "−k, limiter"),),
        taps=((0, "x0"), (1, "x1"), (2, "x2"), (3, "x3"), (4, "x4")),
    ),
)
