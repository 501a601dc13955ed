"""The ceiling for ears: never passed, and nothing changed below it."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.testing import assert_allclose

from jiyuu.signals.ceiling import CEILING_DB, under_ceiling

RATE = 48_000
CEILING = 10 ** (CEILING_DB / 20)


@pytest.mark.long
@given(st.integers(0, 10_000), st.floats(0.001, 1000.0), st.integers(1, 9000))
def test_nothing_passes_the_ceiling(seed, size, count):
    rng = np.random.default_rng(seed)
    record = size * rng.standard_normal(count) * (rng.random(count) < rng.uniform(0.001, 1))
    assert np.abs(under_ceiling(record, RATE)).max() <= CEILING


def test_what_is_soft_enough_stays_as_it_is():
    t = np.arange(RATE) / RATE
    soft = 0.9 * CEILING * np.sin(2 * np.pi * 440 * t)
    assert_allclose(under_ceiling(soft, RATE)[2000:-2000], soft[2000:-2000], rtol=0, atol=1e-12)


def test_a_howl_that_sets_in_is_turned_down_before_it_comes():
    t = np.arange(RATE) / RATE
    howl = np.where(t < 0.5, 0.01, 5.0) * np.sin(2 * np.pi * 1000 * t)
    heard = under_ceiling(howl, RATE)
    late = heard[round(0.6 * RATE) : round(0.9 * RATE)]
    assert np.abs(late).max() == pytest.approx(CEILING, rel=0.01)
    spectrum = np.abs(np.fft.rfft(late * np.blackman(late.size)))
    assert 20 * np.log10(np.sort(spectrum)[-8] / spectrum.max()) < -40  # turned down, not cut off: no new harmonics


def test_dc_and_hard_edges_are_taken_away():
    heard = under_ceiling(np.full(RATE, 0.1), RATE)
    assert np.abs(heard).max() < 1e-12
    edge = under_ceiling(np.sign(np.sin(np.arange(RATE))) * 0.1, RATE)
    assert abs(edge[0]) < 1e-3
    assert abs(edge[-1]) < 1e-3
