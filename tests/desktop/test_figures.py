"""Where names of curves stand, and pages that are made when they are opened."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QLabel

from jiyuu.desktop.figures.labels import TURN_PX, place_labels
from jiyuu.desktop.figures.layer import Label
from jiyuu.desktop.parts.later_pages import LaterPages

WIDE, HIGH = 800, 300
X = np.linspace(0, 1, 2001)


def placed(curves, marks=(), nameless=()):
    """Pixels from the left at which the name of each curve stands, in a view from 0 to 1 and from −1 to 1."""
    labels = {name: Label(name, QColor("black"), QPointF(0, 0)) for name in curves if name not in nameless}
    curves = {name: (X, heights) for name, heights in curves.items()}
    place_labels(labels, curves, ((0.0, 1.0), (-1.0, 1.0)), (WIDE, HIGH), marks)
    assert all(label.shown for label in labels.values())
    return {name: label.place.x() * WIDE for name, label in labels.items()}


def test_a_name_stands_on_no_mark_where_another_place_would_do():
    """Its curve is farther from the other one at the mark than anywhere else, where there is room for a name too."""
    other = -0.2 * np.ones(X.size)
    bump = 0.5 * np.exp(-((X - 0.5) / 0.08) ** 2)
    usual = placed({"C": bump, "A": other})["C"]
    for mark in (usual, usual - 5, usual + 5):
        assert abs(placed({"C": bump, "A": other}, [mark])["C"] - mark) > 8


@pytest.mark.parametrize("periods", [1, 3, 4])
def test_a_name_covers_no_turn_of_a_wave(periods):
    wave = 0.8 * np.sin(2 * np.pi * periods * X)
    turns = (np.arange(2 * periods) + 0.5) / (2 * periods) * WIDE
    assert np.abs(placed({"output": wave})["output"] - turns).min() > TURN_PX + 10


def test_a_name_covers_no_curve_that_has_none_where_another_place_would_do():
    """The ground of a name, half a line of text and more in height, would cut a gap into it."""
    own = np.zeros(X.size)
    usual = placed({"morph": own})["morph"]
    measured = 0.05 * np.ones(X.size)  # 8 pixels off, but for a quarter of the width far from where the name would be
    far = (X > 0.6) if usual < 0.5 * WIDE else (X < 0.4)
    measured[far] = 0.6
    found = placed({"morph": own, "measured": measured}, nameless=["measured"])["morph"]
    assert far[int(found / WIDE * 2000)]
    everywhere = 0.05 * np.ones(X.size)
    everywhere[:20] = 0.6
    assert placed({"morph": own, "measured": everywhere}, nameless=["measured"])["morph"] == usual


def test_a_curve_without_points_has_no_name_and_is_in_nobodys_way():
    labels = {name: Label(name, QColor("black"), QPointF(0, 0)) for name in ("one", "none")}
    nothing = np.zeros(0)
    curves = {"one": (X, 0.1 * X), "none": (nothing, nothing), "nor this": (nothing, nothing)}
    place_labels(labels, curves, ((0.0, 1.0), (-1.0, 1.0)), (WIDE, HIGH), ())
    assert {name: label.shown for name, label in labels.items()} == {"one": True, "none": False}


def test_among_marks_everywhere_it_stands_between_two():
    marks = np.arange(0, WIDE + 1, 80.0)
    found = placed({"measured": 0.1 * X}, marks)["measured"]
    assert np.abs(found - marks).min() > 30


def test_pages_are_made_when_they_are_opened(qtbot):
    made = []

    def page(name):
        def make():
            made.append(name)
            return QLabel(name)

        return make

    pages = LaterPages(page("first"), page("second"), page("third"))
    qtbot.addWidget(pages)
    assert made == ["first"]
    for index, name in ((2, "third"), (0, "first"), (1, "second"), (2, "third")):
        pages.setCurrentIndex(index)
        assert pages.currentIndex() == index
        assert pages.currentWidget().text() == name
        assert pages.count() == 3
    assert made == ["first", "third", "second"]
    assert [one.text() for one in pages.made] == ["first", "second", "third"]
