"""Response at level: the small-signal limit, the adaptive integrator, closed forms of saturation."""

import numpy as np
import pytest

from jiyuu.circuits.catalogue import circuit, circuits
from jiyuu.circuits.linear import complex_gain
from jiyuu.errors import CircuitError
from jiyuu.simulation.level_response import level_response
from jiyuu.simulation.render import render

HZ = np.geomspace(20, 20_000, 61)


@pytest.mark.parametrize("circuit_id", circuits())
def test_a_small_level_gives_the_small_signal_response(circuit_id):
    entry = circuits()[circuit_id]
    gain = 0.6 * entry.onset_gain
    found = level_response(entry.network(), HZ, cutoff_hz=700.0, gain=gain, level_v=1e-3, modes=entry.modes)
    true = complex_gain(entry.network(), HZ, cutoff_hz=700.0, gain=gain, modes=entry.modes)
    assert found.settled.all()
    assert np.abs(found.gain - true).max() < 2e-5 * np.abs(true).max()


@pytest.mark.parametrize("circuit_id", circuits())
def test_a_large_level_gives_what_rendering_settles_to(circuit_id):
    entry = circuits()[circuit_id]
    gain, mode, rate, hz = 0.8 * entry.onset_gain, entry.modes[0], 48_000, 600.0
    found = level_response(entry.network(), np.array([hz]), cutoff_hz=800.0, gain=gain, level_v=3.0, modes=[mode])
    t = np.arange(rate) / rate
    output = render(entry.network(), 3 * np.sin(2 * np.pi * hz * t), sample_rate_hz=rate, cutoff_hz=800.0, gain=gain,
                    modes=[mode]).output_v[0]
    tail = slice(rate // 2, rate - 80 * 20)  # whole periods of 80 samples
    harmonic = 2j * np.mean(output[tail] * np.exp(-2j * np.pi * hz * t[tail])) / 3.0
    assert abs(found.gain[0, 0] / harmonic - 1) < 2e-4


def test_resonance_shrinks_and_sinks_with_level():
    network = circuit("ota-cascade").network()
    hz = np.geomspace(300, 1500, 121)
    peaks = []
    for level_v in (0.01, 0.3, 1.0):
        level = np.abs(level_response(network, hz, cutoff_hz=1000.0, gain=3.6, level_v=level_v,
                                      modes=["lowpass-24"]).gain[0])
        peaks.append((hz[np.argmax(level)], level.max()))
    assert peaks[0][0] > peaks[1][0] > peaks[2][0]
    assert peaks[0][1] > 1.5 * peaks[1][1] > 1.5 * peaks[2][1]


def test_filters_that_share_a_curve_part_at_level():
    ladder, cascade = circuit("transistor-ladder").network(), circuit("ota-cascade").network()
    small = [complex_gain(n, HZ, cutoff_hz=1000.0, gain=3.0, modes=["lowpass-24"])[0] for n in (ladder, cascade)]
    assert np.abs(small[0] - small[1]).max() < 1e-12
    large = [
        level_response(n, HZ, cutoff_hz=1000.0, gain=3.0, level_v=2.0, modes=["lowpass-24"]).gain[0]
        for n in (ladder, cascade)
    ]
    assert np.abs(20 * np.log10(np.abs(large[0] / large[1]))).max() > 3


def test_levels_and_gains_that_make_no_sense():
    network = circuit("state-variable").network()
    for level_v in (0.0, -1.0, np.nan, 1e6):
        with pytest.raises(CircuitError, match="level"):
            level_response(network, HZ, cutoff_hz=100.0, gain=0.0, level_v=level_v, modes=["lowpass"])
    with pytest.raises(CircuitError, match="oscillates by itself"):
        level_response(network, HZ, cutoff_hz=100.0, gain=2.1, level_v=1.0, modes=["lowpass"])


@pytest.mark.parametrize("circuit_id", ["transistor-ladder", "diode-ladder", "state-variable"])
def test_one_found_from_a_filter_that_hardly_differs_is_the_one_found_from_nothing(circuit_id):
    entry = circuit(circuit_id)
    network, hz = entry.network(), np.geomspace(150, 5000, 21)
    gain, mode = 0.8 * entry.onset_gain, network.outputs[0]

    def driven(cutoff_hz, near=None):
        return level_response(network, hz, cutoff_hz=cutoff_hz, gain=gain, level_v=1.0, modes=[mode], near=near)

    here = driven(1000.0)
    for cutoff_hz in (1000.0, 1000.1, 1030.0, 2500.0):  # the last one hardly is: then nothing of it is believed
        alone = driven(cutoff_hz).gain
        assert np.abs(driven(cutoff_hz, near=here).gain - alone).max() < 1e-5 * np.abs(alone).max()


def test_a_hair_of_a_difference_is_found_from_the_filter_beside_it():
    """What a nudged cutoff changes, against what two filters 200 times as far apart differ by."""
    network, hz = circuit("transistor-ladder").network(), np.geomspace(300, 3000, 9)
    place = {"gain": 3.0, "level_v": 1.0, "modes": [network.outputs[0]]}
    found = level_response(network, hz, cutoff_hz=1000.0, **place)
    here = level_response(network, hz, cutoff_hz=1000.0, near=found, **place)  # closed once more, to the last digit
    hair = level_response(network, hz, cutoff_hz=1000.0 * (1 + 1e-6), near=here, **place).gain - here.gain
    wide = [level_response(network, hz, cutoff_hz=1000.0 * (1 + by), **place).gain for by in (-1e-4, 1e-4)]
    assert hair / 1e-6 == pytest.approx((wide[1] - wide[0]) / 2e-4, rel=1e-3)
