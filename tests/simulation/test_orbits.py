"""Where a driven network comes to rest, and straight networks without an integrator, against closed forms."""

import numpy as np
import pytest

from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.linear import complex_gain
from jiyuu.signals.long_record import Record
from jiyuu.simulation.linear_render import answered, is_straight, through_straight
from jiyuu.simulation.periodic import settled_periods, steps_of
from jiyuu.simulation.render import render

RATE = 48_000.0
HZ = np.array([100.0, 700.0, 2500.0])


@pytest.mark.parametrize(("name", "mode", "gain"), [
    ("transistor-ladder", "lowpass-24", 2.0), ("state-variable", "bandpass", 1.5), ("ota-cascade", "lowpass-24", 1.0),
    ("diode-ladder", "lowpass-24", 5.0),
])
def test_a_soft_drive_comes_to_rest_on_the_response(name, mode, gain):
    network = circuit(name).network()
    steps = int(steps_of(network, HZ, cutoff_hz=800.0, gain=gain, fewest=64).max())
    found = settled_periods(network, HZ, steps, cutoff_hz=800.0, gain=gain, level_v=np.full(3, 1e-5), modes=[mode],
                            rest=np.zeros(len(network.capacitors)))
    assert found.settled.all()
    lines = 2 * np.fft.rfft(found.outputs_v[0], axis=0)[1] / steps
    direct = complex_gain(network, HZ, cutoff_hz=800.0, gain=gain, modes=[mode])[0]
    assert lines / (-1j * 1e-5) == pytest.approx(direct, rel=1e-5)
    assert (found.growth() < 1).all()


def test_a_loud_drive_is_what_waiting_for_it_finds():
    network = circuit("transistor-ladder").network()
    found = settled_periods(network, np.array([200.0]), 512, cutoff_hz=600.0, gain=2.5, level_v=np.array([2.0]),
                            modes=["lowpass-24"], rest=np.zeros(4))
    played = 2.0 * np.sin(2 * np.pi * 200.0 * np.arange(24_000) / RATE)
    heard = render(network, played, sample_rate_hz=RATE, cutoff_hz=600.0, gain=2.5, modes=["lowpass-24"],
                   oversampling=16).output_v[0]
    period = heard[-240:]
    waited = 2 * np.fft.rfft(period)[1:8:2] / 240
    orbit = 2 * np.fft.rfft(found.outputs_v[0, :, 0])[1:8:2] / 512
    assert np.abs(waited) == pytest.approx(np.abs(orbit), rel=2e-3)


def test_orbits_of_a_filter_that_hardly_differs_are_followed():
    network = circuit("transistor-ladder").network()
    ask = {"cutoff_hz": 600.0, "level_v": np.full(3, 0.5), "modes": ["lowpass-24"], "rest": np.zeros(4)}
    first = settled_periods(network, HZ, 256, gain=2.0, **ask)
    followed = settled_periods(network, HZ, 256, gain=2.02, near=first, **ask)
    anew = settled_periods(network, HZ, 256, gain=2.02, **ask)
    assert followed.settled.all()
    assert followed.outputs_v == pytest.approx(anew.outputs_v, abs=2e-5)


def test_steps_are_powers_of_two_and_enough_for_the_fastest_stage():
    steps = steps_of(circuit("diode-ladder").network(), np.array([20.0, 20_000.0]), cutoff_hz=1000.0, gain=10.0,
                     fewest=64)
    assert (np.log2(steps) % 1 == 0).all()
    assert steps[0] > 8 * steps[1]
    assert steps.min() >= 64


def test_an_answer_is_the_convolution_whatever_the_blocks():
    sound = np.random.default_rng(1).normal(size=300_000)
    ring = np.exp(-np.arange(2000) / 150) * np.cos(np.arange(2000) / 9)

    def response(hertz):
        return np.fft.rfft(ring, 2 * (hertz.size - 1))

    found = answered(Record.of(sound), RATE, ring.size, response).whole()
    direct = np.convolve(sound, ring)[: sound.size]
    assert found.size == sound.size
    assert np.abs(found - direct).max() < 1e-9


def test_only_what_is_straight_goes_without_an_integrator():
    ladder = circuit("transistor-ladder").network()
    assert not is_straight(ladder)
    assert through_straight(ladder, Record.of(np.zeros(10)), RATE, cutoff_hz=np.array([500.0]),
                            gain=np.array([1.0])) is None
