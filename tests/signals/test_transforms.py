"""Transforms of short and of long records are the same transform."""

import numpy as np
import pytest

from jiyuu.signals import transforms
from jiyuu.signals.transforms import irfft, next_fast_len, rfft


@pytest.mark.parametrize("longest", [1 << 20, 100])
def test_there_and_back_at_any_length(monkeypatch, longest):
    monkeypatch.setattr(transforms, "LONG", longest)
    record = np.random.default_rng(1).standard_normal(777)
    size = next_fast_len(1500)
    t = np.arange(record.size)
    for bin_ in (0, 3, size // 2):
        expected = np.sum(record * np.exp(-2j * np.pi * bin_ * t / size))
        assert rfft(record, size)[bin_] == pytest.approx(expected, abs=1e-10)
    assert irfft(rfft(record, size), size)[: record.size] == pytest.approx(record, abs=1e-12)
    assert rfft(record).size == 777 // 2 + 1


@pytest.mark.parametrize(("least", "found"), [(1, 1), (7, 8), (1021, 1024), (1025, 1080)])
def test_the_next_length_has_small_factors_only(least, found):
    assert next_fast_len(least) == found
