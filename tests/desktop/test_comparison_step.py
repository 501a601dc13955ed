"""The Comparison step: all filters at one cutoff, letters on measured scales, sentences about two of them."""

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from jiyuu.bench.run import keep
from jiyuu.bench.side_by_side import COMPARED_HZ
from jiyuu.character.blind import Task, right_answer
from jiyuu.character.scales import SCALES
from jiyuu.desktop.figures.character_scales import dodged
from jiyuu.rig.sound_output import StandInOutput
from jiyuu.signals.ceiling import CEILING_DB
from tests.bench.test_report import run_of
from tests.desktop.using import settled

OPENS_AT = "comparison"


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
    assert "less A" in step.level.captions.note
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
    assert "B:" in step.level.captions.note
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


@pytest.fixture
def blind(step, window):
    stand_in = StandInOutput()
    step.page_choice.button(2).click()
    step.blind.presenter.ear.output.make = lambda: stand_in
    step.blind.output = stand_in
    yield step.blind
    step.blind.presenter.leave()


def begun(blind, window, qtbot, task, trials):
    page = blind
    page.task.setCurrentText(str(task))
    page.task.activated.emit(page.task.currentIndex())
    page.trials.setValue(trials)
    page.begin.click()
    qtbot.waitUntil(lambda: page.presenter.ready, timeout=60_000)
    settled(window, qtbot)
    return page.presenter


def heard_all(presenter):
    for button in range(3):
        presenter.hear(button)


def test_a_series_is_fixed_heard_answered_and_kept(blind, window, qtbot):
    book, session = window.session.book, window.session
    presenter = begun(blind, window, qtbot, Task.ABX, 6)
    kept = session.kept()["blind"]
    assert kept["order"] == list(presenter.series.order)  # before the first was heard
    assert [button.text()[0] for button in blind.hear] == ["A", "B", "X"]
    presenter.answer(0)
    assert "Listen to all" in window.tidings.text()
    for trial in range(6):
        code = presenter.series.order[trial]
        heard_all(presenter)
        qtbot.waitUntil(lambda: bool(np.any(blind.output.heard[-480:])), timeout=20_000)
        presenter.answer(right_answer(Task.ABX, code) if trial else 1 - right_answer(Task.ABX, code))
        assert presenter.after == ("That was right." if trial else "That was not right.")
    assert "A and B are not told apart blind (ABX): 5 of 6 right" in blind.told.text()
    run, = book.runs(session.in_hand.id, "comparison")
    assert run.facts["blind"]["order"] == kept["order"]
    assert len(run.facts["blind"]["answers"]) == 6
    assert "blind" not in session.kept()
    (logged,) = book.findings_of_run(run.id)
    assert logged.finding.value == pytest.approx(100 * 5 / 6)
    assert np.abs(blind.output.heard).max() <= 10 ** (CEILING_DB / 20) + 1e-6


def test_buttons_play_what_they_stand_for(blind, window, qtbot):
    """Of two, what is X sounds like one and not like the other: the same samples, by their loudest lines."""
    presenter = begun(blind, window, qtbot, Task.ABX, 5)

    def sound(button):
        start = blind.output.heard.size + 14_400  # by what has sounded, not by the clock: faded in by then
        presenter.hear(button)
        qtbot.waitUntil(lambda: blind.output.heard.size > start + 9600, timeout=20_000)
        lines = np.abs(np.fft.rfft(blind.output.heard[start:][-9600:] * np.hanning(9600)))
        return np.log(lines[20:1200] + 1e-9)

    first, second, hidden = (sound(button) for button in range(3))
    apart = [float(np.mean((hidden - one) ** 2)) for one in (first, second)]
    assert int(np.argmin(apart)) == presenter.series.playing[2]
    assert min(apart) < 0.2 * max(apart)


def test_broken_off_it_counts_for_less_and_leaving_makes_silence(blind, step, window, qtbot):
    presenter = begun(blind, window, qtbot, Task.THREE, 12)
    assert not blind.hear[0].isChecked()
    QTest.keyClick(blind, Qt.Key.Key_2)
    assert blind.hear[1].isChecked()
    window.listening.play()
    assert presenter.heard is None  # one thing sounds at a time
    window.listening.silence()
    heard_all(presenter)
    presenter.answer(1)
    presenter.break_off()
    assert "Broken off after 1 of 12 trials: it counts for less." in presenter.result
    presenter.begin()
    qtbot.waitUntil(lambda: presenter.ready, timeout=60_000)
    presenter.hear(0)
    window.go("logbook")
    assert presenter.series is None
    assert presenter.heard is None


@pytest.mark.long
def test_an_ear_is_trained_and_its_history_kept(step, window, qtbot):
    """Answered by somebody who hears three just-noticeable differences and guesses wrong below."""
    page, output = step.trainer, StandInOutput()
    page.presenter.ear.output.make = lambda: output
    step.page_choice.button(3).click()
    page.topic.setCurrentText("cutoff")
    page.topic.activated.emit(page.topic.currentIndex())
    page.begin.click()
    presenter = page.presenter
    while presenter.stairs is not None:
        qtbot.waitUntil(lambda: presenter.ear.ready and presenter.question is not None, timeout=60_000)
        assert page.title.text().endswith("Which is open further?")
        asked = presenter.question
        for button in range(2):
            presenter.hear(button)
        presenter.answer(asked.more if asked.jnds > 3.0 else 1 - asked.more)
    assert 2.0 < presenter.before[0].jnds < 4.5
    assert f"tells cutoff from {presenter.before[0].jnds:.1f} just-noticeable differences" in page.told.text()
    assert page.more.text().startswith(f"Before: {presenter.before[0].jnds:.1f} on ")
    run = window.session.book.runs(window.session.in_hand.id, "comparison")[0]
    assert run.source == "ear trainer"
    assert min(jnds for jnds, _ in run.facts["trained"]["trail"]) >= 1.0
    page.begin.click()
    page.stop.click()
    assert "Too few turns" in page.told.text()
    presenter.leave()


@pytest.mark.long
def test_units_stand_beside_their_drawings_and_are_told_apart_as_measured(step, window, qtbot):
    chosen(step.form.choices["same"], "knob")
    settled(window, qtbot)
    drawn = step.findings.sentences()
    assert step.presenter.heading().startswith("B beside A, predicted")
    for letter in "AB":
        window.session.take_letter(letter)
        settled(window, qtbot)
        with qtbot.waitSignal(window.measuring.jobs.finished, timeout=120_000):
            QTest.keyClick(step.level, Qt.Key.Key_M)
        settled(window, qtbot)
        assert step.findings.sentences()[-1].startswith(("Resonant peak", "−3 dB"))
    window.session.take_letter("A")
    settled(window, qtbot)
    assert step.presenter.heading().startswith("B beside A, measured")
    said = step.findings.sentences()
    assert said[0].startswith("B ")
    assert said[: len(drawn)] != drawn
    table = step.scales.rows()
    body = {row[2]: row for row in table[1:] if row[0] == "Body"}
    assert body["C"][6] is None
    for letter in "AB":
        assert body[letter][6] == pytest.approx(body[letter][3], abs=1.5)  # a build of that drawing
        assert body[letter][6] != body[letter][3]
    (spoken,) = [line for line in step.scales.words() if line.startswith("Body")]
    assert spoken.count("measured") == 2
    # What was measured at a cutoff is not shown at another.
    window.session.change({"cutoff_hz": 1500.0})
    settled(window, qtbot)
    assert {row[2]: row[6] for row in step.scales.rows()[1:] if row[0] == "Body"}["A"] is None
    # A measured sentence can be kept.
    window.session.undo()
    settled(window, qtbot)
    step.findings.setCurrentRow(step.findings.count() - 1)
    step.keep_current()
    settled(window, qtbot)
    assert [logged.kept for logged in step.presenter.logged].count(True) == 1


@pytest.mark.long
def test_a_filter_stands_beside_itself_as_it_was_stored(window, qtbot):
    """Three revisions of one board."""
    window.session.take_letter("C")
    window.go("comparison")
    settled(window, qtbot)
    step = window.shown
    others = [step.beside.itemText(i) for i in range(step.beside.count())]
    assert others[-3:] == ["1  Revision 1 (stored)", "2  Revision 2 (stored)", "3  Revision 3 (stored)"]
    assert {"C", "1", "2", "3"} <= set(step.level.shown_names())
    assert step.level.curve("1").values == pytest.approx(step.level.curve("C").values, abs=1e-9)
    grit = {row[2]: row[3] for row in step.scales.rows()[1:] if row[0] == "Grit"}
    body = {row[2]: row[3] for row in step.scales.rows()[1:] if row[0] == "Body"}
    assert grit["1"] == pytest.approx(grit["C"])
    assert grit["2"] != pytest.approx(grit["1"], rel=0.01)
    assert body["3"] > body["2"] + 0.5  # some of the bass is given back
    chosen(step.beside, others[-1])
    settled(window, qtbot)
    assert step.presenter.heading().startswith("3 beside C, predicted")
    assert any(line.startswith("3 is") and "louder than C" in line for line in step.findings.sentences())
    # Called back, the filter in hand is that revision.
    window.session.change({"parameters": {"feedback_headroom_v": 0.4, "compensation": 0.5}})
    settled(window, qtbot)
    assert step.level.curve("3").values == pytest.approx(step.level.curve("C").values, abs=1e-9)


def test_any_figure_of_the_walk_for_all_letters(step, window, qtbot):
    page, session = step.curves, window.session
    for one in session.shelf[:2]:
        keep(session.book, one.id, run_of(session.standing(one), 900.0 if one.letter == "A" else 1300.0))
    step.page_choice.button(8).click()
    qtbot.waitUntil(lambda: bool(page.presenter.found))
    assert page.says.text() == "Measured of A, B."
    assert [row[0] for row in page.plot.rows()[1:]].count("A") > 50
    chosen(page.which, "Ring after a knock")
    assert "Not measured of any filter yet" in page.says.text()
    chosen(page.which, "Response")
    page.apart.click()
    rows = page.plot.rows()[1:]
    assert {row[0] for row in rows} == {"B"}
    near = min(rows, key=lambda row: abs(row[1] - 4000.0))
    level = [-10 * np.log10(1 + (near[1] / cutoff_hz) ** 8) for cutoff_hz in (900.0, 1300.0)]
    assert near[2] == pytest.approx(level[1] - level[0], abs=1e-6)
    assert page.plot.title == "Response, less A"
