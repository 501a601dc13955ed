"""The Comparison step: all filters at one cutoff, letters on measured scales, sentences about two of them."""

import numpy as np
import pytest

from jiyuu.bench.side_by_side import COMPARED_HZ
from jiyuu.character.scales import SCALES
from jiyuu.desktop.figures.character_scales import dodged
from tests.desktop.using import settled


@pytest.fixture
def step(window, qtbot):
    for letter in "FED":  # three are enough to tell apart
        window.session.take_letter(letter)
        window.session.put_away()
    window.session.take_letter("A")
    window.go("comparison")
    settled(window, qtbot)
    return window.shown


def chosen(box, text):
    box.setCurrentText(text)
    box.textActivated.emit(text)


def ladder(hertz, cutoff_hz, gain):
    return 1 / ((1 + 1j * hertz / cutoff_hz) ** 4 + gain)


def test_letters_stand_where_they_measure(step, window, qtbot):
    assert step.level.shown_names() == ["A", "B", "C"]
    standing = window.session.standing()
    expected = 20 * np.log10(np.abs(ladder(COMPARED_HZ, standing.standing_hz, standing.gain)))
    assert step.level.curve("A").values == pytest.approx(np.maximum(expected, -120.0), abs=1e-6)
    table = step.scales.rows()
    assert len(table) == 1 + 3 * len(SCALES)
    kept = {row[2]: row[3] for row in table[1:] if row[0] == "Bass kept"}
    place = np.array([standing.standing_hz / 8])
    own = 20 * np.log10(np.abs(ladder(place, standing.standing_hz, standing.gain) / ladder(place, standing.standing_hz,
                                                                                          0.0)))
    assert kept["A"] == pytest.approx(own[0], abs=1e-5)
    (spoken,) = [line for line in step.scales.words() if line.startswith("Bass kept")]
    assert spoken.index("A ") < spoken.index("B ")  # a state variable keeps its bass
    assert step.scales.accessibleDescription().count(".") >= len(SCALES)
    # What is heard most comes first, and says which.
    said = step.findings.sentences()
    assert len(said) >= len(SCALES)
    assert said[0].startswith("B ")
    assert "heard (" in said[0]
    assert any("keeps" in line and "more bass than A" in line for line in said)

    step.apart.setChecked(True)
    assert step.level.curve("A").values == pytest.approx(0.0)
    assert "less A" in step.level.note()
    step.apart.setChecked(False)

    chosen(step.beside, step.beside.itemText(1))
    settled(window, qtbot)
    assert all(line.startswith("C ") or "A and C" in line for line in step.findings.sentences())
    window.session.undo()
    settled(window, qtbot)
    assert step.findings.sentences() == said

    # By peaks: the other one's knob turns, its peak comes to that of the one in hand.
    chosen(step.form.choices["same"], "peak")
    settled(window, qtbot)
    tops = {name: COMPARED_HZ[np.argmax(step.level.curve(name).values)] for name in ("A", "B")}
    assert tops["B"] == pytest.approx(tops["A"], rel=0.02)


def test_what_cannot_be_compared_says_why(step, window, qtbot):
    window.session.take_letter("B")
    window.session.change({"resonance_percent": 0.0})
    window.session.take_letter("A")
    step.presenter.ask(same="peak")
    settled(window, qtbot)
    assert step.level.shown_names() == ["A", "C"]
    assert "B:" in step.level.note()
    assert "no peak" in step.heading.text()
    assert step.findings.sentences() == []


def test_why_two_differ_adds_up(step, window, qtbot):
    (act,) = [act for act in step.acts if act.name == "why"]
    act.do()
    settled(window, qtbot)
    assert step.lower.currentWidget() is step.why
    reasons = step.presenter.reasons
    assert reasons.explained == pytest.approx(1.0, abs=1e-6)
    here, there = (step.presenter.seen.of(letter).character for letter in ("A", step.presenter.beside))
    names = {one.quantity for one in reasons.shares}
    assert 1 <= len(names) <= 7
    for name in names:
        assert sum(reasons.of(name).values()) == pytest.approx(there[name].value - here[name].value, rel=1e-6, abs=1e-9)
    assert len(step.why.words()) == 1 + len(names)
    # Another filter beside it: what was said of the one before is gone.
    chosen(step.beside, step.beside.itemText(1))
    settled(window, qtbot)
    assert step.presenter.reasons is None
    assert step.why.rows() == []


def test_letters_never_cover_each_other_and_stay_about_their_place():
    places = [10.0, 10.0, 11.0, 40.0, 41.0, 90.0]
    found = dodged(places, 8.0)
    assert (np.diff(found) >= 8.0 - 1e-9).all()
    assert np.mean(found[:3]) == pytest.approx(np.mean(places[:3]))
    assert found[5] == 90.0
