"""Windows that run along a row, against those of a library."""

import numpy as np
import pytest
import scipy
from numpy.testing import assert_allclose, assert_array_equal

from jiyuu.signals.running import running_least, running_mean, running_median, running_most

ROW = np.random.default_rng(8).standard_normal(301)
BEYOND = {"symmetric": "reflect", "edge": "nearest", "constant": "constant"}


@pytest.mark.parametrize("beyond", BEYOND)
@pytest.mark.parametrize("width", [1, 2, 9, 64, 65, 200, 601])
def test_means(width, beyond):
    expected = scipy.ndimage.uniform_filter1d(ROW, width, mode=BEYOND[beyond])
    assert_allclose(running_mean(ROW, width, beyond), expected, rtol=0, atol=1e-13)


@pytest.mark.parametrize("beyond", ["symmetric", "edge"])
@pytest.mark.parametrize("width", [1, 2, 5, 40, 41])
def test_medians(width, beyond):
    assert_array_equal(running_median(ROW, width, beyond),
                       scipy.ndimage.median_filter(ROW, width, mode=BEYOND[beyond]))


def test_least_and_most_along_the_last_axis():
    table = np.arange(60).reshape(3, 20) % 7
    assert_array_equal(running_least(table, 9), scipy.ndimage.minimum_filter1d(table, 9, axis=-1, mode="nearest"))
    assert_array_equal(running_most(table, 4), scipy.ndimage.maximum_filter1d(table, 4, axis=-1, mode="nearest"))
    assert running_least(table, 9).dtype == table.dtype


def test_a_loud_value_leaves_nothing_in_windows_that_it_is_not_in():
    falls = np.where(np.arange(200) == 50, 1e20, 1e-20)
    assert_allclose(running_mean(falls, 31)[70:], 1e-20)
