"""Sections that are only their transfer functions, as networks: against the formulas, alone, in chains and in loops."""

import numpy as np
import pytest

from jiyuu.circuits.linear import complex_gain
from jiyuu.circuits.sections import (
    all_pass,
    bandpass,
    bank_group,
    chain,
    high_shelf,
    low_shelf,
    moving_bandpass,
    peak,
    round_loop,
    section_network,
    side_by_side,
)

HERTZ = np.geomspace(20.0, 20_000.0, 200)
UNIT_HZ = 700.0


def of(network, *, gain=0.0, cutoff_hz=UNIT_HZ, mode="out"):
    return complex_gain(network, HERTZ, cutoff_hz=cutoff_hz, gain=gain, modes=[mode])[0]


@pytest.mark.parametrize("decibels", [-12.0, 0.0, 7.5])
@pytest.mark.parametrize("q", [0.5, 0.7071, 4.0])
def test_shelves_and_peaks_reach_what_they_are_asked(decibels, q):
    level = 10 ** (decibels / 20)
    low, high, middle = low_shelf(500.0, decibels, q), high_shelf(500.0, decibels, q), peak(500.0, decibels, q)
    ends = np.array([1e-3, 1e7])
    assert np.abs(low.gain(ends)) == pytest.approx([level, 1.0], rel=1e-6)
    assert np.abs(high.gain(ends)) == pytest.approx([1.0, level], rel=1e-6)
    assert np.abs(middle.gain(np.array([1e-3, 500.0, 1e7]))) == pytest.approx([1.0, level, 1.0], rel=1e-6)
    # Half of the decibels at the corner of a shelf as steep as can be without overshoot.
    if q == 0.7071:
        assert abs(low.gain(np.array([500.0]))[0]) == pytest.approx(np.sqrt(level), rel=1e-3)


@pytest.mark.parametrize("q", [0.7, 3.0, 40.0])
def test_a_bandpass_is_as_wide_as_its_q_says(q):
    band = bandpass(1000.0, q)
    wide = 1000.0 * (np.sqrt(1 + 1 / (4 * q * q)) + np.array([-1, 1]) / (2 * q))
    assert abs(band.gain(np.array([1000.0]))[0]) == pytest.approx(1.0)
    assert np.abs(band.gain(wide)) == pytest.approx(np.sqrt(0.5), rel=1e-9)


SECTIONS = [peak(300.0, 9.0, 2.0), low_shelf(120.0, -6.0, 0.7), high_shelf(4000.0, 5.0, 0.9), bandpass(900.0, 5.0)]


@pytest.mark.parametrize("section", SECTIONS)
def test_a_section_as_a_network_is_its_formula_and_moves_with_the_cutoff(section):
    network = section_network(section, "one", UNIT_HZ)
    assert of(network) == pytest.approx(section.gain(HERTZ), rel=1e-9)
    assert of(network, cutoff_hz=2 * UNIT_HZ) == pytest.approx(section.gain(HERTZ / 2), rel=1e-9)


def test_chains_multiply_and_what_stands_side_by_side_adds():
    gains = [section.gain(HERTZ) for section in SECTIONS]
    assert of(chain(SECTIONS, "c", UNIT_HZ)) == pytest.approx(np.prod(gains, axis=0), rel=1e-8)
    assert chain([], "c", UNIT_HZ) is None
    weights = [1.0, -0.5, 0.25, 2.0]
    together = side_by_side(SECTIONS, weights, "s", UNIT_HZ)
    (mode,) = together.outputs
    assert of(together, mode=mode) == pytest.approx(np.tensordot(weights, gains, axes=1), rel=1e-8, abs=1e-10)


@pytest.mark.parametrize("back", [0.0, 0.4, -0.8])
def test_a_group_within_its_own_loop_is_its_sum_over_one_less_it(back):
    bands = [bandpass(hertz, 6.0) for hertz in (250.0, 500.0, 1000.0)]
    weights = [1.0, -1.0, 0.7]
    total = np.tensordot(weights, [band.gain(HERTZ) for band in bands], axes=1)
    group = bank_group(bands, weights, back, "g", UNIT_HZ)
    (mode,) = group.outputs
    assert of(group, mode=mode) == pytest.approx(total / (1 - back * total), rel=1e-8, abs=1e-10)


@pytest.mark.parametrize("stages", [2, 5, 8])
@pytest.mark.parametrize("back", [0.0, 0.6, -0.7])
def test_an_all_pass_chain_in_its_loop(stages, back):
    s = 1j * HERTZ / 400.0
    chained = ((1 - s) / (1 + s)) ** stages
    looped = all_pass(stages, 400.0, back, "a", UNIT_HZ)
    (mode,) = looped.outputs
    assert of(looped, mode=mode) == pytest.approx(chained / (1 - back * chained), rel=1e-8)
    # The same with the loop as a gain that may move.
    moved = all_pass(stages, 400.0, back, "a", UNIT_HZ, moved_by="loop")
    assert of(moved, mode=mode, gain=float(round_loop(back, stages))) == pytest.approx(of(looped, mode=mode), rel=1e-9)


@pytest.mark.parametrize("damping", [0.05, 0.5, 1.9])
def test_a_bandpass_whose_pitch_and_width_move(damping):
    network = moving_bandpass("m", "turn", "damping")
    s = 1j * HERTZ / UNIT_HZ
    assert of(network, gain=damping) == pytest.approx(damping * s / (s * s + damping * s + 1), rel=1e-9)
