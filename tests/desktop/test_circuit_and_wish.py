"""Pages of the Comparison step: which circuit a unit is, which filter fits a wish, what was measured."""

import json

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog

from jiyuu.bench.over_sound import PLACES, Over
from jiyuu.bench.walk import step_named
from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.components import preferred
from jiyuu.circuits.linear import complex_gain
from jiyuu.wording.numbers import stated
from tests.desktop.using import settled

OPENS_AT = "comparison"


@pytest.fixture
def step(window, qtbot):
    for letter in "FEDC":
        window.session.take_letter(letter)
        window.session.put_away()
    window.session.take_letter("A")
    window.go("comparison")
    settled(window, qtbot)
    return window.shown


def cells(table):
    return [[table.item(i, j).text() for j in range(table.columnCount())] for i in range(table.rowCount())]


@pytest.mark.long
def test_one_press_tells_the_circuit_and_the_book_keeps_why(step, window, qtbot, monkeypatch):
    page = step.circuit
    step.page_choice.button(4).click()
    assert page.verdict.text() == "Which circuit is it?"
    assert not page.both.isVisible()
    with qtbot.waitSignal(window.measuring.jobs.finished, timeout=120_000):
        page.measure.click()
    settled(window, qtbot)
    assert page.verdict.text().startswith("Transistor ladder, lowpass-24: ")
    best, *_ = cells(page.table)
    assert best[0] == "100.0 %"
    assert best[2:4] == ["Transistor ladder", "lowpass-24"]
    assert not page.more.isVisible()
    assert len(page.left.rows()) > 100
    assert any("Transistor ladder, lowpass-24" in line for line in step.findings.sentences())
    run, = window.session.book.runs(window.session.in_hand.id, "comparison")
    heard, rate = window.session.book.record(run.id, "recording 2")
    assert np.abs(heard).max() > 0.5
    assert rate == 48_000
    # What is left open is asked for: the sweep that would tell is added.
    page.presenter.run.facts["identity"]["to_tell"] = [{"level_v": 5.0, "sentence": "A sweep at 5 V tells them apart."}]
    page.refresh()
    assert page.more.text() == "Measure at 5 V too"
    asked = []
    with monkeypatch.context() as patched:
        patched.setattr(window.measuring, "measure", lambda step, *, setting: asked.append(setting.levels_v))
        page.more.click()
    assert asked == [(0.1, 2.0, 5.0)]
    # Another filter has been told nothing yet; back again, and it stands there.
    window.session.take_letter("B")
    settled(window, qtbot)
    assert page.verdict.text() == "Which circuit is it?"
    window.session.take_letter("A")
    settled(window, qtbot)
    assert page.verdict.text().startswith("Transistor ladder")
    window.session.change({"resonance_percent": 100.0})
    page.measure.click()
    assert "turn resonance down" in window.tidings.text()


@pytest.mark.long
def test_recordings_are_asked_for_pair_by_pair(step, window, qtbot, tmp_path, monkeypatch):
    page, read = step.circuit, []
    step.page_choice.button(4).click()
    page.read.click()
    chooser = page.chooser
    assert not chooser.tell.isEnabled()
    names = [tmp_path / name for name in ("s0.wav", "r0.wav", "s1.wav", "r1.wav")]
    for i, path in enumerate(names):
        chooser.files[i].text.setText(str(path))
        assert chooser.tell.isEnabled() == bool(i % 2)  # not of half a pair
    monkeypatch.setattr(window.measuring, "read", lambda what, make: read.append((what, make)))
    chooser.files[4].text.setText(str(tmp_path / "whistle.wav"))
    chooser.tell.click()
    ((what, make),) = read
    assert what == "Which circuit"
    monkeypatch.undo()
    window.measuring.read(what, make)
    qtbot.waitUntil(lambda: "s0.wav does not exist" in window.tidings.text(), timeout=20_000)
    assert chooser.pairs() == [(names[0], names[1]), (names[2], names[3])]


def typed(page, row, column, text):
    page.wishes.item(row, column).setText(text)


@pytest.mark.long
def test_a_wish_is_met_by_what_comes_onto_the_shelf(step, window, qtbot, tmp_path, monkeypatch):
    page = step.wish
    step.page_choice.button(5).click()
    # To begin with it is wished as it is.
    assert [row[0] for row in cells(page.wishes)] == ["Cutoff, −3 dB, Hz", "Slope, dB/oct", "Peak level, dB"]
    typed(page, 0, 1, "1k2")
    typed(page, 0, 2, "12")
    typed(page, 2, 1, "6")
    typed(page, 1, 1, "−24")
    typed(page, 1, 2, "4")
    assert [row[1] for row in cells(page.wishes)] == ["1200", "−24", "6"]
    typed(page, 2, 2, "loud")
    assert "is not a number" in window.tidings.text()
    assert cells(page.wishes)[2][2] == "0.5"
    typed(page, 2, 2, "0")
    assert "wishes.2.tolerance" in window.tidings.text()
    page.series.setCurrentText("E24")
    page.series.textActivated.emit("E24")
    page.look.click()
    assert "Looking through" in page.says.text()
    qtbot.waitUntil(lambda: not page.presenter.busy, timeout=90_000)
    rows = cells(page.proposals)
    assert rows
    assert "% of builds meet every wish" in page.says.text()
    low, high = (float(part) for part in rows[0][0].split(" … "))
    assert 0 <= low <= high <= 100

    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, **__: (str(tmp_path / "it.cir"), ""))
    page.netlist.click()
    assert (tmp_path / "it.cir").read_text().splitlines()[-1] == ".end"
    before = len(window.session.shelf)
    page.shelve.click()
    settled(window, qtbot)
    shelved = window.session.in_hand
    assert len(window.session.shelf) == before + 1
    # Met by the closed form of what stands there now, of parts that are sold.
    standing = window.session.standing()
    hertz = np.geomspace(50, 20_000, 20_001)
    gain = np.abs(complex_gain(standing.network, hertz, cutoff_hz=standing.standing_hz, gain=standing.gain,
                               modes=[standing.mode])[0])
    half = hertz[np.flatnonzero(gain > gain[0] / np.sqrt(2))[-1]]
    assert half == pytest.approx(1200.0, abs=12.5)
    assert 20 * np.log10(gain.max() / gain[0]) == pytest.approx(6.0, abs=0.51)
    parts = shelved.document.components
    assert preferred(parts.capacitor_f, "E24") == pytest.approx(parts.capacitor_f)
    assert circuit(shelved.document.circuit).title in rows[0]


@pytest.mark.long
def test_wishes_are_acts_and_files(step, window, qtbot, tmp_path, monkeypatch):
    page = step.wish
    step.page_choice.button(5).click()
    page.more.setCurrentIndex(page.more.findText("Grit, %"))
    page.more.activated.emit(page.more.currentIndex())
    assert [row[0] for row in cells(page.wishes)][-1] == "Grit, %"
    page.more.activated.emit(page.more.findText("Grit, %"))
    assert "wished twice" in window.tidings.text()
    window.session.undo()
    assert len(cells(page.wishes)) == 3
    page.spread.setText("2,5")
    page.spread.editingFinished.emit()
    path = tmp_path / "mine.wish.json"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, **__: (str(path), ""))
    page.wishes.setCurrentCell(1, 0)
    page.remove.click()
    page.save.click()
    assert json.loads(path.read_text())["parts"] == {"series": "E12", "capacitor_percent": 2.5}
    window.session.undo()
    assert len(cells(page.wishes)) == 3
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_, **__: (str(path), ""))
    page.open.click()
    assert len(cells(page.wishes)) == 2
    for _ in range(3):
        page.presenter.remove(0)
    assert "One wish must stand" in window.tidings.text()
    # What nothing meets is named, and is not said of other wishes.
    page.presenter.change_quantity(0, "slope_db_per_octave")
    typed(page, 0, 1, "-60")
    page.look.click()
    qtbot.waitUntil(lambda: not page.presenter.busy, timeout=90_000)
    assert cells(page.proposals) == []
    assert not page.shelve.isEnabled()
    assert "slope_db_per_octave" in page.says.text()
    typed(page, 0, 1, "-24")
    assert page.says.text().startswith("Which filter fits?")


@pytest.mark.long
def test_what_was_measured_stands_beside_each_other(step, window, qtbot):
    page = step.measured
    step.page_choice.button(6).click()
    settled(window, qtbot)
    assert page.says.text().startswith("Nothing is measured yet")
    for letter in "AB":
        window.session.take_letter(letter)
        with qtbot.waitSignal(window.measuring.jobs.finished, timeout=60_000):
            window.measuring.measure(step_named("response"))
    window.session.take_letter("A")
    settled(window, qtbot)
    qtbot.waitUntil(lambda: page.table.rowCount() > 8, timeout=20_000)
    heads = [page.table.horizontalHeaderItem(j).text() for j in range(page.table.columnCount())]
    assert heads == ["Quantity", "A", "B", "Difference", "What of it"]
    rows = {row[0]: row for row in cells(page.table)}
    (run,) = window.session.book.runs(window.session.in_hand.id, "response")
    own = {logged.finding.quantity: logged.finding for logged in window.session.book.findings_of_run(run.id)}
    assert rows["Peak level, dB"][1] == stated(own["peak_db"].value, own["peak_db"].uncertainty)
    assert rows["Passband, dB"][4] == "heard"
    assert not any("Latency" in name for name in rows)
    # The same filter on that day and now: one run is both.
    page.which.setCurrentIndex(1)
    page.which.activated.emit(1)
    settled(window, qtbot)
    qtbot.waitUntil(lambda: page.table.horizontalHeaderItem(2).text() == "A, newest", timeout=20_000)
    assert {row[4] for row in cells(page.table)} == {"not measured to differ"}


@pytest.mark.long
def test_what_is_heard_over_pitch_is_shown_and_a_verdict_written(step, window, qtbot, monkeypatch):
    monkeypatch.setitem(PLACES, Over.PITCH, np.array([110.0, 440.0]))
    monkeypatch.setitem(PLACES, Over.RESONANCE, np.array([0.0, 50.0]))
    page = step.over
    step.page_choice.button(7).click()
    qtbot.waitUntil(lambda: not page.presenter.busy and Over.PITCH in page.presenter.found, timeout=60_000)
    rows = page.plot.rows()
    assert [row[0] for row in rows[1:]] == ["A", "A", "B", "B"]
    assert rows[1][2] == pytest.approx(step.presenter.seen.of("A").character["brightness"].value)
    assert "brighter than" in page.says.text()
    page.name.setCurrentIndex(page.name.findData("body"))
    page.name.activated.emit(page.name.currentIndex())
    assert "fuller than" in page.says.text()
    # Over the control other quantities move as well; what is not known of it is not offered elsewhere.
    page.over.setCurrentIndex(page.over.findData(Over.RESONANCE))
    page.over.activated.emit(page.over.currentIndex())
    assert page.name.findData("bass_kept") >= 0
    qtbot.waitUntil(lambda: not page.presenter.busy and Over.RESONANCE in page.presenter.found, timeout=120_000)
    page.name.setCurrentIndex(page.name.findData("bass_kept"))
    page.name.activated.emit(page.name.currentIndex())
    assert page.says.text().startswith("B keeps more bass than A at 50 %")
    page.over.setCurrentIndex(page.over.findData(Over.PITCH))
    page.over.activated.emit(page.over.currentIndex())
    assert page.name.findData("bass_kept") < 0

    (act,) = [act for act in step.acts if act.name == "verdict"]
    act.do()
    aside = step.verdict
    assert not aside.write.isEnabled()
    aside.words.setPlainText("B for the harbour side")
    first = aside.carry.item(0)
    first.setCheckState(Qt.CheckState.Checked)
    aside.write.click()
    (note,) = [note for note in window.session.book.notes() if note.text.startswith("Verdict")]
    assert note.text == f"Verdict, B beside A: B for the harbour side. Carried by: {first.text()}"
    assert note.filter_id == window.session.in_hand.id
    window.undo()
    assert not any(note.text.startswith("Verdict") for note in window.session.book.notes())
