"""Patches against the arithmetic of their parts, and loops against polynomials of their own."""

import json

import numpy as np
import pytest
from numpy.testing import assert_allclose

from jiyuu.errors import CircuitError
from jiyuu.patch.reading import parse_patch
from jiyuu.patch.response import gain_of_patch, judged_loops, respond_patch
from tests.patch.making import (
    BEHIND_CAPACITORS,
    gain_of,
    patch,
    random_curve,
    random_feedback,
    random_filter,
    random_path,
    slope,
)
from tests.trials import some

HZ = np.geomspace(15, 21_000, 60)


def made(path, **more):
    return parse_patch(json.dumps(patch(path, **more)), source="made up")


@pytest.mark.parametrize("seed", range(60))
def test_a_patch_answers_as_the_arithmetic_of_its_parts(seed):
    path = random_path(np.random.default_rng(seed), longest=5)
    (found,) = respond_patch(made(path), HZ)
    expected = gain_of(path, HZ)
    assert_allclose(found.gain, expected, rtol=1e-7, atol=1e-9 * np.abs(expected).max())
    apart = np.angle(found.gain) - np.deg2rad(found.phase_deg)
    assert np.abs(np.exp(1j * apart) - 1).max() < 1e-9
    assert_allclose(gain_of_patch(made(path), HZ), expected, rtol=1e-7, atol=1e-9 * np.abs(expected).max())


@pytest.mark.parametrize("seed", range(8))
def test_stereo_is_two_paths_with_their_cutoffs_apart(seed):
    generator = np.random.default_rng(seed)
    left, right, after = [random_filter(generator)], random_path(generator, 2), random_path(generator, 2)
    spacing = float(generator.uniform(-2, 2))
    found = respond_patch(made([{"stage": "stereo", "left": left, "right": right, "spacing_octaves": spacing}, *after]),
                          HZ)
    whole = made([{"stage": "stereo", "left": left, "right": right, "spacing_octaves": spacing}, *after])
    assert_allclose(gain_of_patch(whole, HZ), found[0].gain, rtol=1e-12)
    for one, path, way in zip(found, (left, right), (-0.5, 0.5), strict=True):
        expected = gain_of(path, HZ, way * spacing) * gain_of(after, HZ)
        assert_allclose(one.gain, expected, rtol=1e-7, atol=1e-9 * np.abs(expected).max())


# Numerator and denominator, highest power first, in units of the filter's own cutoff.
POLYNOMIALS = {
    ("transistor-ladder", "lowpass-24"): lambda k: ([1], np.polyadd(np.poly([-1] * 4), [k])),
    ("transistor-ladder", "lowpass-12"): lambda k: (np.poly([-1] * 2), np.polyadd(np.poly([-1] * 4), [k])),
    ("transistor-ladder", "bandpass-24"): lambda k: ([4, 0, 0], np.polyadd(np.poly([-1] * 4), [k])),
    ("state-variable", "lowpass"): lambda k: ([1], [1, 2 - k, 1]),
    ("state-variable", "bandpass"): lambda k: ([1, 0], [1, 2 - k, 1]),
    ("diode-ladder", "lowpass-24"): lambda k: ([2], np.polyadd(
        np.polysub(np.polysub(np.polymul(np.poly([-2] * 2), np.polysub(np.poly([-2] * 2), [1])), np.poly([-2] * 2)),
                   2 * np.polysub(np.poly([-2] * 2), [1])), [2 * k])),
}


def polynomials(stage):
    above, below = POLYNOMIALS[stage["filter"], stage["mode"]](stage["resonance_gain"])
    ratio = stage["cutoff_hz"] / 1000

    def moved(p):  # in units of 1 kHz
        p = np.asarray(p, dtype=float)
        return p * ratio ** -np.arange(p.size - 1, -1.0, -1)

    return moved(above), moved(below)


@pytest.mark.parametrize("block", some(range(10), 3))
def test_loops_ring_where_their_polynomials_say(block):
    """Two hundred loops of one or two filters: closed poles by roots, the amount by the real axis crossings."""
    for seed in range(20 * block, 20 * block + 20):
        generator = np.random.default_rng(1000 + seed)
        path = [random_filter(generator, BEHIND_CAPACITORS) for _ in range(generator.integers(1, 3))]
        amount = float(generator.choice([-1, 1]) * np.exp(generator.uniform(np.log(0.05), np.log(30))))
        stage = {"stage": "feedback", "id": "loop", "amount": amount, "path": path}
        steep = 1.0
        if generator.random() < 0.3:
            stage["through"] = random_curve(generator)
            steep = slope(stage["through"])
        (found,) = judged_loops(made([stage]))
        above, below = np.array([1.0]), np.array([1.0])
        for one in path:
            a, b = polynomials(one)
            above, below = np.polymul(above, a), np.polymul(below, b)
        closed = np.roots(np.polysub(below, amount * steep * above))
        margin = closed.real.max()
        if abs(margin) > 1e-6:
            assert found.stable == (margin < 0), seed
        expected = _to_ring(above, below, steep, np.sign(amount))
        if expected is None:
            assert found.amount_to_ring is None, seed
            continue
        assert found.amount_to_ring == pytest.approx(expected[0], rel=1e-4), seed
        assert found.rings_at_hz == pytest.approx(expected[1], rel=1e-4, abs=1e-6), seed


def _to_ring(above, below, steep, sign):
    """Im(N(jw)·conj D(jw)) = 0, a polynomial in w; the least amount of that sign among its zeros and w = 0."""
    def on_axis(p):
        return np.array([c * 1j ** (p.size - 1 - i) for i, c in enumerate(p)])

    a, b = on_axis(above), on_axis(below)
    zeros = np.roots(np.trim_zeros(np.imag(np.polymul(a, np.conj(b))), "f"))
    places = [0.0, *(z.real for z in zeros if z.real > 1e-9 and abs(z.imag) < 1e-7 * abs(z))]
    amounts = []
    for w in places:
        inside = np.polyval(above, 1j * w) / np.polyval(below, 1j * w)
        if abs(inside) > 1e-12 and sign * steep * inside.real > 0:
            amounts.append((1 / (steep * inside.real), 1000 * w))
    return min(amounts, key=lambda pair: abs(pair[0]), default=None)


@pytest.mark.parametrize("inside", [
    [{"stage": "gain", "db": 3}], [{"stage": "shape"}], [random_filter(np.random.default_rng(1), [
        ("state-variable", "highpass")])],
    [{"stage": "parallel", "branches": [{"path": []}, {"path": [random_filter(np.random.default_rng(2))]}]}],
])
def test_a_loop_without_delay_is_refused_by_its_name(inside):
    with pytest.raises(CircuitError, match=r"^round: .*at once"):
        respond_patch(made([{"stage": "feedback", "id": "round", "amount": 0.5, "path": inside}]), HZ)


def test_nested_loops_are_judged_alone():
    generator = np.random.default_rng(5)
    inner = random_feedback(generator) | {"id": "inner", "path": [random_filter(generator, BEHIND_CAPACITORS)]}
    outer = {"stage": "feedback", "id": "outer", "amount": -0.3, "path": [inner]}
    assert [loop.called for loop in judged_loops(made([outer]))] == ["outer", "inner"]
    alone, = judged_loops(made([inner]))
    assert judged_loops(made([outer]))[1] == alone
