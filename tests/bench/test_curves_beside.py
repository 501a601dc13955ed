"""Figures of the walk beside each other: what was measured of each, and what is left less one of them."""

import numpy as np
import pytest

from jiyuu.bench.curves_beside import CURVES, Drawn, curves_beside, less
from jiyuu.bench.measured_beside import measured
from jiyuu.bench.report.from_book import shelved_of
from jiyuu.bench.run import Run, keep
from jiyuu.bench.standing import Standing
from jiyuu.bench.walk import step_named, walk
from jiyuu.book.store import Book
from jiyuu.book.table import Table
from jiyuu.circuits.filter_file import neutral_filter


@pytest.fixture
def book(tmp_path):
    made = Book.create(tmp_path / "voices.jiyuu")
    percents = {"A": np.linspace(0, 100, 11), "B": np.linspace(0, 100, 6)}
    for letter, name in (("A", "transistor-ladder"), ("B", "ota-cascade"), ("C", "diode-ladder")):
        document = neutral_filter(name)
        row = made.add_filter(letter, document, seed=1)
        if letter == "C":
            continue
        standing, x = Standing.of(document), percents[letter]
        table = Table.of("resonance", ("position_percent", "%", x), ("peak_db", "dB", 0.1 * x + (letter == "B")),
                         ("body_db", "dB", -0.05 * x))
        keep(made, row, Run("resonance", standing, step_named("resonance").setting(), (), (table,), {}, {}, "by hand"))
    yield made
    made.close()


def test_what_was_measured_of_each(book):
    found = curves_beside(book, [measured(book, shelved_of(book, letter)) for letter in "ABC"])
    assert set(found) == {"Peak over the resonance control", "Body over the resonance control"}  # the table has no Q
    first, second = found["Peak over the resonance control"]
    assert (first.letter, second.letter) == ("A", "B")
    assert first.x.size == 11
    assert second.y == pytest.approx(0.1 * second.x + 1)
    (apart,) = less([first, second], "A", log=False)
    assert apart.letter == "B"
    assert apart.y == pytest.approx(1.0)
    assert less([first, second], "C", log=False) == []


def test_differences_keep_to_where_both_are_known_and_their_doubts_add():
    base = Drawn("A", np.array([100.0, 1000.0]), np.array([0.0, -20.0]), np.array([0.3, 0.3]))
    other = Drawn("B", np.array([50.0, 100.0, 316.2278, 2000.0]), np.array([5.0, 1.0, 1.0, 1.0]), np.full(4, 0.4))
    (apart,) = less([base, other], "A", log=True)
    assert apart.x == pytest.approx([100.0, 316.2278])
    assert apart.y == pytest.approx([1.0, 11.0], abs=1e-4)  # half way in octaves
    assert apart.doubt == pytest.approx(0.5)


def test_every_figure_is_of_a_step_that_measures():
    measuring = {step.key for step in walk() if step.measures}
    assert {curve.step for curve in CURVES} <= measuring
    assert len({curve.title for curve in CURVES}) == len(CURVES)
