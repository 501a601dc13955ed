"""Cosines and sines of whole rows."""

import numpy as np
import pytest

from jiyuu.measurement.turns_kernel import REACHES, turned


@pytest.mark.parametrize("farthest", [1e-9, 1.0, 60.0, 3e3, 0.999 * REACHES, 1e9])
def test_as_a_library_has_them(farthest):
    angle = np.random.default_rng(3).uniform(-farthest, farthest, 50_000)
    np.testing.assert_allclose(turned(angle), [np.cos(angle), np.sin(angle)], rtol=0, atol=3e-16)


def test_about_every_eighth_of_a_turn():
    eighths = np.arange(-4000, 4001) * (np.pi / 4)
    angle = np.concatenate([np.nextafter(eighths, -np.inf), eighths, np.nextafter(eighths, np.inf)])
    np.testing.assert_allclose(turned(angle), [np.cos(angle), np.sin(angle)], rtol=0, atol=3e-16)


def test_near_nothing_the_sine_is_the_angle_and_what_is_no_number_stays_none():
    tiny = np.geomspace(1e-300, 1e-9, 40)
    np.testing.assert_array_equal(turned(tiny), [np.ones(40), tiny])
    assert np.isnan(turned(np.array([np.nan, np.inf]))).all()
    assert turned(np.zeros(0)).shape == (2, 0)
