"""Networks found again from a dozen noisy gains an octave, late and by another clock."""

import numpy as np
import pytest

from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.linear import complex_gain, poles
from jiyuu.measurement.rational_fit import fit_rational, refit
from tests.trials import some

TONES_HZ = 20.0 * 2 ** (np.arange(119) / 12)
BETWEEN_HZ = 25.0 * 2 ** (np.arange(1700) / 192)
PLAYED = np.linspace(-0.5, 0.5, TONES_HZ.size)
CASES = [
    ("transistor-ladder", "lowpass-24", 820.0, 2.0, 4), ("transistor-ladder", "lowpass-24", 400.0, 3.5, 4),
    ("transistor-ladder", "highpass-24", 500.0, 1.0, 4), ("state-variable", "bandpass", 1200.0, 1.6, 2),
    ("sallen-key-lowpass", "lowpass-12", 1500.0, 1.9, 2), ("pole-mixer", "notch", 700.0, 0.0, 2),
    ("ota-cascade", "lowpass-24", 1000.0, 0.0, 4), ("diode-ladder", "lowpass-24", 900.0, 10.0, 4),
]


def gains_of(case, frequency_hz):
    circuit_id, mode, cutoff_hz, gain, _ = case
    return complex_gain(circuit(circuit_id).network(), frequency_hz, cutoff_hz=cutoff_hz, gain=gain, modes=[mode])[0]


def late(frequency_hz, delay_s, drift_s=0.0, played=0.0):
    return np.exp(-2j * np.pi * frequency_hz * (delay_s + drift_s * played))


@pytest.mark.parametrize("delay_s", some([0.0, 4e-5, -3e-5, 1.5e-4], 2))
@pytest.mark.parametrize("case", CASES)
def test_the_network_is_found_with_hardly_more_poles_than_it_has(case, delay_s):
    noise = 1e-4 * np.abs(gains_of(case, TONES_HZ)).max()
    generator = np.random.default_rng(4)
    white = generator.standard_normal((2, TONES_HZ.size)) / np.sqrt(2)
    gain = gains_of(case, TONES_HZ) * late(TONES_HZ, delay_s, 3e-7, PLAYED) + noise * (white[0] + 1j * white[1])
    fit = fit_rational(TONES_HZ, gain, np.full(TONES_HZ.size, noise), PLAYED)
    assert case[4] <= fit.poles.size <= case[4] + 2
    assert 0.8 < fit.left < 1.2
    true = gains_of(case, BETWEEN_HZ) * late(BETWEEN_HZ, delay_s)
    assert np.abs(np.abs(fit.at(BETWEEN_HZ)) - np.abs(true)).max() < 4 * noise
    if "highpass" in case[1] or "notch" in case[1]:  # the others are silent where a delay would show
        assert fit.delay[0] / (2 * np.pi * fit.unit_hz) == pytest.approx(delay_s, abs=2e-7)


def test_the_poles_are_those_of_the_network():
    network = circuit("transistor-ladder").network()
    gain = complex_gain(network, TONES_HZ, cutoff_hz=820.0, gain=2.0, modes=["lowpass-24"])[0]
    fit = fit_rational(TONES_HZ, gain, np.full(TONES_HZ.size, 1e-7), PLAYED)
    found = np.sort_complex(2 * np.pi * fit.unit_hz * fit.poles)
    expected = np.sort_complex(poles(network, cutoff_hz=820.0, gain=2.0))
    assert np.abs(found - expected).max() < 1e-4 * np.abs(expected).max()


@pytest.mark.long
def test_from_poles_that_stood_still_other_noise_scatters_as_the_fit_does():
    case = CASES[0]
    noise = 1e-4
    generator = np.random.default_rng(5)

    def measured():
        white = generator.standard_normal((2, TONES_HZ.size)) / np.sqrt(2)
        return gains_of(case, TONES_HZ) + noise * (white[0] + 1j * white[1])

    spread = np.full(TONES_HZ.size, noise)
    first = fit_rational(TONES_HZ, measured(), spread, PLAYED)
    anew, again = [], []
    for _ in range(40):
        gain = measured()
        anew.append(np.abs(fit_rational(TONES_HZ, gain, spread, PLAYED).at(BETWEEN_HZ)))
        again.append(np.abs(refit(TONES_HZ, gain, spread, PLAYED, first.poles, first.delay).at(BETWEEN_HZ)))
    assert np.abs(np.array(anew) - np.array(again)).max() < 0.2 * noise
    assert np.std(again, axis=0).max() < noise


def test_what_is_no_network_is_left_over():
    comb = 1 + 0.5 * np.exp(-2j * np.pi * TONES_HZ * 0.004)
    fit = fit_rational(TONES_HZ, comb, np.full(TONES_HZ.size, 1e-4), PLAYED)
    assert fit.left > 30
