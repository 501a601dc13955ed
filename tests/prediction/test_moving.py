"""What moves and what sounds, against lines and notes that are known."""

import numpy as np
import pytest

from jiyuu.bench.patched import patch_of
from jiyuu.bench.standing import Standing
from jiyuu.bench.starting_points import STARTING_POINTS
from jiyuu.circuits.filter_file import Filter
from jiyuu.prediction.moving import RATE_HZ, between, moves_of, spectrogram

STANDING = Standing.of(Filter(name="Fog voice A", circuit="transistor-ladder", cutoff_hz=220.0, resonance_percent=40.0))


def from_point(key):
    point, setup = STARTING_POINTS[key], STANDING.setup
    return patch_of(STANDING.moved(setup=setup.changed(**point.make(setup.in_hand))), "made up")


def test_a_line_stands_where_it_sounds_at_its_level():
    t = np.arange(2 * RATE_HZ) / RATE_HZ
    sound = 0.5 * np.sin(2 * np.pi * 1234.0 * t) + 0.05 * np.sin(2 * np.pi * 61.0 * t)
    times, hertz, level = spectrogram(sound, RATE_HZ)
    assert np.diff(np.log2(hertz)) == pytest.approx(np.full(hertz.size - 1, 1 / 24))
    middle = level[:, times.size // 2]
    assert abs(np.log2(hertz[middle.argmax()] / 1234.0)) < 1 / 24
    assert middle.max() == pytest.approx(20 * np.log10(0.5), abs=1.5)
    low = hertz < 200
    assert middle[low].max() == pytest.approx(20 * np.log10(0.05), abs=2.5)


def test_notes_are_those_of_the_figure():
    patch = from_point("tide")
    moves = moves_of(patch, 8 * 0.18)
    assert [round(12 * note.octaves) for note in moves.notes] == [0, 0, 12, 0, 3, 10, 7]
    assert [note.accent for note in moves.notes] == [True, False, False, True, False, True, False]
    assert [note.slide for note in moves.notes] == [False, False, True, False, False, True, False]
    assert [note.start_s for note in moves.notes] == pytest.approx([0.18 * i for i in (0, 1, 2, 3, 4, 6, 7)])


@pytest.mark.parametrize("key", list(STARTING_POINTS))
def test_every_starting_point_moves_the_cutoff_within_its_stops(key):
    moves = moves_of(from_point(key), 4.0)
    span = moves.span("filter.cutoff")
    assert span.greatest > 1.5 * span.least
    assert span.stopped_share == 0
    assert set(moves.values) == {target.name for target in moves.targets}
    assert all(np.isfinite(curve).all() for curve in (*moves.controls.values(), *moves.values.values()))


def test_stretched_between_other_bounds_it_is_what_other_amounts_make():
    """A triangle of ±1.5 octaves about 220 Hz, to ±2 about 400."""
    moves = moves_of(from_point("swing"), 4.0)
    stretched = between(moves, "filter.cutoff", 100.0, 1600.0)
    octaves = np.log2(moves.wanted["filter.cutoff"] / 220.0)
    assert stretched.values["filter.cutoff"] == pytest.approx(400.0 * 2 ** (octaves / 1.5 * 2), rel=1e-9)
    cut = between(moves, "filter.cutoff", 8.0, 1600.0)
    assert cut.span("filter.cutoff").least == 16.0
    assert cut.span("filter.cutoff").stopped_share > 0.05
