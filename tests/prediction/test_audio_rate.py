"""Sidebands of a cutoff moved within hearing, against the formula for small amounts and an adaptive integrator for
large ones; the pitch of a moved whistle; beating."""

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.linear import state_space
from jiyuu.errors import CircuitError
from jiyuu.prediction.audio_rate import beats, mean_rise_cents, sidebands
from tests.trials import some


def test_the_known_ladder():
    """k = 3, 1 kHz, 700 Hz in, ±0.02 octave at 150 Hz, by an adaptive integrator."""
    found = sidebands(circuit("transistor-ladder").network(), "lowpass-24", cutoff_hz=1000.0, gain=3.0, octaves=0.02,
                      rate_hz=150.0, frequency_hz=700.0)
    assert found.level_db(-1) == pytest.approx(-38.73, abs=0.02)
    assert found.level_db(1) == pytest.approx(-27.80, abs=0.02)
    assert found.frequency_hz[found.order == 1] == pytest.approx(850.0)


def ladder_slopes(x, u, omega, k):
    """x1' = ω(u − k·x4 − x1), xi' = ω(x(i−1) − xi), the input times 1 as drawn without compensation."""
    return [omega * (u - k * x[3] - x[0]), omega * (x[0] - x[1]), omega * (x[1] - x[2]), omega * (x[2] - x[3])]


@pytest.mark.long
@pytest.mark.parametrize(("octaves", "rate_hz", "frequency_hz"), some([(1.0, 150.0, 700.0), (-0.6, 240.0, 1100.0),
                                                                  (2.0, 90.0, 450.0)], 1))
def test_all_lines_of_a_large_amount(octaves, rate_hz, frequency_hz):
    k, cutoff_hz = 2.5, 1000.0
    found = sidebands(circuit("transistor-ladder").network(), "lowpass-24", cutoff_hz=cutoff_hz, gain=k,
                      octaves=octaves, rate_hz=rate_hz, frequency_hz=frequency_hz)

    def slopes(time, x):
        omega = 2 * np.pi * cutoff_hz * 2 ** (octaves * np.cos(2 * np.pi * rate_hz * time))
        return ladder_slopes(x, np.cos(2 * np.pi * frequency_hz * time), omega, k)

    t = np.linspace(0.2, 0.3, 9600, endpoint=False)  # whole periods of 10 Hz
    x4 = solve_ivp(slopes, (0, 0.3), np.zeros(4), t_eval=t, rtol=1e-10, atol=1e-13, method="DOP853").y[3]
    # Lines that fold onto each other are seen together.
    lines = {}
    for hertz, gain, order in zip(found.frequency_hz, found.gain, found.order, strict=True):
        folded = frequency_hz + order * rate_hz < 0
        lines[round(hertz, 6)] = lines.get(round(hertz, 6), 0) + (np.conj(gain) if folded else gain)
    for order in range(-4, 5):
        hertz = round(abs(frequency_hz + order * rate_hz), 6)
        seen = (2 if hertz else 1) * np.mean(x4 * np.exp(-2j * np.pi * hertz * t))
        assert seen == pytest.approx(lines[hertz] if hertz else lines[hertz].real, abs=2e-6)


@pytest.mark.parametrize("circuit_id", ["diode-ladder", "state-variable", "sallen-key-highpass"])
def test_a_small_amount_is_the_formula(circuit_id):
    """X± = (ε/2)·jω·(j(ω ± Ω) − ω₀A)⁻¹·X, and what does not move does nothing."""
    entry = circuit(circuit_id)
    network, mode, gain = entry.network(), entry.modes[0], 0.5 * entry.onset_gain
    found = sidebands(network, mode, cutoff_hz=800.0, gain=gain, octaves=1e-4, rate_hz=130.0, frequency_hz=500.0)
    system = state_space(network, cutoff_hz=800.0, gain=gain)
    A, B, C = system.A * system.rate, system.B * system.rate, system.C[network.output_index(mode)]
    w, turn = 2 * np.pi * 500.0, 2 * np.pi * 130.0
    X = np.linalg.solve(1j * w * np.eye(len(A)) - A, B)
    for sign in (-1, 1):
        side = np.linalg.solve(1j * (w + sign * turn) * np.eye(len(A)) - A, 0.5e-4 * np.log(2) * 1j * w * X)
        assert found.gain[found.order == sign][0] == pytest.approx(complex(C @ side), rel=1e-3)


@pytest.mark.long
def test_what_stands_still_is_not_moved():
    """The coupling capacitor of a diode ladder has a rate of its own."""
    network = circuit("diode-ladder").network({"feedback_coupling_hz": 40.0})
    found = sidebands(network, "lowpass-24", cutoff_hz=800.0, gain=6.0, octaves=0.7, rate_hz=200.0, frequency_hz=300.0)
    rates = network.rates(800.0)
    assert (network.fixed_rate > 0).sum() == 1
    system = state_space(network, cutoff_hz=800.0, gain=6.0)
    A, B, C = system.A * system.rate, system.B * system.rate, system.C[0]
    moving = network.fixed_rate <= 0

    def slopes(time, x):
        share = np.where(moving, 2 ** (0.7 * np.cos(2 * np.pi * 200 * time)), 1.0)
        return share * (A @ x + B * np.cos(2 * np.pi * 300 * time))

    t = np.linspace(0.3, 0.4, 9600, endpoint=False)
    x = solve_ivp(slopes, (0, 0.4), np.zeros(rates.size), t_eval=t, rtol=1e-9, atol=1e-12, method="DOP853").y
    seen = 2 * np.mean((C @ x) * np.exp(-2j * np.pi * 500.0 * t))
    # Order −4 folds onto 500 Hz.
    total = found.gain[found.order == 1][0] + np.conj(found.gain[found.order == -4][0])
    assert seen == pytest.approx(total, abs=1e-5)


def test_what_moves_itself_has_no_sidebands_told():
    from jiyuu.circuits.compose import modulated

    network = modulated(circuit("state-variable").network(), "bandpass", octaves_per_v=0.5)
    with pytest.raises(CircuitError, match="one cutoff"):
        sidebands(network, "lowpass", cutoff_hz=500.0, gain=1.0, octaves=0.1, rate_hz=50.0, frequency_hz=200.0)


@pytest.mark.parametrize(("octaves", "cents"), [(0.1, 2.08), (0.5, 51.6), (1.0, 202.0), (-0.5, 51.6)])
def test_a_moved_whistle_is_sharp_on_the_mean(octaves, cents):
    assert mean_rise_cents(octaves) == pytest.approx(cents, rel=2e-3)
    course = octaves * np.sin(2 * np.pi * np.arange(10_000) / 10_000)
    assert mean_rise_cents(octaves) == pytest.approx(1200 * np.log2(np.mean(2**course)))


def test_what_beats_is_named_by_its_lowest_harmonics():
    (beat,) = beats([110.0, 110.8])
    assert (beat.first_harmonic, beat.second_harmonic) == (1, 1)
    assert beat.beat_hz == pytest.approx(0.8)
    (beat,) = beats([110.0, 165.4])
    assert (beat.first_harmonic, beat.second_harmonic) == (3, 2)
    assert beat.beat_hz == pytest.approx(0.8)
    assert beats([110.0, 110.0]) == []
    assert beats([100.0, 137.0]) == [] or beats([100.0, 137.0])[0].first_harmonic > 3
    assert len(beats([100.0, 100.5, 101.2])) == 3
