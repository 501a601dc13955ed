"""The signal path as an editor: by hand and by key, undone, saved and opened again, and used like a filter."""

import json

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog, QLabel

from jiyuu.prediction.response import GRID_HZ
from tests.desktop.using import measured, settled, typed
from tests.patch.making import gain_of

INTO_A_BOX = QPoint(12, 10)
CONTROL = Qt.KeyboardModifier.ControlModifier


@pytest.fixture
def path(window):
    window.session.take_letter("A")
    window.path.strip.setFocus()
    return window.path


def names(path):
    return [path.presenter.shown.boxes[item].name for item in path.presenter.shown.order]


def choose(path, words):
    order = path.presenter.shown.order
    item = next(item for item in order if words in path.presenter.shown.boxes[item].name)
    QTest.mouseClick(path.strip, Qt.MouseButton.LeftButton, pos=path.strip.rect_of(item).topLeft() + INTO_A_BOX)


def test_a_stage_is_added_set_switched_off_moved_taken_out_and_all_of_it_undone(window, path):
    before = names(path)
    session = window.session
    choose(path, "filter at")
    path.presenter.add("gain")
    assert window.side.currentWidget() is path.panel
    typed(path.panel.forms[0].numbers["db"], "6")
    typed(path.panel.name, "push")
    assert names(path)[2:4] == ["filter at 820.0 Hz", "push: gain +6.0 dB"]
    volts = float(path.presenter.shown.boxes[1,].text.split()[0])
    path.strip.setFocus()
    QTest.keyClick(path.strip, Qt.Key.Key_Space)
    assert path.presenter.shown.boxes[1,].text == "off"
    QTest.keyClick(path.strip, Qt.Key.Key_Space)
    QTest.keyClick(path.strip, Qt.Key.Key_Left, CONTROL)
    assert names(path)[2:4] == ["push: gain +6.0 dB", "filter at 820.0 Hz"]
    assert float(path.presenter.shown.boxes[0,].text.split()[0]) == pytest.approx(
        10**0.3 * float(path.presenter.shown.boxes["source"].text.split()[0]), rel=2e-3)
    assert volts > 0
    QTest.keyClick(path.strip, Qt.Key.Key_Delete)
    assert names(path) == before
    after = [session.undo() and names(path) for _ in range(7)]
    assert after[0][2:4] == ["push: gain +6.0 dB", "filter at 820.0 Hz"]
    assert after[-1] == before
    QTest.keyClick(path.strip, Qt.Key.Key_Escape)
    assert window.side.currentWidget() is window.shown.side


def test_what_cannot_be_is_said_and_not_taken(window, path):
    said = []
    path.presenter.message.connect(lambda text, error: said.append((text, error)))
    path.presenter.add("gain")
    choose(path, "gain")
    path.presenter.add("feedback")
    assert "no time to go round" in said[-1][0]
    assert said[-1][1]
    assert len(window.session.standing().setup.path) == 2
    choose(path, "filter at")
    QTest.keyClick(path.strip, Qt.Key.Key_Delete)
    assert "must stay in its path" in said[-1][0]
    QTest.keyClick(path.strip, Qt.Key.Key_Space)
    assert "cannot be switched off" in said[-1][0]
    choose(path, "gain")
    typed(path.panel.forms[0].numbers["db"], "999")
    assert "out of range" in said[-1][0]
    choose(path, "next module")
    QTest.keyClick(path.strip, Qt.Key.Key_Delete)
    assert "Choose a stage" in said[-1][0]


def test_a_loop_says_where_it_rings_and_the_filters_whistle_moves_with_it(window, path):
    choose(path, "filter at")
    path.presenter.add("feedback")
    typed(path.panel.forms[0].numbers["amount"], "-0.6")
    # Round a ladder with loop gain k an amount a makes (1 + s)⁴ + k − a: it rings at k − a = 4.
    gain = window.session.standing().gain
    said = next(label for label in path.panel.findChildren(QLabel)
                if label.accessibleName() == "Stability of the loop")
    assert said.text().startswith(f"Stable; from −{4 - gain:.3g} it rings at 820")
    assert window.session.standing().onset.gain == pytest.approx(3.4, rel=1e-9)
    path.panel.forms[1].choices["kind"].textActivated.emit("tanh")
    assert window.session.standing().setup.path[0].through.kind == "tanh"
    path.panel.forms[1].choices["kind"].textActivated.emit("none")
    assert window.session.standing().setup.path[0].through is None


def test_branches_are_made_and_set(window, path):
    choose(path, "filter at")
    path.presenter.beside_dry()
    choose(path, "2 branches")
    typed(path.panel.forms[2].numbers["level_db"], "-12")
    path.panel.forms[2].choices["polarity"].textActivated.emit("inverted")
    stage = window.session.standing().setup.path[0]
    assert [(limb.level_db, limb.polarity) for limb in stage.branches] == [(-6.0, 1), (-12.0, -1)]
    path.presenter.set_member("branches", 2)
    assert len(path.panel.forms) == 6
    path.presenter.set_member("branches", 2, gone=True)
    path.presenter.open_up()
    assert window.session.standing().setup.path == ()


@pytest.mark.long
def test_another_filter_behind_it_answers_as_the_product_and_is_measured(window, path, qtbot):
    choose(path, "filter at")
    path.presenter.add("filter")
    path.panel.circuit.setCurrentText("State variable")
    path.panel.circuit.activated.emit(path.panel.circuit.currentIndex())
    path.panel.mode.textActivated.emit("highpass")
    form = path.panel.forms[0]
    typed(form.numbers["cutoff_hz"], "200")
    typed(form.numbers["resonance_percent"], "0")
    standing = window.session.standing()
    other = standing.setup.path[1]
    assert (other.filter, other.mode, other.cutoff_hz, other.resonance_percent) == (
        "state-variable", "highpass", 200.0, 0.0)
    own = {"stage": "filter", "filter": "transistor-ladder", "mode": "lowpass-24", "cutoff_hz": standing.standing_hz,
           "resonance_gain": standing.gain}
    behind = {"stage": "filter", "filter": "state-variable", "mode": "highpass", "cutoff_hz": 200.0,
              "resonance_gain": 0.0}
    expected = 20 * np.log10(np.abs(gain_of([own, behind], GRID_HZ)))
    window.go("response")
    with qtbot.waitSignal(window.shown.presenter.predicted) as shown:
        window.shown.presenter.refresh()
    settled(window, qtbot)
    (drawn,) = shown.args
    assert drawn.level_db[drawn.chosen] == pytest.approx(expected, abs=0.005)
    # The kernel of the catalogue's circuit alone does not do: the whole path is measured, as one unit.
    measured(window, qtbot)
    found = {logged.finding.quantity: logged.finding for logged in window.shown.presenter.logged}
    peak = GRID_HZ[int(expected.argmax())]
    assert found["peak_hz"].value == pytest.approx(peak, rel=0.08)
    assert "low_3db_hz" in found or "cutoff_3db_hz" in found
    path.presenter.choose((1,))
    path.presenter.remove()
    assert "signal path is another" in window.shown.presenter.stale_why


def test_a_patch_is_opened_shown_with_its_letter_saved_and_opened_again(window, path, tmp_path, monkeypatch):
    told = {"format": "jiyuu-patch", "version": 1, "name": "Ebb and flow",
            "sources": [{"kind": "square", "pitch_hz": 55.0, "level_v": 4.0}],
            "path": [{"stage": "gain", "id": "level", "db": 6.0},
                     {"stage": "filter", "id": "first", "filter": "transistor-ladder", "cutoff_hz": 300.0,
                      "resonance_gain": 3.2}, {"stage": "shape", "id": "after", "headroom_v": 2.0}],
            "controls": {"tide": {"kind": "envelope", "decay_s": 0.4}},
            "routes": [{"from": "tide", "to": "first.cutoff", "amount": 3.0}],
            "figure": {"root_hz": 55.0, "steps": [{"semitones": 0}, {"semitones": 12}]}}
    given = tmp_path / "ebb.patch.json"
    given.write_text(json.dumps(told), encoding="utf-8")
    window.files.open([given])
    session = window.session
    assert (session.in_hand.letter, session.in_hand.document.name) == ("G", "Ebb and flow")
    standing = session.standing()
    assert standing.gain == pytest.approx(3.2)
    assert (standing.setup.drive_db, standing.setup.inputs[0].pitch_hz) == (6.0, 55.0)
    assert "after: soft curve 2 V" in names(path)
    written = tmp_path / "again.patch.json"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(written), ""))
    window.files.save_patch()
    again = json.loads(written.read_text(encoding="utf-8"))
    assert again["routes"][0]["to"] == "first.cutoff"
    assert [stage["stage"] for stage in again["path"]] == ["gain", "filter", "shape"]
    window.files.open([written])
    assert session.in_hand.letter == "H"
    assert session.standing().setup.path == standing.setup.path
    window.undo()
    assert session.in_hand.letter != "H"


def test_by_keys_alone(window, path):
    strip = path.strip
    QTest.keyClick(strip, Qt.Key.Key_Right)
    QTest.keyClick(strip, Qt.Key.Key_Right)
    assert path.presenter.chosen == "level"
    QTest.keyClick(strip, Qt.Key.Key_Return)
    field = path.panel.forms[0].numbers["drive_db"]
    assert window.focusWidget() is field
    typed(field, "3")
    assert window.session.standing().setup.drive_db == 3
    for action in path.panel.add.menu().actions()[:2]:
        action.trigger()
    assert [stage.stage for stage in window.session.standing().setup.path] == ["gain", "shape", "filter"]
    window.go("setup")
    assert window.side.currentWidget() is window.shown.side
    assert path.presenter.chosen is None


def test_a_branch_is_given_a_source_of_its_own_and_what_comes_in_again(window, path):
    choose(path, "filter at")
    path.presenter.add("parallel")
    own = path.panel.forms[3]  # of the second branch
    assert not own.numbers["pitch_hz"].isEnabled()
    own.choices["kind"].textActivated.emit("square")
    typed(own.numbers["pitch_hz"], "55")
    typed(own.numbers["level_v"], "2")
    (source,) = window.session.standing().setup.path[1].branches[1].sources
    assert (source.kind, source.pitch_hz, source.level_v) == ("square", 55.0, 2.0)
    box = path.presenter.shown.boxes[1, 1]
    assert (box.name, box.text) == ("own source, square 55.00 Hz", "2 V")
    assert "own source" in path.presenter.shown.words
    choose(path, "filter at")
    QTest.mouseClick(path.strip, Qt.MouseButton.LeftButton, pos=path.strip.rect_of((1, 1)).topLeft() + INTO_A_BOX)
    assert path.presenter.chosen == (1,)  # its fields are the branch's
    path.panel.forms[3].choices["kind"].textActivated.emit("what comes in")
    assert window.session.standing().setup.path[1].branches[1].sources == ()
    assert (1, 1) not in path.presenter.shown.boxes
    window.session.undo()
    assert window.session.standing().setup.path[1].branches[1].sources != ()


def test_beside_the_filter_in_hand_no_branch_has_a_source_of_its_own(window, path, qtbot):
    choose(path, "filter at")
    path.presenter.beside_dry()
    choose(path, "2 branches")
    before = window.session.standing().setup
    with qtbot.waitSignal(path.presenter.message) as said:
        path.panel.forms[3].choices["kind"].textActivated.emit("saw")
    assert "ahead of it or behind it" in said.args[0]
    assert window.session.standing().setup == before
