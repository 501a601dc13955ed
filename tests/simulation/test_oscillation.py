"""Settled self-oscillation against known facts, against simulation in time, and against the closed form at onset."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from jiyuu.circuits.catalogue import circuit, circuits
from jiyuu.circuits.linear import growth_rate, onset
from jiyuu.errors import CircuitError
from jiyuu.measurement.tone import measure_tone
from jiyuu.simulation.kernels import integrate
from jiyuu.simulation.oscillation import oscillation

# circuit, mode, parameters, k: frequency re the cutoff, peak in V, THD in %
FACTS = [
    ("transistor-ladder", "lowpass-24", {}, 4.4, 0.97954, 0.14968, 0.281),
    ("ota-cascade", "lowpass-24", {}, 4.4, 0.84510, 0.47300, 0.786),
    ("state-variable", "lowpass", {}, 2.2, 0.90893, 0.63964, 1.03),
    ("sallen-key-highpass", "highpass-12", {"stage_headroom_v": 5.0}, 2.2, 0.98460, 0.95101, 1.72),
]


@pytest.mark.parametrize(("circuit_id", "mode", "parameters", "gain", "ratio", "peak_v", "thd"), FACTS)
def test_known_tones(circuit_id, mode, parameters, gain, ratio, peak_v, thd):
    found = oscillation(circuit(circuit_id).network(parameters), mode, cutoff_hz=1000.0, gain=gain)
    assert found.frequency_hz / 1000 == pytest.approx(ratio, abs=6e-6)
    assert found.amplitude_peak_v == pytest.approx(peak_v, rel=1e-4)
    assert found.thd_percent == pytest.approx(thd, abs=0.006)


def settled_in_time(network, *, cutoff_hz, gain, mode, periods=60):
    """The same by patience: 256 steps a period from a kick until the growth has long ended."""
    rate_hz = 256 * cutoff_hz
    steps = int(rate_hz * (25 / growth_rate(network, cutoff_hz=cutoff_hz, gain=gain) + periods / cutoff_hz))
    kick = np.full((1, len(network.capacitors)), 0.05)
    record, _ = integrate(
        [network], u_v=np.zeros((2 * steps + 1, 1)), omega=np.full((1, 1), 2 * np.pi * cutoff_hz),
        gain=np.full((1, 1), gain), half_step_s=0.5 / rate_hz, rows=[network.output_index(mode)], states=kick,
    )
    tail = record[0, -int(periods / 2 * rate_hz / cutoff_hz) :, 0]
    tone = measure_tone(tail, rate_hz)
    return tone, float(np.abs(tail - tone.dc_v).max())


@pytest.mark.parametrize("circuit_id", circuits())
@pytest.mark.parametrize("factor", [1.1, 1.6])
def test_the_tone_is_the_one_that_simulation_settles_to(circuit_id, factor):
    entry = circuits()[circuit_id]
    network, mode, gain = entry.network(), entry.modes[0], factor * entry.onset_gain
    found = oscillation(network, mode, cutoff_hz=500.0, gain=gain)
    tone, peak_v = settled_in_time(network, cutoff_hz=500.0, gain=gain, mode=mode)
    assert abs(1200 * np.log2(found.frequency_hz / tone.frequency_hz.value)) < 0.02
    assert found.fundamental_v == pytest.approx(tone.amplitude_peak_v, rel=1e-4)
    assert found.amplitude_peak_v == pytest.approx(peak_v, rel=2e-3)  # the excursion between the steps
    assert found.thd_percent == pytest.approx(tone.thd_percent, abs=0.01)


@pytest.mark.parametrize("circuit_id", circuits())
def test_it_begins_at_the_onset_frequency_with_an_amplitude_of_the_root_of_the_distance(circuit_id):
    entry = circuits()[circuit_id]
    network, mode = entry.network(), entry.modes[0]
    near, nearer = (
        oscillation(network, mode, cutoff_hz=1000.0, gain=(1 + d) * entry.onset_gain) for d in (4e-4, 1e-4)
    )
    assert near.amplitude_peak_v / nearer.amplitude_peak_v == pytest.approx(2.0, rel=5e-3)
    ratio = np.sqrt(2) if circuit_id == "diode-ladder" else 1.0
    assert nearer.frequency_hz == pytest.approx(1000 * ratio, rel=5e-4)
    assert nearer.thd_percent < 0.02


@pytest.mark.parametrize("circuit_id", circuits())
def test_below_onset_there_is_no_tone(circuit_id):
    entry = circuits()[circuit_id]
    assert oscillation(entry.network(), entry.modes[0], cutoff_hz=1000.0, gain=0.999 * entry.onset_gain) is None


def test_everything_scales_with_cutoff_and_headroom():
    entry = circuit("transistor-ladder")
    one = oscillation(entry.network(), "lowpass-24", cutoff_hz=100.0, gain=4.6)
    other = oscillation(entry.network({"stage_headroom_v": 3.0}), "lowpass-24", cutoff_hz=9000.0, gain=4.6)
    assert other.frequency_hz / one.frequency_hz == pytest.approx(90)
    assert other.amplitude_peak_v / one.amplitude_peak_v == pytest.approx(3)
    assert one.start_up_s / other.start_up_s == pytest.approx(90, rel=0.02)


def test_start_up_is_the_time_simulation_takes():
    entry = circuit("state-variable")
    network, gain = entry.network(), 2.2
    found = oscillation(network, "bandpass", cutoff_hz=1000.0, gain=gain)
    slow = np.log(0.9 / np.sqrt(1 - 0.81) / 1e-3) / growth_rate(network, cutoff_hz=1000.0, gain=gain)
    assert found.start_up_s == pytest.approx(slow, rel=0.1)
    assert oscillation(network, "bandpass", cutoff_hz=1000.0, gain=2.02).start_up_s > 5 * found.start_up_s


@pytest.mark.parametrize("factor", [3.0, 10.0])
@pytest.mark.parametrize("circuit_id", ["transistor-ladder", "diode-ladder", "state-variable"])
def test_far_past_the_onset_it_is_still_found(circuit_id, factor):
    entry = circuits()[circuit_id]
    found = oscillation(entry.network(), entry.modes[0], cutoff_hz=500.0, gain=factor * entry.onset_gain)
    tone, _ = settled_in_time(entry.network(), cutoff_hz=500.0, gain=factor * entry.onset_gain, mode=entry.modes[0])
    assert abs(1200 * np.log2(found.frequency_hz / tone.frequency_hz.value)) < 0.1


def test_a_coupling_capacitor_in_the_loop_lowers_nothing_at_high_cutoffs():
    entry = circuit("transistor-ladder")
    coupled = oscillation(entry.network({"feedback_coupling_hz": 10.0}), "lowpass-24", cutoff_hz=5000.0, gain=4.4)
    direct = oscillation(entry.network(), "lowpass-24", cutoff_hz=5000.0, gain=4.4)
    assert abs(1200 * np.log2(coupled.frequency_hz / direct.frequency_hz)) < 5


@pytest.mark.parametrize(("headroom_v", "gain"), [(0.1, 2.2), (0.05, 2.4)])
def test_stages_driven_flat_are_waited_for_and_agree_with_simulation(headroom_v, gain):
    """The diodes limit at a volt and the stages slew from a tenth of it on: the tone sinks by octaves."""
    network = circuit("sallen-key-lowpass").network({"stage_headroom_v": headroom_v})
    found = oscillation(network, "lowpass-12", cutoff_hz=2000.0, gain=gain)
    tone, peak_v = settled_in_time(network, cutoff_hz=2000.0, gain=gain, mode="lowpass-12", periods=1200)
    assert found.frequency_hz < 2000.0 / 8
    assert abs(1200 * np.log2(found.frequency_hz / tone.frequency_hz.value)) < 0.1
    assert found.amplitude_peak_v == pytest.approx(peak_v, rel=2e-3)
    assert found.thd_percent == pytest.approx(tone.thd_percent, abs=0.05)


@pytest.mark.long
@settings(max_examples=12, deadline=None)
@given(data=st.data(), which=st.sampled_from(sorted(circuits())))
def test_a_tone_or_a_plain_word_at_the_ends_of_every_parameter(data, which):
    entry = circuits()[which]
    values = {p.name: data.draw(st.sampled_from([p.minimum, p.default, p.maximum]), label=p.name)
              for p in entry.parameters if "headroom" in p.name or "mismatch" in p.name}
    network = entry.network(values)
    start = onset(network, cutoff_hz=800.0)
    found, refusal = None, ""
    try:
        found = oscillation(network, entry.modes[0], cutoff_hz=800.0, gain=1.3 * start.gain)
    except CircuitError as error:
        refusal = str(error)
    if found is None:
        assert "k =" in refusal
        return
    assert np.isfinite([found.frequency_hz, found.amplitude_peak_v, found.thd_percent, found.start_up_s]).all()
    assert found.frequency_hz < 3 * start.frequency_hz
