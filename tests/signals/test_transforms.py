"""Transforms against their definition and NumPy's, at any length, along any axis, of any kind of number."""

import numpy as np
import pytest
from numpy.testing import assert_allclose

from jiyuu.signals.transforms import convolved, fft, ifft, irfft, next_fast_len, rfft


@pytest.mark.parametrize("size", [None, 1500, 600, 1021])
def test_there_and_back_at_any_length(size):
    record = np.random.default_rng(1).standard_normal(777)
    found = rfft(record, size)
    length = size or 777
    played, t = record[:length], np.arange(min(777, length))
    for bin_ in (0, 3, length // 2):
        expected = np.sum(played * np.exp(-2j * np.pi * bin_ * t / length))
        assert found[bin_] == pytest.approx(expected, abs=1e-10)
    assert found.size == length // 2 + 1
    assert_allclose(irfft(found, length)[: played.size], played, rtol=0, atol=1e-12)


@pytest.mark.parametrize("size", [None, 64, 9])
@pytest.mark.parametrize("axis", [0, 1, -1])
@pytest.mark.parametrize("kind", [np.float64, np.float32, np.int16, np.complex128])
def test_as_numpy_transforms_tables(size, axis, kind):
    table = (100 * np.random.default_rng(2).standard_normal((24, 31))).astype(kind)
    near = {"rtol": 1e-4, "atol": 1e-2} if kind is np.float32 else {"rtol": 1e-10, "atol": 1e-9}
    assert_allclose(fft(table, size, axis=axis), np.fft.fft(table, size, axis=axis), **near)
    assert_allclose(ifft(table, axis=axis), np.fft.ifft(table, axis=axis), **near)
    assert_allclose(irfft(table, size, axis=axis), np.fft.irfft(table, size, axis=axis), **near)
    if kind is not np.complex128:
        assert_allclose(rfft(table.T, size, axis=axis), np.fft.rfft(table.T, size, axis=axis), **near)


@pytest.mark.parametrize(("count", "other"), [(1, 1), (7, 300), (500, 1001)])
def test_records_laid_on_each_other_are_as_numpy_lays_them(count, other):
    first, second = (np.random.default_rng(4).standard_normal(size) for size in (count, other))
    assert_allclose(convolved(first, second), np.convolve(first, second), rtol=0, atol=1e-11)


def test_what_is_given_stays_as_it_is():
    record = np.random.default_rng(3).standard_normal(256)
    kept = record.copy()
    irfft(rfft(record[::2]), 128)
    spectrum = rfft(record)
    before = spectrum.copy()
    irfft(spectrum)
    assert (record == kept).all()
    assert (spectrum == before).all()


@pytest.mark.parametrize(("least", "found", "of_complex"), [(1, 1, 1), (7, 8, 7), (1021, 1024, 1024),
                                                             (1025, 1080, 1029)])
def test_the_next_length_has_small_factors_only(least, found, of_complex):
    assert next_fast_len(least) == found
    assert next_fast_len(least, real=False) == of_complex
