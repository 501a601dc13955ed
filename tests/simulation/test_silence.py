"""In silence everything dies: to nothing at all, not into the numbers next to nothing that processors are slow at."""

import numpy as np
import pytest

from jiyuu.circuits.catalogue import circuit, circuits
from jiyuu.patch.shapes import Band, Shapes, ShapeSetting, coefficients_of
from jiyuu.signals.controls.follower_kernel import follow
from jiyuu.signals.long_record import Record
from jiyuu.simulation.comb import Moves, through_comb
from jiyuu.simulation.kernel_source import LANES
from jiyuu.simulation.kernels import integrate
from jiyuu.simulation.moving_sections import through_sections

RATE_HZ, TINY = 48_000, np.finfo(float).tiny


def sound(note_s=0.05, silence_s=3.0):
    note = np.random.default_rng(4).normal(0, 0.1, round(note_s * RATE_HZ))
    return np.concatenate([note, np.zeros(round(silence_s * RATE_HZ))])


def has_died(output):
    """It has sounded, it is over, and nothing of it is a number next to nothing."""
    sounded, last = np.abs(output[: RATE_HZ // 20]).max(), np.abs(output[-100:]).max()
    return sounded > 1e-3 and last < 1e-12 and not ((output != 0) & (np.abs(output) < TINY)).any()


@pytest.mark.parametrize("lanes", [1, LANES])
@pytest.mark.parametrize("circuit_id", circuits())
def test_what_was_played_into_a_filter_dies(circuit_id, lanes):
    entry = circuit(circuit_id)
    headroom = next(p.name for p in entry.parameters if "headroom" in p.name)
    networks = [entry.network({headroom: 0.5 + 0.1 * i}) for i in range(lanes)]
    out, states = integrate(
        networks, u_v=np.repeat(sound(), 2)[1:, np.newaxis], omega=np.full((1, 1), 2 * np.pi * 4000.0),
        gain=np.full((1, 1), 0.1), half_step_s=0.5 / RATE_HZ, rows=[0])
    assert has_died(out[0, :, -1])
    assert not ((states != 0) & (np.abs(states) < TINY)).any()


def test_what_was_played_into_moving_stages_dies():
    played = Record.of(sound())
    steady = Moves(lambda t: np.full(t.size, 900.0), lambda t: np.full(t.size, 0.1), lambda t: np.ones(t.size))
    assert has_died(through_comb(played, RATE_HZ, steady, damping_hz=2000.0).whole())
    bands = [(Band(kind="peak", frequency_hz=700.0, gain_db=gain_db, q=2.0),) for gain_db in (3.0, 6.0)]
    shapes = Shapes(stage="shapes", morph=0.5, settings=tuple(
        ShapeSetting(name=name, bands=one) for name, one in zip("ab", bands, strict=True)))
    moving = through_sections(played, RATE_HZ, lambda t: coefficients_of(shapes.at([np.full(t.size, 0.5)])))
    assert has_died(moving.whole())
    assert has_died(follow(np.abs(sound()), 0.5, 0.99, 0.0))
