"""What a network refuses, what a drawing writes down, where it rests."""

from dataclasses import replace

import numpy as np
import pytest

from jiyuu.circuits.catalogue import circuit, circuits
from jiyuu.circuits.circuit import checked_cutoff, checked_gain
from jiyuu.circuits.drawing_up import Drawing
from jiyuu.circuits.network import Affine, Branch, BranchKind, Network
from jiyuu.circuits.operating_point import operating_point
from jiyuu.errors import CircuitError
from tests.reference import adaptive


def test_a_drawing_becomes_the_matrices_of_its_equations():
    c = Drawing()
    x = c.capacitor("x", rate_ratio=1.5)
    limited = c.branch("limiter", BranchKind.TANH, x, headroom_v=0.5)
    y = c.branch("pair", BranchKind.LINEAR, 2 * c.input - x + c.gain * limited)
    c.charge(x, y - limited)
    c.output("out", 3 * x - y)
    network = c.network()
    assert network.V.parts[0].tolist() == [[1], [-1]]
    assert network.U.parts[0].tolist() == [0, 2]
    assert network.Z.parts[1].tolist() == [[0, 0], [1, 0]]
    assert network.W.tolist() == [[-1, 1]]
    assert network.C.parts[0].tolist() == [[3]]
    assert network.E.parts[0].tolist() == [[0, -1]]
    assert network.rates(1.0).tolist() == pytest.approx([3 * np.pi])


def test_whole_numbers_stay_literals_and_component_values_do_not():
    network = circuit("state-variable").network()
    literals = {entry[:3]: entry[4] for entry in network.structure if entry[0] == "V"}
    assert -2 in literals.values()
    inputs = [entry[4] for entry in network.structure if entry[0] == "U"]
    assert inputs == [None]  # the input buffer's gain differs from unit to unit


def test_a_branch_may_not_depend_on_itself():
    network = circuit("state-variable").network()
    with pytest.raises(CircuitError, match="depends on itself"):
        replace(network, Z=Affine.constant(np.eye(3), 1))


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"rate_ratio": np.array([1.0, np.nan])}, "finite"),
        ({"rate_ratio": np.array([1.0, -1.0])}, "negative rate"),
        ({"W": np.zeros((1, 1))}, "shape"),
        ({"V": Affine.constant(np.zeros((1, 1)), 1)}, "Matrix V has shape"),
        ({"U": Affine.constant(np.full(3, np.inf), 1)}, "not finite"),
    ],
)
def test_a_network_that_makes_no_sense_is_refused(change, message):
    with pytest.raises(CircuitError, match=message):
        replace(circuit("state-variable").network(), **change)


@pytest.mark.parametrize("bad", [{"headroom_v": 0.0}, {"headroom_v": np.inf}, {"offset_v": np.nan}])
def test_a_branch_needs_finite_volts(bad):
    with pytest.raises(CircuitError, match="give a finite value"):
        Branch("b", BranchKind.TANH, **bad)


def test_arrays_of_a_network_cannot_be_changed():
    network = circuit("transistor-ladder").network()
    with pytest.raises(ValueError, match="read-only"):
        network.W[0, 0] = 3.0


def test_an_expression_holds_the_gain_only_once():
    c = Drawing()
    with pytest.raises(CircuitError, match="only once"):
        c.gain * (c.gain * c.input)


def test_unknown_names_list_what_there_is():
    with pytest.raises(CircuitError, match="transistor-ladder"):
        circuit("ladder")
    with pytest.raises(CircuitError, match="stage_headroom_v"):
        circuit("transistor-ladder").values({"headroom": 1.0})
    with pytest.raises(CircuitError, match="lowpass-24"):
        circuit("transistor-ladder").mode("lowpass-36")
    with pytest.raises(CircuitError, match="bandpass"):
        circuit("state-variable").network().output_index("comb")


@pytest.mark.parametrize("value", [np.nan, np.inf, -1.0, 1e9])
def test_values_out_of_range_name_the_range(value):
    with pytest.raises(CircuitError, match="out of range"):
        circuit("transistor-ladder").values({"compensation": value})
    with pytest.raises(CircuitError, match="out of range"):
        checked_cutoff(value)
    with pytest.raises(CircuitError, match="out of range"):
        checked_gain(value)


def test_a_mode_is_found_without_its_slope_when_there_is_only_one():
    assert circuit("sallen-key-lowpass").mode("lowpass") == "lowpass-12"
    assert circuit("state-variable").mode("lowpass-12") == "lowpass"
    assert circuit("transistor-ladder").mode(None) == "lowpass-24"


@pytest.mark.parametrize("entry", circuits().values(), ids=circuits())
def test_every_circuit_explains_itself(entry):
    network = entry.network()
    assert set(entry.modes) == set(network.outputs)
    assert entry.poles <= sum(network.is_tuned)  # a level control is a tuned row, too, but no pole of the filter
    assert len(entry.explanation) > 120
    for parameter in entry.parameters:
        assert parameter.minimum <= parameter.default <= parameter.maximum
        assert len(parameter.meaning) > 15


def with_offsets(network: Network) -> Network:
    offsets = np.random.default_rng(3).normal(0, 0.02, len(network.branches))
    branches = tuple(replace(b, offset_v=float(o)) for b, o in zip(network.branches, offsets, strict=True))
    return replace(network, branches=branches)


@pytest.mark.parametrize("circuit_id", circuits())
def test_a_filter_that_starts_at_its_rest_state_stays_there(circuit_id):
    entry = circuits()[circuit_id]
    network, gain = with_offsets(entry.network()), 0.6 * entry.onset_gain
    rest = operating_point(network, gain=gain, input_v=0.3)
    times = np.linspace(0, 0.01, 50)
    output = adaptive(network, times, u_v=lambda t: 0.3, cutoff_hz=lambda t: 800.0, gain=lambda t: gain,
                      mode=entry.modes[0], start_v=rest.state_v)
    assert np.ptp(output) < 1e-8
    assert np.abs(rest.state_v).max() > 1e-4
    assert (rest.slope <= 1).all()
