"""The window by the keyboard alone: out of tables, letters where their effect is seen, undo in the hand's own acts."""

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QTableWidget

from jiyuu.bench.walk import StepState, step_named
from jiyuu.book.store import Book
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.remembered import set_keys
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.presenter import StepPresenter
from tests.desktop.using import settled


def test_a_table_gives_tab_back(window, qtbot):
    window.go("logbook")
    for table in window.findChildren(QTableWidget):
        assert not table.tabKeyNavigation()


def test_single_letters_act_only_where_their_effect_is_seen(window, qtbot):
    view = window.view("response")
    view.cutoff.setFocus()
    QTest.keyClicks(view.cutoff, "mkb")
    assert not window.measuring.jobs.busy
    assert not view.band.isChecked()
    QTest.keyClick(view.cutoff, Qt.Key.Key_Escape)
    view.mode.setFocus()
    QTest.keyClicks(view.mode, "mbp")
    assert not window.measuring.jobs.busy
    assert not view.band.isChecked()
    assert not window.listening.playing
    view.level.setFocus()
    QTest.keyClick(view.level, Qt.Key.Key_B)
    assert view.band.isChecked()
    QTest.keyClick(view.level, Qt.Key.Key_B)
    settled(window, qtbot)


def test_letters_can_be_changed_and_turned_off(window, qtbot):
    view = window.view("response")
    set_keys("builds", "F7")
    window.menus.preferences.changed.emit()
    view.level.setFocus()
    QTest.keyClick(view.level, Qt.Key.Key_B)
    assert not view.band.isChecked()
    QTest.keyClick(view.level, Qt.Key.Key_F7)
    assert view.band.isChecked()
    QTest.keyClick(view.level, Qt.Key.Key_F7)
    set_keys("builds", None)
    settled(window, qtbot)


def test_presses_that_follow_each_other_are_one_act_and_undo_says_what_it_did(window, qtbot):
    level = window.view("response").level
    for _ in range(10):
        QTest.keyClick(level, Qt.Key.Key_Right)
    assert window.session.standing().cutoff_hz == pytest.approx(820 * 2 ** (10 / 12), rel=1e-4)
    window.undo()
    assert window.session.standing().cutoff_hz == 820.0
    assert window.tidings.text().startswith("Undone on A: cutoff")
    settled(window, qtbot)


def test_a_filter_taken_away_comes_back_with_all_that_was_measured(window, qtbot):
    before = len(window.session.shelf)
    window.files.put_filter_away()
    assert len(window.session.shelf) == before - 1
    window.undo()
    assert len(window.session.shelf) == before
    settled(window, qtbot)


def test_one_measurement_at_a_time_and_closing_waits_for_none(window, qtbot):
    window.shown.presenter.measure()
    window.session.take(1)
    window.shown.presenter.measure()
    assert window.tidings.is_error
    assert "A, Response is being measured" in window.tidings.text()
    window.close()
    assert "stopping" in window.tidings.text()


def test_a_presenter_needs_no_window(book_path, qtbot):
    session = Session(Book.open(book_path))
    presenter = StepPresenter(session, Measuring(session), step_named("setup"))
    said = []
    presenter.findings.connect(said.append)
    presenter.wake()
    presenter.measure()
    qtbot.waitUntil(lambda: session.states()["setup"] is StepState.DONE, timeout=60_000)
    qtbot.waitUntil(lambda: not session.crew.busy)
    assert said[-1].logged
    session.book.close()


def test_every_figure_can_be_read_by_keys(window, qtbot):
    level = window.view("response").level
    level.setFocus()
    settled(window, qtbot)
    read = []
    for _ in range(3):
        QTest.keyClick(level, Qt.Key.Key_Right, Qt.KeyboardModifier.ControlModifier)
        read.append(level.captions.reading)
    assert len(set(read)) == 3
    assert all(" Hz" in text and " dB" in text for text in read)
    assert QApplication.focusWidget() is level
    assert window.session.standing().cutoff_hz == 820.0
