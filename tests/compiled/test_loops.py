"""Loops, as machine code and as the Python that they are written in."""

import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from jiyuu.compiled.entry import ComplexRow, signature_of
from jiyuu.compiled.loops import Loop
from jiyuu.compiled.warm import loops
from jiyuu.simulation.comb import PHASES, REACH

GENERATOR = np.random.default_rng(12)
SHAPE = (5, 2, 1, 0)
CLOCKED = (3, 1, 0, 1)
NODES = 3 * 7
OMEGA = np.geomspace(0.05, 8.0, NODES)
GATE = np.array([30.0, 9.0, 8.0, 3.0, 70.0, 4.0])
VALUES = np.array([0.1, -1.0, 0.6, -2.5, 0.9, 0.7, 0.2, 1.3, 0.04])
CLOCK = np.array([0.2, -0.7, 0.3, 1.1, 2e-6, 0.8, 0.02])
LATE = np.linspace(0, 9e4, NODES)
SHARE = np.tile([0.2, 0.5, 0.3], (NODES // 3, 1))
DEVIATION = np.linspace(1e-3, 2e-3, NODES // 3)
GAIN = GENERATOR.normal(size=NODES // 3) + 1j * GENERATOR.normal(size=NODES // 3)
LEFT = GENERATOR.normal(size=2 * NODES // 3)
NOTHING = np.zeros((8, 0))
PARTS = GENERATOR.normal(size=(2, NODES))
TIMES = np.linspace(0, 2, 50)
POLES = np.array([-0.3 + 5j, -0.8 + 9j])
RATES = np.array([0.7])
COLUMNS = GENERATOR.normal(size=(5, 50))
HERTZ = np.linspace(20, 900, 300)
SPECTRUM = np.exp(1j * HERTZ / 90) / HERTZ
EDGES = 15 * np.exp(0.03 * np.arange(81))
SOUND = GENERATOR.normal(size=400)
NORMAL = COLUMNS @ COLUMNS.T / np.sqrt(np.outer(*2 * [(COLUMNS**2).sum(axis=1)]))
TAPS = GENERATOR.normal(size=(PHASES + 1, 2 * REACH))

# Of every loop: what it is asked, as often as there are ways through it.
ASKED = {
    "factors_kernel.roots_of": [(np.array([2.0, 0.4, 3.0, 9.0, 1.5]),), (np.array([0.0, 0.0]),), (np.zeros(0),)],
    "factors_kernel.expanded": [(VALUES[:5],), (VALUES[:4],), (VALUES[:1],), (VALUES[:0],)],
    "turns_kernel.turned": [(np.linspace(-40, 40, 101),), (np.array([1e7, 0.3]),)],
    "network_rings_kernel._over": [(1 + 2j, 0.3 - 1j)],
    "network_kernel._parts": [(VALUES, SHAPE, OMEGA)],
    "network_kernel.product": [(VALUES, SHAPE, OMEGA)],
    "network_kernel.turned_back": [(GAIN, OMEGA[: GAIN.size], 0.3, 4)],
    "network_kernel.by_coefficients": [(VALUES, SHAPE, OMEGA)],
    "network_rings_kernel.slow": [(VALUES, SHAPE, GATE), (VALUES, SHAPE, 9e3 * GATE)],
    "network_rings_kernel.turns_of": [(OMEGA, GATE)],
    "network_rings_kernel._kept": [(-0.1 + 2j, 0.5j, 0.2j, 3.0), (-0.1 + 2j, 0.5j, 0.2j, 0.0)],
    "network_rings_kernel.left_out": [
        (VALUES, SHAPE, OMEGA, GATE, NOTHING), (VALUES, SHAPE, OMEGA, 9e3 * GATE, NOTHING)],
    "network_kernel.seen": [(VALUES, SHAPE, OMEGA, GATE, NOTHING), (VALUES, SHAPE, OMEGA, GATE[:0], NOTHING)],
    "network_kernel.misfit": [
        (VALUES, SHAPE, OMEGA, LATE[:0], SHARE, GATE, NOTHING, GAIN, DEVIATION),
        (CLOCK, CLOCKED, OMEGA, LATE, SHARE, GATE[:0], NOTHING, GAIN, DEVIATION)],
    "network_kernel._misfit_of": [
        (PARTS, VALUES, SHAPE, OMEGA, LATE[:0], SHARE, GATE, NOTHING, GAIN, DEVIATION),
        (PARTS, CLOCK, CLOCKED, OMEGA, LATE, SHARE, GATE[:0], NOTHING, GAIN, DEVIATION)],
    "network_kernel._sounds_late": [(PARTS[0], PARTS[1], np.stack([np.cos(OMEGA), np.sin(OMEGA)]))],
    "network_kernel.ring_slopes": [(VALUES, SHAPE, OMEGA, GATE, NOTHING), (VALUES, SHAPE, OMEGA, GATE[:0], NOTHING)],
    "network_kernel.slopes": [
        (VALUES, SHAPE, OMEGA, LATE[:0], SHARE, GATE, NOTHING, DEVIATION),
        (CLOCK, CLOCKED, OMEGA, LATE, SHARE, GATE[:0], NOTHING, DEVIATION)],
    "network_kernel._factor_slopes": [
        (2.0, 0.3, 1, -1.0, PARTS, OMEGA, 0 * PARTS, 0 * PARTS),
        (0.7, 0.7, 0, 1.0, PARTS, OMEGA, 0 * PARTS, 0 * PARTS),
        (OMEGA[4] ** 2, 0.0, 1, 1.0, PARTS, OMEGA, 0 * PARTS, 0 * PARTS)],
    "network_kernel._slopes_of": [
        (PARTS, VALUES, SHAPE, OMEGA, LATE[:0], SHARE, GATE, NOTHING, DEVIATION),
        (PARTS, CLOCK, CLOCKED, OMEGA, LATE, SHARE, GATE[:0], NOTHING, DEVIATION)],
    "rows_kernel.inner": [(LEFT, LEFT[::-1].copy())],
    "rows_kernel.solved": [(NORMAL, 1e-3, np.arange(5.0)), (np.zeros((2, 2)), 0.0, np.ones(2))],
    "network_kernel._one_step": [
        (VALUES, PARTS, LEFT, 1e-3, SHAPE, OMEGA, LATE[:0], SHARE, GATE, NOTHING, GAIN, DEVIATION),
        (CLOCK, PARTS, LEFT, 1e-3, CLOCKED, OMEGA, LATE, SHARE, GATE[:0], NOTHING, GAIN, DEVIATION),
        (VALUES, PARTS, np.nan * LEFT, 1e-3, SHAPE, OMEGA, LATE[:0], SHARE, GATE, NOTHING, GAIN, DEVIATION)],
    "network_kernel.stepped": [
        (VALUES, LEFT, 1e-3, SHAPE, OMEGA, LATE[:0], SHARE, GATE, NOTHING, GAIN, DEVIATION, 2, 1e-3),
        (VALUES, LEFT, 1e-3, SHAPE, OMEGA, LATE[:0], SHARE, GATE, NOTHING, GAIN, DEVIATION, 3, 1e9)],
    "ring_kernel.columns_of": [(TIMES, POLES, RATES)],
    "ring_kernel.spanned": [(COLUMNS, TIMES)],
    "ring_kernel.slopes_of": [(TIMES, COLUMNS, POLES, RATES, np.arange(5.0))],
    "ring_kernel.beside": [(COLUMNS[:2], COLUMNS[2:])],
    "bin_groups_kernel.begun": [(HERTZ, 12.0, -9 + 300j * np.ones(1), 0.3, np.array([20.0]), 3)],
    "bin_groups_kernel.moments": [(HERTZ, SPECTRUM, np.ones(300), HERTZ / 1e3, np.array([0, 1, 7, 60, 300]))],
    "points_kernel._between": [(SPECTRUM, np.array([-0.5, 0.2, 3.3, 297.0, 299.9]))],
    "points_kernel.means": [
        (SPECTRUM, 40, 3, 200, EDGES, np.sqrt(EDGES[1:] * EDGES[:-1]), 0.03),
        (SPECTRUM, 300, 1, 300, EDGES / 9, np.sqrt(EDGES[1:] * EDGES[:-1]) / 9, 0.03)],
    "tone_kernel._lanes": [(0.31,)],
    "tone_kernel._turned": [(SOUND[:64], SOUND[64:128], 0.7, np.zeros(64), np.zeros(64))],
    "tone_kernel.against": [(SOUND, -199.5, 0.31, 4), (SOUND[:9], 0.0, 0.31, 2)],
    "tone_kernel.left_by": [(SOUND, -199.5, 0.31, np.arange(9.0)), (SOUND[:65], 3.0, 0.31, np.ones(1))],
    "tones_ringing_kernel.states": [(SOUND, np.array([0, 63, 64, 200, 399]), 0.98 * np.exp(0.3j))],
    "resampling_kernel.taken": [(SOUND, np.linspace(-5, 405, 77), GENERATOR.normal(size=(9, 16)))],
    "series_kernel.summed": [(np.linspace(0, 30, 150), 1 / np.arange(1.0, 9.0))],
    "follower_kernel.follow": [(np.abs(SOUND), 0.5, 0.99, 0.2)],
    "segments_kernel.at": [(np.array([-1.0, 0.1, 5.0, 0.7, 2.0]), np.array([0.0, 0.5, 1.0]),
                            np.array([[1.0, 2, 3], [0.1, 0.2, 0.3], [4, 5, 6], [0, 9, 0]]))],
    "moving_sections._run": [(SOUND[:200], GENERATOR.uniform(0.1, 0.4, (2, 5, 6)), np.zeros((2, 3)), np.zeros(200))],
    "comb._read": [(SOUND, 30.4, TAPS)],
    "comb._loop": [(SOUND[:40], np.zeros(400), 300, np.linspace(20, 30, 41), np.full(41, 0.6), rate, TAPS, np.zeros(2))
                   for rate in (0.0, 0.4)],
}


LOOPS = dict(loops())


def test_every_loop_is_asked_something():
    assert sorted(LOOPS) == sorted(ASKED)


@pytest.mark.parametrize("name", ASKED)
def test_a_loop_does_what_its_python_does(name, monkeypatch):
    one = LOOPS[name]
    run = one.kept()  # which none of ours needs numba for
    for asked in ASKED[name]:
        mine, theirs = ([copied(value) for value in asked] for _ in range(2))
        found = run(*mine)
        with monkeypatch.context() as interpreted, np.errstate(all="ignore"):
            interpreted.setattr(Loop, "__call__", lambda self, *given: self.python(*given))
            expected = one.python(*theirs)
        for ours, other in zip(parts(found) + mine, parts(expected) + theirs, strict=True):
            scale = np.max(np.abs(other), initial=1e-30) if np.all(np.isfinite(other)) else 1.0
            # Rounding moves what is divided by a step of a millionth a million times as far.
            part = 1e-9 if name.endswith(("ring_slopes", "kernel.slopes", "_slopes_of")) else 1e-13
            np.testing.assert_allclose(ours, other, rtol=1e-11, atol=part * scale)
            assert np.asarray(ours).dtype == np.asarray(other).dtype


def copied(value):
    return value.copy() if isinstance(value, np.ndarray) else value


def parts(found):
    return list(found) if isinstance(found, tuple) else [] if found is None else [found]


@pytest.fixture(scope="module")
def made():
    """Loops that only tests need, compiled by another process: no worker has to keep a compiler for them."""
    script = "from tests.compiled import made; made.stretched.kept(), made.passed_on.kept(), made.written.kept()"
    subprocess.run([sys.executable, "-c", script], check=True, timeout=120)
    from tests.compiled import made

    return made


def test_what_was_compiled_once_is_run_without_the_compiler():
    script = """
import sys
import numpy as np
from jiyuu.measurement.network_kernel import stepped
from jiyuu.signals.resampling_kernel import taken
stepped.run, taken.run
assert "llvmlite" in sys.modules and "numba" not in sys.modules
"""
    for name in ("network_kernel.stepped", "resampling_kernel.taken"):
        LOOPS[name].kept()
    subprocess.run([sys.executable, "-c", script], check=True, timeout=120)


def test_what_a_loop_was_given_comes_back_as_an_array_of_its_own(made):
    values, table = np.arange(4.0), np.arange(6.0).reshape(2, 3)
    one, same, other, count, number = made.passed_on(values, table)
    np.testing.assert_array_equal([one, other], [3 * values] * 2)
    np.testing.assert_array_equal(same, table)
    assert (count, number) == (4, 1 + 2j)
    one[0] = same[0, 0] = 9.0  # neither is memory that was given back, nor anybody else's
    assert (other[0], table[0, 0]) == (0, 0)


def test_memory_is_given_back(made):
    def held_mb():
        return int(Path("/proc/self/statm").read_text().split()[1]) * 4096 / 1e6

    values, table = np.ones(20_000), np.ones((1, 1))
    made.passed_on(values, table)
    before = held_mb()
    for _ in range(5000):  # 800 MB
        made.passed_on(values, table)
    assert held_mb() - before < 20


def test_a_number_beside_a_loop_is_part_of_it():
    script = """
from tests.compiled import made
from jiyuu.compiled.loops import Loop
assert Loop(made.stretched.python, ()).run(made.np.ones(1)) == 3.0
made.AMOUNT = 5.0
assert Loop(made.stretched.python, ()).run(made.np.ones(1)) == 5.0
"""
    subprocess.run([sys.executable, "-c", script], check=True, timeout=120)


@pytest.mark.long
def test_another_text_of_a_loop_that_is_called_by_one_that_is_called_is_compiled(tmp_path):
    names = ("deep", "middle", "top")
    for below, name in zip((None, *names), names, strict=False):
        (tmp_path / f"{name}.py").write_text(
            "from jiyuu.compiled.loops import loop\n" + (f"from {below} import {below}\n" if below else "")
            + f"@loop()\ndef {name}(x: float) -> float:\n    return {below or '1.0 + '}(x)\n")
    for more, expected in ((None, 3.0), ("7.0", 9.0)):
        if more:
            text = (tmp_path / "deep.py").read_text()
            (tmp_path / "deep.py").write_text(text.replace("1.0", more))
        script = f"from top import top; assert top.kept()(2.0) == {expected}"
        subprocess.run([sys.executable, "-c", script], check=True, timeout=120, cwd=tmp_path)


def test_a_loop_that_calls_a_library_is_run_by_numba():
    script = """
from scipy.special import erf
from tests.compiled.made import np, under
places = np.array([-1.0, 0.25, 3.0])
np.testing.assert_allclose(under(places), erf(places), rtol=1e-14)
try:
    under.kept()
except Exception as reason:
    assert type(reason).__name__ == "CannotStandAlone"
else:
    raise AssertionError
"""
    subprocess.run([sys.executable, "-c", script], check=True, timeout=120)


def test_arrays_are_taken_as_they_are_or_not_at_all(made):
    assert (made.stretched(np.arange(6.0)[::2]) == [0, 6, 12]).all()  # with gaps
    assert (made.stretched(np.arange(3)) == [0, 3, 6]).all()  # whole numbers
    fixed = np.arange(3.0)
    fixed.setflags(write=False)
    assert (made.stretched(fixed) == 3 * fixed).all()
    assert made.stretched(np.zeros(0)).shape == (0,)
    with pytest.raises(TypeError, match="1 axes of float64"):
        made.stretched(np.zeros((2, 2)))
    with pytest.raises(TypeError, match="without gaps"):
        made.written(np.zeros(6)[::2])  # what it wrote would be lost
    found = np.zeros(3)
    made.written(found)
    assert (found == [0, 1, 2]).all()


def test_what_cannot_be_handed_over_is_told():
    def says(text: str) -> None: ...

    def mixed(pair: tuple[int, float]) -> ComplexRow: ...

    for python in (says, mixed):
        with pytest.raises(TypeError, match="cannot be handed to a loop"):
            signature_of(python)
