"""What is compiled for controls and sources, against the same written out."""

import numpy as np
import pytest

from jiyuu.signals import sources
from jiyuu.signals.controls.segments import Segments
from jiyuu.signals.series_kernel import LANES, summed


def drawn(generator, count):
    """Pieces of every kind, and what each is at a time."""
    made, pieces = Segments(), []
    starts = np.sort(generator.uniform(0, 1, count))
    for start in starts:
        value, slope, goal = generator.normal(0, 2, 3)
        kind = generator.integers(3)
        if kind == 0:
            made.add(start, value)
            pieces.append(lambda t, v=value: v)
        elif kind == 1:
            made.add(start, value, slope=slope)
            pieces.append(lambda t, v=value, m=slope, s=start: v + m * (t - s))
        else:
            tau = float(generator.uniform(0.001, 0.2))
            made.add(start, value, goal=goal, tau_s=tau)
            pieces.append(lambda t, v=value, g=goal, s=start, tau=tau: g + (v - g) * np.exp(-(t - s) / tau))
    return made, starts, pieces


@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize("order", ["rising", "falling", "as they come"])
def test_pieces_are_what_they_are_in_whatever_order_they_are_asked(seed, order):
    generator = np.random.default_rng(seed)
    made, starts, pieces = drawn(generator, int(generator.integers(1, 30)))
    times = np.concatenate([generator.uniform(-0.2, 1.5, 400), starts, starts + 1e-9])
    if order != "as they come":
        times = np.sort(times)[:: 1 if order == "rising" else -1]
    true = [0.0 if t < starts[0] else pieces[int(np.searchsorted(starts, t, side="right")) - 1](t) for t in times]
    assert made.at(times) == pytest.approx(np.array(true), abs=1e-12)
    assert [made.value(float(t)) for t in times[:50]] == pytest.approx(true[:50], abs=1e-12)


def test_a_read_only_grid_with_gaps_is_read_as_well():
    made = Segments()
    made.add(0.0, 1.0, slope=2.0)
    grid = np.linspace(0, 1, 21)[::2]
    grid.setflags(write=False)
    assert made.at(grid) == pytest.approx(1 + 2 * grid)
    assert Segments().at(grid) == pytest.approx(0.0)


@pytest.mark.parametrize("count", [1, LANES - 1, LANES, LANES + 1, 1000])
@pytest.mark.parametrize("harmonics", [1, 2, 7, 300])
def test_a_series_is_the_sum_of_its_sines(count, harmonics):
    generator = np.random.default_rng([count, harmonics])
    phase, amounts = generator.uniform(-50, 50, count), generator.normal(0, 1, harmonics) / np.arange(1, harmonics + 1)
    true = np.sin(phase[:, np.newaxis] * np.arange(1, harmonics + 1)) @ amounts
    assert summed(phase, amounts) == pytest.approx(true, abs=1e-9)


@pytest.mark.parametrize("much", [0, 1 << 30])
def test_what_is_compiled_and_what_is_not_make_the_same_source(monkeypatch, much):
    monkeypatch.setattr(sources, "MUCH", much)
    made = sources.saw(97.0, level_v=1.0, duration_s=0.3, sample_rate_hz=48_000.0)
    t = np.arange(made.size) / 48_000
    harmonic = np.arange(1, int(24_000 / 97.0) + 1)
    true = np.sin(2 * np.pi * 97.0 * t[:, np.newaxis] * harmonic) @ ((-1.0) ** harmonic / harmonic)
    assert abs(np.corrcoef(made, true)[0, 1]) == pytest.approx(1.0, abs=1e-12)
