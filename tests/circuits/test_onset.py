"""Where self-oscillation begins, and where poles and zeros are."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jiyuu.circuits.catalogue import circuits
from jiyuu.circuits.linear import growth_rate, onset, poles, zeros

# Loop gain and frequency re the cutoff, from the characteristic polynomials.
FACTS = {
    "transistor-ladder": (4.0, 1.0), "ota-cascade": (4.0, 1.0), "pole-mixer": (4.0, 1.0),
    "diode-ladder": (17.0, np.sqrt(2)), "state-variable": (2.0, 1.0), "sallen-key-lowpass": (2.0, 1.0),
    "sallen-key-highpass": (2.0, 1.0), "sallen-key-pair": (2.0, 1.0),
    "lowpass-gate": (2.0, 1.0),
}


@pytest.mark.parametrize("circuit_id", circuits())
@pytest.mark.parametrize("cutoff_hz", [20.0, 1000.0, 15_000.0])
def test_onset_meets_the_characteristic_polynomial(circuit_id, cutoff_hz):
    gain, ratio = FACTS[circuit_id]
    found = onset(circuits()[circuit_id].network(), cutoff_hz=cutoff_hz)
    assert found.gain == pytest.approx(gain, rel=1e-8)
    assert found.frequency_hz == pytest.approx(ratio * cutoff_hz, rel=1e-6)


def test_diode_ladder_of_equal_capacitors():
    network = circuits()["diode-ladder"].network({"capacitor_ratio_1": 1.0})
    found = onset(network, cutoff_hz=1000.0)
    assert found.gain == pytest.approx(18.3878, abs=5e-5)
    assert found.frequency_hz == pytest.approx(1195.23, abs=0.01)


@given(share=st.floats(0.0, 0.999), cutoff_hz=st.floats(5, 20_000), which=st.sampled_from(sorted(circuits())))
def test_everything_decays_below_onset(share, cutoff_hz, which):
    circuit = circuits()[which]
    assert growth_rate(circuit.network(), cutoff_hz=cutoff_hz, gain=share * circuit.onset_gain) < 0


@given(cutoff_hz=st.floats(5, 20_000), factor=st.floats(1.01, 3.0), which=st.sampled_from(sorted(circuits())))
def test_onset_does_not_depend_on_the_cutoff_and_growth_follows_it(cutoff_hz, factor, which):
    circuit = circuits()[which]
    gain = factor * circuit.onset_gain
    reference = growth_rate(circuit.network(), cutoff_hz=1000.0, gain=gain) / 1000.0
    assert growth_rate(circuit.network(), cutoff_hz=cutoff_hz, gain=gain) / cutoff_hz == pytest.approx(reference)


def test_poles_of_the_ladder():
    k = 1.5
    found = poles(circuits()["transistor-ladder"].network(), cutoff_hz=1 / (2 * np.pi), gain=k)
    true = np.roots(np.poly1d([1, 1]) ** 4 + k)
    assert np.sort_complex(found) == pytest.approx(np.sort_complex(true), abs=1e-9)


def test_zeros_of_the_notch_sit_on_the_axis():
    found = zeros(circuits()["state-variable"].network(), "notch", cutoff_hz=1 / (2 * np.pi), gain=1.0)
    assert np.sort_complex(found) == pytest.approx([-1j, 1j], abs=1e-9)
