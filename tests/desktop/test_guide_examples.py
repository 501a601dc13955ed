"""The worked examples of the guide, done in the window on the demo book: every sentence quoted is said."""

import re
from importlib.resources import files

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from jiyuu.bench.combinations import COMBINATIONS
from jiyuu.bench.timeline import Kind
from jiyuu.bench.walk import walk
from tests.desktop.using import settled
from tests.trials import some

# The first has nothing to measure, the others take long.
LATER = ("logbook", "response", "comparison", "modulation", "resonance", "self_oscillation")
GUIDE = files("jiyuu.desktop").joinpath("guide.md").read_text(encoding="utf-8")


@pytest.fixture
def brisk():
    """Nothing is shortened: the numbers are quoted."""


def quoted(name):
    """The sentences of a section's example."""
    (section,) = re.findall(rf"(?ms)^## {re.escape(name)}$(.*?)(?=^## |\Z)", GUIDE)
    assert "**For example**" in section
    return [line[2:] for line in section.splitlines() if line.startswith("> ")]


def measure(step, window, qtbot):
    with qtbot.waitSignal(window.measuring.jobs.finished, timeout=120_000):
        QTest.keyClick(step.main_figure, Qt.Key.Key_M)


def highpass_ahead(step, window, qtbot):
    index = 1 + list(COMBINATIONS).index("band")
    step.stage_page.start.setCurrentIndex(index)
    step.stage_page.start.activated.emit(index)


def third_revision(step, window, qtbot):
    window.session.take_letter("C")
    settled(window, qtbot)
    step.presenter.put_beside("3")


DONE = {"setup": measure, "response": measure, "tracking": measure, "modulation": measure,
        "combination": highpass_ahead, "comparison": third_revision}


@pytest.mark.parametrize("which", [one.key for one in walk() if one.key not in LATER] + some(LATER[1:], 0, long=5))
def test_what_the_guide_quotes_is_said(which, window, qtbot):
    name = next(one.name for one in walk() if one.key == which)
    said = quoted(name)
    assert said
    window.go(which)
    settled(window, qtbot)
    if which in DONE:
        DONE[which](window.shown, window, qtbot)
        settled(window, qtbot)
    assert set(said) <= set(window.shown.findings.sentences())


def test_the_logbook_says_what_the_guide_quotes(measured_demo, tmp_path, open_window, qtbot):
    path = tmp_path / "demo.jiyuu"
    path.write_bytes(measured_demo.read_bytes())
    window = open_window(path)
    window.go("logbook")
    settled(window, qtbot)
    view = window.shown
    first = next(entry for entry in reversed(view.presenter.every)
                 if entry.kind is Kind.RUN and entry.letter == "A")
    view.presenter.look_at(first)
    assert all(line in view.told.text() for line in quoted("Logbook"))
    assert (first.at.day, first.at.month) == (2, 3)
    view.page_choice.button(1).click()
    assert "last less first +34" in view.over_time.words()[0]
