"""The light-dependent element: quick into the light, slow into the dark, slower the darker."""

import numpy as np
import pytest

from jiyuu.simulation.light_element import followed

RATE = 48_000.0
TIMES = {"opening_s": 0.010, "closing_s": 0.050, "closing_dark_s": 0.300, "brightest_v": 6.0}


def time_to(record, share, start, stop):
    """Seconds until the record has gone a share of the way."""
    gone = (record - start) / (stop - start)
    return np.flatnonzero(gone >= share)[0] / RATE


def test_it_opens_with_one_time_constant():
    record = followed(np.concatenate([[-2.0], np.full(9600, 6.0)]), RATE, **TIMES)
    assert time_to(record, 1 - np.exp(-1), -2.0, 6.0) == pytest.approx(0.010, rel=0.01)


def test_it_closes_slower_the_darker_it_is():
    bright = followed(np.concatenate([[6.0], np.full(48_000, 5.9)]), RATE, **TIMES)
    dark = followed(np.concatenate([[-1.9], np.full(48_000, -2.0)]), RATE, **TIMES)
    assert time_to(bright, 1 - np.exp(-1), 6.0, 5.9) == pytest.approx(0.050, rel=0.02)
    assert time_to(dark, 1 - np.exp(-1), -1.9, -2.0) == pytest.approx(0.300, rel=0.02)


def test_a_whole_fall_takes_between_the_two():
    record = followed(np.concatenate([[6.0], np.full(96_000, -2.0)]), RATE, **TIMES)
    assert 0.05 < time_to(record, 1 - np.exp(-1), 6.0, -2.0) < 0.3
    assert (np.diff(record) < 0).all()


def test_a_steady_light_stays_and_nothing_overshoots():
    assert followed(np.full(100, 1.5), RATE, **TIMES) == pytest.approx(np.full(100, 1.5))
    control = np.random.default_rng(1).uniform(-3, 6, 5000)
    record = followed(control, RATE, **TIMES)
    assert record.max() <= control.max()
    assert record.min() >= control.min()
    assert followed(np.zeros(0), RATE, **TIMES).size == 0
