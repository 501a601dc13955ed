"""Between the points of a curve, against closed forms."""

import numpy as np
import pytest

from jiyuu.measurement.sampled_curve import SampledCurve

OCTAVE = np.log2(20.0) + np.arange(192 * 9) / 192


def resonator(q, hertz=700.0):
    x = 2.0**OCTAVE / hertz
    return SampledCurve(OCTAVE, -10 * np.log10((1 - x**2) ** 2 + (x / q) ** 2))


@pytest.mark.parametrize(("q", "off"), [(1.0, 1e-8), (5.0, 1e-7), (20.0, 1e-6), (60.0, 4e-5)])
def test_a_peak_and_its_flanks(q, off):
    """off: what a grid leaves unknown of a flank, the more the fewer of its points stand on it."""
    curve = resonator(q)
    index = int(np.argmax(curve.level))
    octave, level = curve.extremum(index)
    place = 1 - 1 / (2 * q * q)
    top = q / np.sqrt(1 - 1 / (4 * q * q))
    assert 2.0**octave == pytest.approx(700 * np.sqrt(place), rel=2e-6 * q)
    assert level == pytest.approx(20 * np.log10(top), abs=1e-6 * q * q)
    drop = 10 * np.log10(2)
    low, high = (curve.falls_through(20 * np.log10(top) - drop, index, way) for way in (-1, 1))
    half = np.sqrt((2 * place) ** 2 - 4 * (1 - 2 / top**2))  # x⁴ − 2·place·x² + 1 = 2/top²
    upper = np.sqrt((2 * place + half) / 2)
    assert 2.0**high == pytest.approx(700 * upper, rel=off)
    if 2 * place > half:
        assert 2.0**low == pytest.approx(700 * np.sqrt((2 * place - half) / 2), rel=off)


def test_the_outermost_crossing_and_a_level_never_reached():
    curve = SampledCurve(OCTAVE, 6 * np.sin(OCTAVE) - OCTAVE)
    assert curve.at(float(OCTAVE[7])) == curve.level[7]
    last = curve.last_fall(-9.0, +1)
    assert curve.at(last) == pytest.approx(-9.0, abs=1e-3)
    assert (curve.level[last < OCTAVE] < -9.0).all()
    assert curve.falls_through(-90.0, 5, +1) is None
    assert curve.last_fall(90.0, +1) is None
    assert curve.falls_through(curve.level[0] + 1, 0, -1) is None


def test_in_noise_a_crossing_stays_between_its_points():
    generator = np.random.default_rng(2)
    for _ in range(200):
        level = -np.arange(60) / 6 + generator.normal(0, 0.5, 60)
        curve = SampledCurve(OCTAVE[:60], level)
        place = curve.falls_through(-5.0, 0, +1)
        first = int(np.flatnonzero(level < -5.0)[0])
        assert OCTAVE[first - 1] <= place <= OCTAVE[first]


@pytest.mark.parametrize(("low", "high"), [(6.0, 8.0), (6.013, 7.987), (12.9, 13.0)])
def test_the_slope_is_that_of_the_line_and_none_over_too_little(low, high):
    slope = SampledCurve(OCTAVE, 3 - 7.5 * OCTAVE).slope(low, high)
    assert slope == pytest.approx(-7.5) if high - low > 0.5 else slope is None


@pytest.mark.parametrize("q", [0.9, 1.5, 3.0, 40.0])
def test_the_top_of_a_known_curve_is_where_its_form_has_it(q):
    """Of a second order lowpass: ω² = 1 − 1/(2Q²), the height Q/√(1 − 1/(4Q²))."""
    def level(octave):
        ratio = 2.0 ** np.asarray(octave)
        return -10 * np.log10((1 - ratio**2) ** 2 + (ratio / q) ** 2)

    octave = np.arange(-400, 400) / 192 + 0.0011
    sampled = level(octave)
    place, height = SampledCurve(octave, sampled, level).extremum(int(np.argmax(sampled)))
    assert place == pytest.approx(0.5 * np.log2(1 - 1 / (2 * q * q)), abs=1e-8)
    assert height == pytest.approx(20 * np.log10(q / np.sqrt(1 - 1 / (4 * q * q))), abs=1e-10)
