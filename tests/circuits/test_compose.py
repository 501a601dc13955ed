"""Composition by its algebra: products, sums, closed loops; and that large signals compose, too."""

import itertools

import numpy as np
import pytest

from jiyuu.circuits.catalogue import circuit, circuits
from jiyuu.circuits.compose import detuned, feedback, held, modulated, parallel, series
from jiyuu.circuits.linear import complex_gain
from jiyuu.errors import CircuitError
from jiyuu.simulation.render import render

HZ = np.geomspace(20, 20_000, 101)
AT = {"cutoff_hz": 900.0, "gain": 1.3}
PAIRS = list(itertools.product(["transistor-ladder", "state-variable", "sallen-key-highpass"],
                               ["diode-ladder", "state-variable", "sallen-key-lowpass"]))


def response(network, mode):
    return complex_gain(network, HZ, **AT, modes=[mode])[0]


@pytest.mark.parametrize(("one", "two"), PAIRS)
def test_series_is_the_product_and_parallel_the_sum(one, two):
    first, second = circuit(one).network(), circuit(two).network()
    for mode, other in itertools.product(first.outputs, second.outputs):
        product = response(series(first, mode, second), other)
        assert np.abs(product - response(first, mode) * response(second, other)).max() < 1e-12
        total = response(parallel(first, mode, second, other, first_weight=0.7, second_weight=-1.5), "sum")
        assert np.abs(total - (0.7 * response(first, mode) - 1.5 * response(second, other))).max() < 1e-12


@pytest.mark.parametrize(("circuit_id", "mode"), [
    (c.id, mode) for c in circuits().values() for mode in c.modes if not mode.startswith(("highpass", "notch", "all"))
    and mode not in ("morph",)
])
@pytest.mark.parametrize("amount", [-0.8, 0.3])
def test_feedback_closes_the_loop(circuit_id, mode, amount):
    network = circuit(circuit_id).network()
    looped = feedback(network, mode, amount)
    loop = response(network, mode)
    for other in network.outputs:
        assert np.abs(response(looped, other) - response(network, other) / (1 - amount * loop)).max() < 1e-11


@pytest.mark.parametrize(("circuit_id", "mode"), [
    ("state-variable", "highpass"), ("state-variable", "notch"), ("pole-mixer", "highpass-12"),
    ("sallen-key-highpass", "highpass-12"),
])
def test_an_output_that_follows_at_once_cannot_be_fed_back(circuit_id, mode):
    with pytest.raises(CircuitError, match="behind a capacitor"):
        feedback(circuit(circuit_id).network(), mode, 0.5)


def test_detuned_and_held_do_what_they_say():
    network = circuit("transistor-ladder").network()
    moved = complex_gain(detuned(network, 1.5), HZ, cutoff_hz=400.0, gain=2.0, modes=["lowpass-24"])
    plain = complex_gain(network, HZ, cutoff_hz=400.0 * 2**1.5, gain=2.0, modes=["lowpass-24"])
    assert np.abs(moved - plain).max() < 1e-12
    for gain in (0.0, 3.0):
        fixed = complex_gain(held(network, 1.7), HZ, cutoff_hz=400.0, gain=gain, modes=["lowpass-24"])
        assert np.abs(fixed - complex_gain(network, HZ, cutoff_hz=400.0, gain=1.7, modes=["lowpass-24"])).max() < 1e-12


def test_series_with_itself_is_associative():
    network = circuit("sallen-key-lowpass").network()
    left = series(series(network, "lowpass-12", network), "lowpass-12", network)
    right = series(network, "lowpass-12", series(network, "lowpass-12", network))
    assert np.abs(response(left, "lowpass-12") - response(right, "lowpass-12")).max() < 1e-12


@pytest.mark.long
def test_large_signals_pass_from_the_first_into_the_second():
    rate = 48_000
    record = 4 * np.sin(2 * np.pi * 220 * np.arange(9600) / rate)
    first, second = circuit("sallen-key-highpass").network(), circuit("transistor-ladder").network()
    given = {"sample_rate_hz": rate, "cutoff_hz": 900.0, "gain": 1.2}
    between = render(first, record, **given, modes=["highpass-12"]).output_v[0]
    after = render(second, between, **given, modes=["lowpass-24"]).output_v[0]
    joined = render(series(first, "highpass-12", second), record, **given, modes=["lowpass-24"]).output_v[0]
    middle = slice(1000, -1000)  # the record between is cut to its own rate's band
    assert np.abs(joined - after)[middle].max() < 2e-3 * np.abs(after).max()


@pytest.mark.parametrize(("circuit_id", "mode"), [("state-variable", "highpass"), ("transistor-ladder", "notch"),
                                                  ("sallen-key-highpass", "highpass-12")])
def test_only_capacitor_voltages_can_be_patched_into_the_controls(circuit_id, mode):
    with pytest.raises(CircuitError, match="behind a capacitor"):
        modulated(circuit(circuit_id).network(), mode, octaves_per_v=1.0)


def test_a_filter_that_moves_its_own_resonance_is_not_joined():
    network = modulated(circuit("state-variable").network(), "bandpass", gain_per_v=0.1)
    with pytest.raises(CircuitError, match="join first"):
        series(network, "lowpass", network)


def test_patching_changes_nothing_about_small_signals():
    plain = circuit("state-variable").network()
    patched = modulated(plain, "bandpass", octaves_per_v=2.0, gain_per_v=0.3)
    assert np.abs(response(patched, "lowpass") - response(plain, "lowpass")).max() == 0
    assert patched.is_modulated
    assert not plain.is_modulated


def test_two_patched_filters_keep_their_own_patches_in_series():
    one = modulated(circuit("state-variable").network(), "bandpass", octaves_per_v=1.0)
    two = modulated(circuit("state-variable").network(), "lowpass", octaves_per_v=-0.5)
    joined = series(one, "lowpass", two)
    assert joined.cutoff_by[:2, :2].tolist() == one.cutoff_by.tolist()
    assert joined.cutoff_by[2:, 2:].tolist() == two.cutoff_by.tolist()
    assert not joined.cutoff_by[:2, 2:].any()
