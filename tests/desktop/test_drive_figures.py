"""The figures of the Drive step by themselves: what they say does not cover each other, however wide they are."""

from itertools import combinations

import numpy as np
import pytest

from jiyuu.desktop.figures.drive_figures import BendFigure
from jiyuu.desktop.figures.harmonic_bars import HarmonicBars
from tests.desktop.test_figures import pixels

MARKS = [("lamp, 3 % 1.56 V", 1.56), ("1 dB compressed 13 V", 13.0), ("1 % THD 0.669 V", 0.669)]


@pytest.mark.parametrize("wide", [420, 600, 900, 1500])
def test_marks_stand_beside_the_title_and_each_other(qtbot, wide):
    figure = BendFigure()
    qtbot.addWidget(figure)
    figure.resize(wide, 300)
    figure.show()
    qtbot.waitExposed(figure)
    figure.show_marks(MARKS)
    figure.resize(wide + 60, 310)
    qtbot.wait(20)
    assert figure.marks() == ["1 % THD 0.669 V", "lamp, 3 % 1.56 V", "1 dB compressed 13 V"]
    places = [ground.adjusted(4, 4, -4, -4) for ground in figure.said_px()]  # without the ground about the letters
    assert len(places) == 4
    assert not any(one.intersects(other) for one, other in combinations(places, 2))
    assert all(0 < place.center().y() < 100 for place in places)


def test_a_heading_of_two_lines_leaves_the_next_one_free(qtbot):
    bars = HarmonicBars()
    qtbot.addWidget(bars)
    levels = np.full(20, -100.0)

    def heading(beside, lines):
        bars.show_bars(levels, "at 5 V", beside_db=levels if beside else None, beside="soft, behind")
        return pixels(bars)[: 20 + 14 * lines]

    for wide, lines in ((96, 2), (300, 1)):
        bars.resize(wide, 300)
        alone = heading(False, lines)
        end = int(np.flatnonzero(alone.min(axis=(1, 2)) < 140)[-1]) + 1
        assert 16 * lines - 8 < end < 16 * lines + 6
        assert (heading(True, lines)[:end] == alone[:end]).all(), wide
        assert (heading(True, lines)[end:] != alone[end:]).any(), wide
