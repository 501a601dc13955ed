"""The netlist means the circuit: its text is read back, term by term, and gives the circuit's own response."""

import re

import numpy as np
import pytest

from jiyuu.circuits.catalogue import circuits
from jiyuu.circuits.linear import complex_gain
from jiyuu.circuits.netlist import netlist_text


def read_back(text):
    """(expression by node, capacitor by node, charging current by node, parameters) of a netlist's subcircuit."""
    voltages, capacitors, currents, parameters = {}, {}, {}, {}
    for line in text[: text.index(".ends")].splitlines():
        if line.startswith(".subckt"):
            parameters |= {n: float(v) for n, v in re.findall(r"(\w+)=([-+.\de]+)", line)}
        elif line.startswith(".param"):
            name, value = line.removeprefix(".param ").split("=")
            parameters[name] = float(value)
        elif match := re.match(r"B\S+ (\S+) 0 V=(.*)", line):
            voltages[match[1]] = match[2]
        elif match := re.match(r"C\S+ (\S+) 0 \{(.*)\}", line):
            capacitors[match[1]] = match[2]
        elif match := re.match(r"B\S+ 0 (\S+) I=(.*)", line):
            currents[match[1]] = match[2]
    return voltages, capacitors, currents, parameters


def evaluated(expression, volts, parameters):
    names = {"tanh": np.tanh, "asinh": np.arcsinh, "pow": pow, "min": min, "max": max, "volts": volts}
    return eval(re.sub(r"V\((\w+)\)", r"volts['\1']", expression), {**names, **parameters})


@pytest.mark.parametrize("entry", circuits().values(), ids=circuits())
def test_the_text_gives_the_circuits_own_response(entry):
    gain, cutoff_hz = 0.7 * entry.onset_gain, 321.0
    given = {"feedback_coupling_hz": 9.0} if "feedback_coupling_hz" in entry.values() else {}
    network = entry.network(given)
    text = netlist_text(entry, network, title="Fog voice", cutoff_hz=cutoff_hz, gain=gain)
    assert text.isascii()
    voltages, capacitors, currents, parameters = read_back(text)
    states = list(capacitors)

    def flow(x, u):
        """x' and all node voltages, by evaluating the sources in the order they stand."""
        volts = {"in": u, "cv": 1.0, **dict(zip(states, x, strict=True))}
        for node, expression in voltages.items():
            volts[node] = evaluated(expression, volts, parameters)
        values = [[evaluated(text[s], volts, parameters) for s in states] for text in (currents, capacitors)]
        return np.array(values[0]) / np.array(values[1]), volts

    tiny, n = 1e-7, len(states)
    A = np.array([flow(tiny * row, 0.0)[0] / tiny for row in np.eye(n)]).T
    B = flow(np.zeros(n), tiny)[0] / tiny
    hz = np.geomspace(30, 15_000, 15)
    for mode in entry.modes:
        node = "out_" + mode.replace("-", "_")
        C = np.array([flow(tiny * row, 0.0)[1][node] / tiny for row in np.eye(n)])
        D = flow(np.zeros(n), tiny)[1][node] / tiny
        found = [C @ np.linalg.solve(2j * np.pi * f * np.eye(n) - A, B) + D for f in hz]
        true = complex_gain(network, hz, cutoff_hz=2 * cutoff_hz, gain=gain, modes=[mode])[0]  # cv is at one volt
        assert np.abs(np.array(found) - true).max() < 1e-5 * max(1.0, np.abs(true).max())


def test_the_text_says_what_is_idealised_and_has_values_to_change():
    entry = circuits()["transistor-ladder"]
    text = netlist_text(entry, entry.network({"stage_1_mismatch_percent": 5.0}), title="Fog\nvoice", cutoff_hz=440.0,
                        gain=2.5)
    assert text.startswith("* Fog voice: Transistor ladder, 4 poles\n* Idealised:")
    assert "params: fc=440 k=2.5" in text
    assert "{cn/1.05}" in text
    assert text.count(".subckt") == text.count(".ends") == 1
