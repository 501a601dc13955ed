"""First guesses of a network: its poles and zeros, and the delay before it, from a curve whose own are known."""

from dataclasses import replace

import numpy as np
import pytest

from jiyuu.measurement.bin_groups import Cut, Spectrum
from jiyuu.measurement.factors import factors_of
from jiyuu.measurement.factors_kernel import expanded, roots_of
from jiyuu.measurement.network_fit import NetworkFit, Order
from jiyuu.measurement.network_kernel import ring_slopes, turned_back
from jiyuu.measurement.network_rings_kernel import left_out
from jiyuu.measurement.network_search import fit_network
from jiyuu.measurement.rational_fit import fit_poles
from tests.trials import some
from tests.truths import Made

OMEGA = np.geomspace(0.02, 50.0, 300)


def curve(poles, zeros, delay=0.0):
    s = 1j * OMEGA
    over = np.prod([s - zero for zero in zeros], axis=0) if zeros else 1.0
    return over / np.prod([s - pole for pole in poles], axis=0) * np.exp(-s * delay)


@pytest.mark.parametrize(("poles", "zeros"), [
    ([-0.3 + 1j, -0.3 - 1j], []), ([-1.0, -0.05 + 2j, -0.05 - 2j], [0.0]),
    ([-0.4 + 0.7j, -0.4 - 0.7j, -0.1 + 1.2j, -0.1 - 1.2j], [3j, -3j]),
])
@pytest.mark.parametrize("delay", [0.0, 0.3])
def test_poles_and_zeros_are_found(poles, zeros, delay):
    gain = curve(poles, zeros, delay)
    found = fit_poles(OMEGA, gain, np.hypot(1e-4, 1e-3 * np.abs(gain)), len(poles))
    assert found.left < 1
    for true, guessed in ((poles, found.poles), (zeros, found.zeros)):
        for one in true:
            assert np.abs(np.asarray(guessed) - one).min() < 0.01
    assert found.delay == pytest.approx(delay, abs=0.01)


@pytest.mark.parametrize("count", range(9))
def test_factors_multiplied_have_the_roots_of_each(count):
    factors = np.random.default_rng(count).uniform(0.2, 2.0, count)
    expected = np.real(np.atleast_1d(np.poly(roots_of(factors))))
    assert expanded(factors) == pytest.approx(expected[1:][::-1], rel=1e-12)


def test_too_few_points_are_no_guess():
    assert fit_poles(OMEGA[:10], curve([-1.0], [])[:10], np.full(10, 1e-3), 2) is None


def test_turning_back_by_many_delays_is_a_sum_of_cosines():
    generator = np.random.default_rng(4)
    turn, omega = generator.standard_normal(200) + 1j * generator.standard_normal(200), generator.uniform(0.1, 9, 200)
    expected = np.real(np.exp(1j * np.outer(np.arange(-30, 31) * 0.07, omega)) @ turn)
    assert turned_back(turn, omega, 0.07, 30) == pytest.approx(expected, abs=1e-11)


POLE = -0.02 + 1j  # of a ring, in units of its own pitch; it lasts 50
RING = NetworkFit(Order(2, 0, 0), np.array([*np.log(factors_of(np.array([POLE, np.conj(POLE)]))), 1.0, 0.0]),
                  np.zeros((4, 0)), 1.0, 1.0)


@pytest.mark.parametrize("delay", [0.0, 1.7, -1.7, -4.0])
@pytest.mark.parametrize("period", [0.0, 100.0])
def test_a_gate_takes_of_a_ring_what_lies_behind_it_wherever_the_ring_began(delay, period):
    """Laid on the ring itself, sample by sample: it is loudest, and looked for, long after it began."""
    cut = Cut(40.0, 20.0, 10.0, 5.0, period, 2 if period else 1)
    step = 1e-3
    t = np.arange(-cut.lead, cut.flat + cut.fall, step) + 0.5 * step
    window = np.where(t < cut.flat, 1.0, np.cos(np.pi / 2 * (t - cut.flat) / cut.fall) ** 2)
    rising = t < cut.rise - cut.lead
    window[rising] = np.sin(np.pi / 2 * (t[rising] + cut.lead) / cut.rise) ** 2

    def rings(t):
        return np.where(t > 0, np.exp(POLE.real * t) * np.sin(t), 0.0)

    heard = window * (rings(t - delay) + (0.5 * rings(t - delay + period) if period else 0.0))
    omega = np.array([0.3, 0.97, 1.0, 1.02, 2.5])
    expected = np.array([np.sum(heard * np.exp(-1j * w * t)) * step for w in omega])
    fit = replace(RING, values=np.array([*RING.values[:3], delay]))
    assert np.abs(fit.as_cut(omega / (2 * np.pi), cut) - expected).max() < 1e-4 * np.abs(expected).max()


def test_slopes_hold_behind_a_gate_too():
    """How the rings that it cuts move by every value: with less a fit comes near its place and no nearer."""
    shape, cut = (4, 2, 0, False), np.array([40.0, 20.0, 10.0, 5.0, 100.0, 2.0])
    poles, zeros = np.array([POLE, np.conj(POLE), -2 + 1j, -2 - 1j]), np.array([-1.3, -4.0], dtype=complex)
    values = np.array([*np.log(factors_of(poles)), *factors_of(zeros), 1.0, -1.7])
    omega = np.linspace(0.2, 3.0, 60)
    rows, none = ring_slopes(values, shape, omega, cut, np.zeros((8, 0))), np.zeros((8, 0))
    for i in range(values.size):
        step = 1e-5 * np.eye(values.size)[i]
        by_hand = (left_out(values + step, shape, omega, cut, none) - left_out(values - step, shape, omega, cut, none))
        assert np.abs(rows[i] - by_hand / 2e-5).max() < 1e-4 * np.abs(rows[i]).max()


@pytest.mark.long
def test_poles_in_one_place_are_found_as_well_as_noise_lets_them():
    """Four poles in one place: what tells them apart leads nowhere by itself, but their polynomial is well known, and
    moves with the noise however little of it there is."""
    hertz = np.arange(14.0, 400.0, 0.4)

    def missed(noise):
        found = []
        for seed in range(8):
            white = np.random.default_rng(seed).standard_normal((2, hertz.size)) / np.sqrt(2)
            gain = 1 / (1 + 1j * hertz / 60.0) ** 4 + noise * (white[0] + 1j * white[1])
            fit = fit_network(Spectrum(hertz, gain, np.ones(hertz.size), np.full(hertz.size, noise**2)))
            truth = np.poly(np.full(4, -2 * np.pi * 60.0 / fit.unit))[1:][::-1]
            found.append((fit.coefficients[: fit.order.poles] - truth) / np.linalg.norm(fit.spread[:4], axis=1))
        return np.array(found)

    much, little = missed(1e-3), missed(1e-6)
    assert much == pytest.approx(little, abs=0.1)  # in standard deviations
    assert 0.6 < np.sqrt(np.mean(little**2)) < 1.5


def test_how_well_a_level_is_known_is_how_it_scatters_also_where_nothing_was_heard():
    """A resonance of which only what lies under it is heard."""
    heard, beyond = np.arange(20.0, 90.0, 0.5), np.array([30.0, 95.0, 120.0, 150.0])

    def gain(hertz):
        s = 1j * hertz / 100.0
        return 1 / (s**2 + 0.2 * s + 1)

    levels, stated = [], []
    for seed in range(40):
        white = np.random.default_rng(seed).standard_normal((2, heard.size)) / np.sqrt(2)
        fit = fit_network(Spectrum(heard, gain(heard) + 1e-3 * (white[0] + 1j * white[1]), np.ones(heard.size),
                                   np.full(heard.size, 1e-6)))
        if fit.order == Order(2, 0, 0):
            levels.append(fit.level_db(beyond))
            stated.append(fit.level_deviation_db(beyond))
    assert len(levels) > 25
    ratio = np.std(levels, axis=0) / np.mean(stated, axis=0)
    assert ((ratio > 0.6) & (ratio < 1.6)).all()
    assert np.mean(stated, axis=0)[3] > 2 * np.mean(stated, axis=0)[0]


def test_of_zeros_far_beyond_the_band_the_product_with_the_gain_is_drawn():
    """A third more gain with zeros so much nearer is the same within the band, however far it is drawn."""
    order, poles, zeros = Order(2, 2, 0), np.array([-0.5 + 1j, -0.5 - 1j]), np.array([900.0 + 800j, 900.0 - 800j])
    values = np.concatenate([np.log(factors_of(poles)), factors_of(zeros), [1e-6, 0.0]])
    fit = NetworkFit(order, values, np.zeros((6, 1)), 1000.0, 1.0)
    along = np.concatenate([[0.0, 0.0], -0.35 * fit.coefficients[2:4], [0.35e-6, 0.0]])
    fit = replace(fit, spread=along[:, np.newaxis])
    hertz = np.geomspace(10.0, 1000.0, 40)
    drawn = fit.drawn(50, np.random.default_rng(1))
    assert np.ptp([one.coefficients[-2] for one in drawn]) > 1e-6
    for one in drawn:
        assert one.at(hertz) == pytest.approx(fit.at(hertz), rel=1e-4)


@pytest.mark.parametrize(("mode", "cutoff_hz", "gain", "share"), some([
    ("highpass-12", 9334.3, 0.054, 1e-4), ("lowpass-12", 237.6, 0.074, 6e-5), ("lowpass-12", 6900.0, 0.27, 5e-4),
    ("highpass-12", 9968.0, 1.21, 2.6e-3), ("highpass-12", 3376.0, 0.012, 2e-4), ("lowpass-12", 2090.0, 0.18, 1e-3),
], 2, long=6))
def test_a_tap_with_little_fed_back_is_found_although_its_zeros_nearly_undo_two_poles(mode, cutoff_hz, gain, share):
    made, hertz = Made("transistor-ladder", mode, cutoff_hz, gain), np.arange(20.0, 21_000.0, 0.6)
    true = made.at(hertz)
    noise = share * np.abs(true).max()
    white = np.random.default_rng(1).standard_normal((2, hertz.size)) / np.sqrt(2)
    fit = fit_network(Spectrum(hertz, true + noise * (white[0] + 1j * white[1]), np.ones(hertz.size),
                               np.full(hertz.size, noise**2)))
    assert fit.left < 1.05
    loud = np.abs(true) > 0.1 * np.abs(true).max()
    assert np.abs(fit.level_db(hertz) - 20 * np.log10(np.abs(true)))[loud].max() < 4 * share
