"""Component values against formulas written out by hand, preferred values, and filter files that use them."""

import json
import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jiyuu.circuits.catalogue import circuits
from jiyuu.circuits.components import (
    MOVES,
    SERIES,
    Components,
    capacitor_for,
    current_span_a,
    cutoff_hz,
    error_cents,
    full_gain,
    preferred,
    shown,
    stage_headroom_v,
    thermal_v,
    usual_components,
)
from jiyuu.circuits.filter_file import parse_filter
from jiyuu.errors import CircuitError

ONE = Components(capacitor_f=10e-9, current_a=20e-6)


def test_thermal_voltage():
    assert thermal_v(25.0) == pytest.approx(0.0256926, abs=1e-6)
    assert thermal_v(26.85) == pytest.approx(0.02585, abs=1e-5)  # the 300 K of the textbooks


def test_a_transistor_ladder_by_hand():
    # I/(8π·C·V_T) with 20 µA, 10 nF and 25.69 mV
    assert cutoff_hz("transistor-ladder", ONE) == pytest.approx(20e-6 / (8 * math.pi * 10e-9 * 0.0256926), rel=1e-5)


def test_an_ota_stage_by_hand():
    attenuated = ONE.model_copy(update={"attenuation": 0.01})
    gm = 0.01 * 20e-6 / (2 * 0.0256926)
    assert cutoff_hz("ota-cascade", attenuated) == pytest.approx(gm / (2 * math.pi * 10e-9), rel=1e-5)
    assert stage_headroom_v(attenuated) == pytest.approx(5.1385, rel=1e-4)


@pytest.mark.parametrize("circuit_id", circuits())
@given(capacitor=st.floats(1e-11, 1e-6), current=st.floats(1e-8, 1e-3), wanted=st.floats(5, 30_000))
def test_there_and_back(circuit_id, capacitor, current, wanted):
    components = Components(capacitor_f=capacitor, current_a=current, attenuation=0.2, cutoff_v=1.5)
    exact = capacitor_for(circuit_id, components, wanted)
    assert cutoff_hz(circuit_id, components.model_copy(update={"capacitor_f": exact})) == pytest.approx(wanted)
    low, high = current_span_a(circuit_id, components, 20.0, 20_000.0)
    assert high / low == pytest.approx(1000)
    at_low = components.model_copy(update={"current_a": low, "cutoff_v": 0.0})
    assert cutoff_hz(circuit_id, at_low) == pytest.approx(20.0)


@pytest.mark.parametrize(("name", "factor", "octaves"), [
    ("capacitor_f", 0.5, 1.0), ("current_a", 2.0, 1.0), ("diodes", 2, -1.0),
])
def test_each_value_moves_what_it_says(name, factor, octaves):
    moved = ONE.model_copy(update={name: getattr(ONE, name) * factor})
    assert math.log2(cutoff_hz("diode-ladder", moved) / cutoff_hz("diode-ladder", ONE)) == pytest.approx(octaves)
    assert set(MOVES) == set(Components.model_fields) - {"cutoff_v", "loop_ohm"}


def test_the_resonance_resistor_sets_the_end_of_the_control():
    resisted = ONE.model_copy(update={"resonance_ohm": 22_000.0})
    assert full_gain(resisted) == pytest.approx(100 / 22)
    with pytest.raises(CircuitError, match="not given"):
        full_gain(ONE)
    text = json.dumps({"name": "x", "circuit": "ota-cascade", "resonance_percent": 50,
                       "components": {"capacitor_f": 1e-9, "current_a": 1e-6, "resonance_ohm": "22k"}})
    document = parse_filter(text, source="x.json")
    assert document.gain_at(50) == pytest.approx(50 / 22)
    assert parse_filter(document.model_dump_json(), source="again") == document


def test_temperature_lowers_the_cutoff_by_a_third_of_a_percent_a_degree():
    warmer = ONE.model_copy(update={"temperature_c": 26.0})
    assert cutoff_hz("ota-cascade", warmer) / cutoff_hz("ota-cascade", ONE) == pytest.approx(1 - 0.00334, abs=2e-5)


@pytest.mark.parametrize(("value", "series", "chosen"), [
    (4.5e-9, "E12", 4.7e-9), (9.6e-9, "E12", 10e-9), (1.05e-9, "E6", 1e-9), (123e3, "E24", 120e3),
    (0.92e-6, "E6", 1e-6),
    (4.99e3, "E96", 4.99e3), (3.14e-10, "E96", 3.16e-10),
])
def test_preferred_values(value, series, chosen):
    assert preferred(value, series) == pytest.approx(chosen)


def test_usual_values_give_the_headroom_and_the_reference():
    for circuit_id in circuits():
        usual = usual_components(circuit_id, 2.0, 261.6256)
        assert cutoff_hz(circuit_id, usual) == pytest.approx(261.6256)
        assert stage_headroom_v(usual) == pytest.approx(2.0)


@given(value=st.floats(1e-12, 1e6), series=st.sampled_from(sorted(SERIES)))
def test_no_preferred_value_is_further_than_half_a_step(value, series):
    # Half of the widest gap, in natural logarithms: 6.8 to 10, 1.2 to 1.5, 1.3 to 1.5, 1.69 to 1.74.
    widest = {"E6": 0.1929, "E12": 0.1116, "E24": 0.0716, "E96": 0.0146}[series]
    assert abs(math.log(preferred(value, series) / value)) < widest
    assert abs(error_cents(value, preferred(value, series))) < 1731.3 * widest


@pytest.mark.parametrize("bad", [(0.0, "E12"), (-1.0, "E12"), (math.nan, "E12"), (1.0, "E7")])
def test_values_without_a_preferred_one(bad):
    with pytest.raises(CircuitError):
        preferred(*bad)


def test_values_as_people_write_them():
    assert [shown(4.7e-9, "F"), shown(20e-6, "A"), shown(1e-7, "F")] == ["4.7 nF", "20 µA", "100 nF"]


def test_a_filter_file_may_give_components_instead_of_numbers():
    text = json.dumps({"name": "x", "circuit": "ota-cascade",
                       "components": {"capacitor_f": "4n7", "current_a": "20uA", "attenuation": 0.02, "cutoff_v": 1}})
    document = parse_filter(text, source="x.json")
    assert document.components.capacitor_f == pytest.approx(4.7e-9)
    assert document.cutoff_hz == pytest.approx(cutoff_hz("ota-cascade", document.components))
    assert document.parameters["stage_headroom_v"] == pytest.approx(2 * thermal_v(25.0) / 0.02)
    assert parse_filter(document.model_dump_json(), source="again") == document


@pytest.mark.parametrize(("change", "message"), [
    ({"cutoff_hz": 5.0}, "the components make it"),
    ({"parameters": {"stage_headroom_v": 1.0}}, "the components make it"),
    ({"components": {"capacitor_f": "soup", "current_a": 1e-6}}, "not a number"),
    ({"components": {"capacitor_f": -1e-9, "current_a": 1e-6}}, "capacitor_f"),
    ({"components": {"capacitor_f": 1e-9, "current_a": 1e-6, "colour": 1}}, "not known"),
    ({"components": {"capacitor_f": 1e-12, "current_a": 1e-1}}, "cutoff_hz"),
])
def test_components_that_contradict_the_numbers_are_refused(change, message):
    document = {"name": "x", "circuit": "ota-cascade", "components": {"capacitor_f": 1e-8, "current_a": 1e-6}, **change}
    with pytest.raises(CircuitError, match=message):
        parse_filter(json.dumps(document), source="x.json")
