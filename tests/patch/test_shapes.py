"""Shelves and peaks between stored settings: ends met exactly, every band on its way, stable all along; heard as the
equations are; what cannot be is said."""

import json

import numpy as np
import pytest
from numpy.testing import assert_allclose
from scipy.integrate import solve_ivp
from scipy.interpolate import CubicSpline

from jiyuu.errors import CircuitError
from jiyuu.patch.playing import play_patch
from jiyuu.patch.reading import parse_patch
from jiyuu.patch.response import path_gain
from jiyuu.patch.shapes import KINDS, Band, Shapes, ShapeSetting
from tests.patch.making import patch
from tests.trials import some

HZ = np.geomspace(20, 20_000, 200)
RATE = 48_000.0


def drawn(generator, most=12):
    """Bands of any kind, as many as may be."""
    return tuple(Band(kind=KINDS[generator.integers(3)], frequency_hz=float(20 * 1000 ** generator.uniform()),
                      gain_db=float(generator.uniform(-24, 24)), q=float(0.3 * 60 ** generator.uniform()))
                 for _ in range(generator.integers(0, most + 1)))


def shapes(*settings, **fields):
    return Shapes(stage="shapes", settings=tuple(settings), **fields)


def made(stage, amount, control=None):
    """A patch of a stage whose morph is moved."""
    control = control or {"kind": "constant", "value": 1.0}
    route = {"from": "moves", "to": f"{stage['id']}.morph", "amount": amount}
    return parse_patch(json.dumps(patch([stage], controls={"moves": control}, routes=[route])), source="made up")


def closed_form(bands, trim_db=0.0):
    """(n,) by the sections' own polynomials."""
    s, total = 1j * HZ, np.full(HZ.size, 10 ** (trim_db / 20), dtype=complex)
    for band in bands:
        a, q, p = 10 ** (band.gain_db / 40), band.q, s / band.frequency_hz
        if band.kind == "peak":
            total *= (p**2 + p * a / q + 1) / (p**2 + p / (a * q) + 1)
        elif band.kind == "low_shelf":
            total *= a * (p**2 + np.sqrt(a) / q * p + a) / (a * p**2 + np.sqrt(a) / q * p + 1)
        else:
            total *= a * (a * p**2 + np.sqrt(a) / q * p + 1) / (p**2 + np.sqrt(a) / q * p + a)
    return total


@pytest.mark.parametrize("batch", some(range(5), 1))
def test_of_five_hundred_pairs_every_way_is_monotone_stable_and_meets_its_ends(batch):
    generator = np.random.default_rng([batch, 15])
    along = np.linspace(0, 1, 41)
    for _ in range(100):
        ends = [ShapeSetting(name=name, bands=drawn(generator), trim_db=float(generator.uniform(-12, 12)))
                for name in ("a", "b")]
        stage = shapes(*ends, morph=0.0)
        way = stage.at([along])
        for values in (way.frequency_hz, way.gain_db, way.q, way.trim_db[np.newaxis]):
            steps = np.diff(values, axis=1)
            slack = 1e-12 * np.abs(values).max(initial=1.0)
            assert ((steps >= -slack).all(axis=1) | (steps <= slack).all(axis=1)).all()
        assert (way.frequency_hz > 0).all()
        assert (way.q > 0).all()  # a section is stable exactly where both are
        for morph, end in zip((0.0, 1.0), ends, strict=True):
            bands, trim_db = stage.model_copy(update={"morph": morph}).standing()
            assert_allclose(closed_form(bands, trim_db), closed_form(end.bands, end.trim_db), rtol=1e-9)


def test_bands_that_belong_together_go_together():
    one = ShapeSetting(name="one", bands=(Band(frequency_hz=200.0, gain_db=6.0),
                                          Band(frequency_hz=4000.0, gain_db=-6.0)))
    other = ShapeSetting(name="other", bands=(Band(frequency_hz=3000.0, gain_db=-12.0, q=4.0),))
    way = shapes(one, other, morph=0.5).at([np.array([0.5])])
    assert way.frequency_hz[:, 0] == pytest.approx([200.0, np.sqrt(3000 * 4000)])
    assert way.gain_db[:, 0] == pytest.approx([3.0, -9.0])
    assert way.q[1, 0] == pytest.approx(np.sqrt(4 / np.sqrt(2)))


def test_a_way_through_several_meets_each_of_them():
    generator = np.random.default_rng(8)
    settings = [ShapeSetting(name=str(i), bands=drawn(generator, 5), trim_db=float(i)) for i in range(5)]
    for i, setting in enumerate(settings):
        bands, trim_db = shapes(*settings, morph=i / 4).standing()
        assert_allclose(closed_form(bands, trim_db), closed_form(setting.bands, setting.trim_db), rtol=1e-9)


def test_a_block_has_a_setting_at_every_corner():
    settings = [ShapeSetting(name=str(i), bands=(Band(gain_db=float(i)),)) for i in range(8)]
    for i in range(8):
        corner = {name: float(i >> bit & 1) for bit, name in enumerate(("morph", "morph_2", "morph_3"))}
        ways = [np.array([way]) for way in corner.values()]
        assert shapes(*settings, **corner).at(ways).gain_db == pytest.approx(float(i))
    middle = shapes(*settings, morph=0.5, morph_2=0.5, morph_3=0.5, axes=("bright", "sharp", "driven"))
    assert middle.standing()[0][0].gain_db == pytest.approx(3.5)


def test_the_response_is_that_of_the_bands():
    generator = np.random.default_rng(3)
    stage = shapes(*(ShapeSetting(name=name, bands=drawn(generator)) for name in "ab"), morph=0.3)
    assert_allclose(path_gain((stage,), HZ), closed_form(*stage.standing()), rtol=1e-8)


@pytest.mark.long
def test_moving_it_is_as_its_equations():
    """A shelf and a peak that move by 30 Hz, against an integrator that chooses its own steps."""
    settings = [{"name": "a", "bands": [{"kind": "low_shelf", "frequency_hz": 200.0, "gain_db": -9.0},
                                        {"frequency_hz": 900.0, "gain_db": 15.0, "q": 4.0}], "trim_db": 2.0},
                {"name": "b", "bands": [{"kind": "low_shelf", "frequency_hz": 800.0, "gain_db": 12.0},
                                        {"frequency_hz": 2500.0, "gain_db": -12.0, "q": 2.0}]}]
    moved = made({"stage": "shapes", "id": "s", "settings": settings, "morph": 0.5}, 0.4,
                 {"kind": "lfo", "shape": "sine", "rate_hz": 30.0})
    stage = moved.path[0]
    t = np.arange(2400) / RATE

    def played(time):
        return np.sin(np.clip(time / 0.005, 0, 1) * np.pi / 2) ** 4 * np.sin(2 * np.pi * 700 * time)

    grid = np.linspace(0, t[-1], 8 * t.size)
    between = stage.at([0.5 + 0.4 * np.sin(2 * np.pi * 30 * grid)])
    way = CubicSpline(grid, np.vstack([between.frequency_hz, between.gain_db, between.q, between.trim_db]).T)

    def bands_at(time):
        here = way(time)
        return here[:2], here[2:4], here[4:6], here[6]

    def parts(time):
        (f1, f2), (g1, g2), (q1, q2), trim = bands_at(time)
        a, b = 10 ** (g1 / 40), 10 ** (g2 / 40)
        root = np.sqrt(a) / q1
        return (2 * np.pi * f1, root / a, 1 / a, a, root), (2 * np.pi * f2, 1 / (b * q2), 1.0, 1.0, b / q2), trim

    def out_of(section, u, x1, x2):
        _, a1, a0, b0, b1 = section
        return u + (b1 - a1) * x2 + (b0 - a0) * x1

    def slopes(time, x):
        shelf, peak, _ = parts(time)
        u = played(time)
        behind = out_of(shelf, u, x[0], x[1])
        return [shelf[0] * x[1], shelf[0] * (u - shelf[1] * x[1] - shelf[2] * x[0]),
                peak[0] * x[3], peak[0] * (behind - peak[1] * x[3] - peak[2] * x[2])]

    found = solve_ivp(slopes, (0, t[-1]), np.zeros(4), t_eval=t, rtol=1e-9, atol=1e-12, method="DOP853")
    true = np.empty(t.size)
    for i, (time, x) in enumerate(zip(t, found.y.T, strict=True)):
        shelf, peak, trim_db = parts(time)
        true[i] = 10 ** (trim_db / 20) * out_of(peak, out_of(shelf, played(time), x[0], x[1]), x[2], x[3])
    heard = play_patch(moved, played(t)[np.newaxis], RATE)[0]
    assert np.std(heard[:-100] - true[:-100]) < 10 ** (-75 / 20) * np.std(true)
    again = play_patch(moved, played(t)[np.newaxis], RATE, block=701)[0]
    assert_allclose(again, heard, rtol=0, atol=1e-12)


@pytest.mark.long
def test_a_peak_at_the_edge_of_hearing_is_played_as_it_answers():
    """What moves by a hair is played as what stands, to 0.03 dB up to 18 kHz."""
    shelf = {"kind": "high_shelf", "frequency_hz": 9000.0, "gain_db": -8.0}
    settings = [{"name": name, "bands": [{"frequency_hz": 14_000.0, "gain_db": gain, "q": 5.0}, shelf]}
                for name, gain in (("a", 12.0), ("b", 12.001))]
    moved = made({"stage": "shapes", "id": "s", "settings": settings, "morph": 0.0}, 1.0)
    click = np.zeros(8192)
    click[1000] = 1.0
    heard = np.fft.rfft(play_patch(moved, click[np.newaxis], RATE)[0])
    hertz = np.fft.rfftfreq(click.size, 1 / RATE)
    inside = (hertz > 30) & (hertz < 18_000)
    level = 20 * np.log10(np.abs(heard[inside]) / np.abs(path_gain((moved.path[0],), hertz[inside])))
    assert np.abs(level).max() < 0.03


@pytest.mark.parametrize(("fields", "words"), [
    ({"morph": 0.5}, "two at least"), ({"morph_2": 0.5}, "needs a morph"),
    ({"morph": 0.5, "morph_2": 0.5}, "4 settings"),
    ({"morph": 1.5}, "less than or equal to 1"), ({"settings": [{"name": "a"}, {"name": "a"}]}, "name of its own"),
])
def test_what_cannot_be_is_said(fields, words):
    with pytest.raises(CircuitError, match=words):
        parse_patch(json.dumps(patch([{"stage": "shapes", "id": "s", **fields}])), source="made up")


@pytest.mark.long
def test_in_a_loop_it_stands_still_or_is_refused():
    settings = [{"name": "a", "bands": [{"gain_db": 3.0}]}, {"name": "b"}]
    low = {"stage": "filter", "filter": "state-variable", "mode": "lowpass", "cutoff_hz": 500.0}
    loop = {"stage": "feedback", "amount": 0.3, "path": [low, {"stage": "shapes", "id": "s", "settings": settings,
                                                              "morph": 0.5}]}
    quiet = np.zeros((1, 480))
    assert play_patch(parse_patch(json.dumps(patch([loop])), source="made up"), quiet, RATE) == pytest.approx(0.0)
    moved = parse_patch(json.dumps(patch([loop], controls={"held": {"kind": "constant", "value": 0.1}},
                                         routes=[{"from": "held", "to": "s.morph"}])), source="made up")
    with pytest.raises(CircuitError, match="not in a loop"):
        play_patch(moved, quiet, RATE)
