"""What a curve's phase, a sweep's times and two passages tell, each against its closed form."""

from functools import cache

import numpy as np
import pytest

from jiyuu.errors import MeasurementError
from jiyuu.measurement.alignment import find_passages
from jiyuu.measurement.chirp import at_clock, hurt_bands_hz, sounding_s
from jiyuu.measurement.distortion_orders import Compression, efold_s
from jiyuu.measurement.excess_delay import excess_delay
from jiyuu.measurement.factors import factors_of, roots_of
from jiyuu.measurement.minimum_phase import Continuation, minimum_phase_rad
from jiyuu.measurement.network_fit import Order, evened, product
from jiyuu.measurement.notice import Fault
from jiyuu.measurement.passage_faults import compared, lost_samples
from jiyuu.measurement.smoothing import POINTS_PER_OCTAVE
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from tests.truths import Made

RATE = 48_000
OCTAVES = np.arange(0, 10.5, 1 / POINTS_PER_OCTAVE)
HERTZ = 15.0 * 2.0**OCTAVES


# Phases


@pytest.mark.parametrize(("made", "low", "high"), [
    (Made("transistor-ladder", "lowpass-24", 700.0, 0.0), 0.0, -24.08),
    (Made("transistor-ladder", "lowpass-24", 700.0, 3.0), 0.0, -24.08),
    (Made("state-variable", "bandpass", 900.0, 1.8), 6.02, -6.02),
    (Made("state-variable", "highpass", 400.0, 1.5), 12.04, 0.0),
])
def test_the_phase_of_a_level_is_that_of_its_network(made, low, high):
    gain = made.at(HERTZ)
    found = minimum_phase_rad(20 * np.log10(np.abs(gain)), points_per_octave=POINTS_PER_OCTAVE,
                              low=Continuation(low, low), high=Continuation(high, high))
    apart = np.angle(gain * np.exp(-1j * found))
    middle = slice(POINTS_PER_OCTAVE, -POINTS_PER_OCTAVE)
    assert np.abs(apart[middle]).max() < 2e-3


def test_a_curve_goes_on_from_its_slope_to_its_asymptote():
    slopes = Continuation(-20.0, -24.0).slopes(np.array([0.0, 0.5, 1.0, 20.0]))
    assert slopes == pytest.approx([-20.0, -22.0, -23.0, -24.0], abs=1e-9)


@pytest.mark.parametrize("late_s", [-3.2e-4, 0.0, 1.3e-5, 2.7e-3])
@pytest.mark.parametrize("sign", [1, -1])
@pytest.mark.parametrize("made", [
    Made("transistor-ladder", "lowpass-24", 820.0, 2.0), Made("state-variable", "bandpass", 1200.0, 1.6),
    Made("state-variable", "highpass", 300.0, 1.0),
])
def test_a_delay_and_a_sign_are_what_the_level_does_not_account_for(made, sign, late_s):
    gain = sign * made.at(HERTZ) * np.exp(-2j * np.pi * HERTZ * late_s)
    deviation = np.full(HERTZ.size, 1e-4 * np.abs(gain).max())
    delay_s, polarity, doubt_s = excess_delay(HERTZ, gain, deviation, RATE)
    assert polarity == sign
    assert abs(delay_s - late_s) < doubt_s < 1e-4


def test_of_noise_there_is_no_delay():
    with pytest.raises(MeasurementError, match="raise the level"):
        excess_delay(HERTZ, np.full(HERTZ.size, 1e-3 + 0j), np.full(HERTZ.size, 1e-3), RATE)


# Sweeps


PLAN = SweepPlan(level_v=1.0, sweep_s=2.0)
STIMULUS = sweep_stimulus(PLAN, sample_rate_hz=RATE)


@cache
def played():
    """The stimulus's own passages."""
    return find_passages(STIMULUS)


def test_every_octave_of_an_exponential_sweep_lasts_as_long():
    hertz = np.geomspace(60.0, 12_000.0, 40)
    times = sounding_s(hertz, played(), RATE)
    octave_s = np.diff(times) / np.diff(np.log2(hertz))
    assert octave_s == pytest.approx(np.full(39, octave_s.mean()), rel=0.02)
    assert efold_s(played(), HERTZ[HERTZ < 18_000], RATE) == pytest.approx(octave_s.mean() / np.log(2), rel=0.01)
    assert 0 < times[0] < times[-1] < 2.2


def test_noise_has_no_rate_at_which_it_rises():
    noise = np.concatenate([np.zeros(4800), np.random.default_rng(1).normal(size=96_000), np.zeros(4800)])
    assert efold_s(find_passages(noise), HERTZ[HERTZ < 18_000], RATE) is None


def test_a_clock_turns_each_frequency_by_when_it_sounds():
    hertz = np.array([100.0, 1000.0, 10_000.0])
    turned = at_clock(hertz, 20.0, played(), RATE)
    assert np.abs(turned) == pytest.approx(1.0)
    expected = 2 * np.pi * hertz * 20e-6 * sounding_s(hertz, played(), RATE)
    assert np.angle(turned) == pytest.approx((expected + np.pi) % (2 * np.pi) - np.pi)


def test_flat_samples_hurt_the_band_that_sounded_meanwhile():
    flat = np.zeros(STIMULUS.size, dtype=bool)
    assert hurt_bands_hz(flat, played(), played().start, (0, 1), RATE) == ()
    at_s = float(sounding_s(np.array([1000.0]), played(), RATE)[0])
    flat[played().start + round(at_s * RATE) : played().start + round(at_s * RATE) + 40] = True
    ((low, high),) = hurt_bands_hz(flat, played(), played().start, (0, 1), RATE)
    assert 700 < low < 1000 < high < 1500


@pytest.mark.parametrize("share", [0.0, 0.01, 0.5])
def test_what_is_missing_is_given_back(share):
    level = np.zeros(5)
    restored = Compression(np.full(5, share)).restored_db(level)
    assert 10 ** (restored / 20) * (1 - share) == pytest.approx(1.0)


# Two passages


def passages(noise_v=1e-4, seed=1):
    """A sweep of two seconds behind a highpass, twice, with noise of their own."""
    one = played().passage_v
    generator = np.random.default_rng(seed)
    return one + generator.normal(0, noise_v, one.size), one + generator.normal(0, noise_v, one.size)


def verdict(first, second):
    return compared(first, second, (1e-4, 1e-4), (1000, 1000 + played().period), RATE)


def test_passages_that_are_alike_are_both_sound():
    assert verdict(*passages()).notices == ()
    assert verdict(*passages()).sound == (0, 1)


@pytest.mark.parametrize(("which", "at", "db"), [(0, 0.3, -1.0), (0, 0.6, 0.5), (1, 0.3, 2.0), (1, 0.6, -0.3)])
def test_a_gain_that_changes_is_told_with_its_size_its_place_and_its_passage(which, at, db):
    both = list(passages())
    length = both[0].size
    before, after = np.split(both[which], [round(at * length)])
    raised = 10 ** (db / 20)
    # Of the second what comes behind has changed, of the first what came before: the other gain is that of both ends.
    both[which] = np.concatenate([before / raised, after] if which == 0 else [before, after * raised])
    (notice,) = (found := verdict(*both)).notices
    assert notice.fault is Fault.GAIN_CHANGED
    assert notice.facts["db"] == pytest.approx(db, abs=0.05)
    start = (1000, 1000 + played().period)[which]
    assert notice.at_s == pytest.approx((start + at * length) / RATE, abs=0.1)
    assert found.sound == (1 - which,)


@pytest.mark.parametrize("which", [0, 1])
def test_a_dropout_is_told_with_its_length_and_its_passage(which):
    both = list(passages())
    both[which][40_000:40_960] = 0.0
    (notice,) = (found := verdict(*both)).notices
    assert notice.fault is Fault.DROPOUT
    assert notice.facts["ms"] == pytest.approx(20.0, abs=5.0)
    assert found.sound == (1 - which,)


@pytest.mark.parametrize(("which", "samples"), [(0, 40), (1, 40), (0, 400), (1, 400)])
def test_lost_samples_are_counted(which, samples):
    first, second = passages()
    reach = 1000
    record = [np.pad(one, (reach, reach)) for one in (first, second)]
    gone = np.delete(record[which], np.arange(60_000, 60_000 + samples))
    record[which] = np.pad(gone, (0, samples))
    if which == 0:  # what comes behind is early
        record[1] = np.roll(record[1], -samples)
    found = lost_samples(record[0][reach:-reach], record[1], reach, (0, 200_000), RATE)
    assert found is not None
    notice, hurt, _ = found
    assert hurt == which
    assert notice.facts["samples"] == pytest.approx(samples, abs=2)


def test_nothing_is_lost_of_passages_that_are_alike():
    first, second = passages()
    assert lost_samples(first, np.pad(second, (1000, 1000)), 1000, (0, 200_000), RATE) is None


# Networks as values


@pytest.mark.parametrize("roots", [
    [-0.3 + 1j, -0.3 - 1j], [-0.5, -2.0], [-0.1, -0.2, -0.3], [-0.1 + 2j, -0.1 - 2j, -4.0],
    [-1 + 1j, -1 - 1j, -0.2 + 0.9j, -0.2 - 0.9j, -7.0],
])
def test_factors_hold_their_roots(roots):
    again = roots_of(factors_of(np.array(roots, dtype=complex)))
    assert np.poly(again).real == pytest.approx(np.poly(roots).real)


def test_a_product_is_gain_zeros_poles_and_delay():
    poles, zeros = np.array([-0.3 + 1j, -0.3 - 1j, -2.0]), np.array([-0.7 + 0j])
    values = np.concatenate([np.log(factors_of(poles)), factors_of(zeros), [1.5, 0.02]])
    omega = np.geomspace(0.1, 10, 20)
    s = 1j * omega
    direct = 1.5 * s * (s + 0.7) / ((s - poles[0]) * (s - poles[1]) * (s + 2)) * np.exp(-0.02 * s)
    assert product(values, Order(3, 1, 1), omega) == pytest.approx(direct, rel=1e-12)


def test_evened_draws_scatter_by_one_in_every_direction():
    draws = evened(np.random.default_rng(3).standard_normal((96, 6)) * np.arange(1, 7))
    assert np.cov(draws.T, bias=True) == pytest.approx(np.eye(6), abs=1e-9)
    few = np.random.default_rng(3).standard_normal((8, 6))
    assert evened(few) is few
