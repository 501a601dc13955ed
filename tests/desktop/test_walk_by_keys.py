"""The whole walk with nothing but a keyboard, at one and a half times the usual type."""

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from jiyuu.bench.walk import StepState, walk
from jiyuu.desktop.theme.style import THEME
from tests.desktop.using import settled

OPENS_AT = "setup"
CONTROL, SHIFT, ALT = (Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier,
                       Qt.KeyboardModifier.AltModifier)
DIGITS = [Qt.Key(Qt.Key.Key_0 + i) for i in range(10)]
FARTHEST = 120  # presses of Tab from anywhere to anywhere


def press(window, key, how=Qt.KeyboardModifier.NoModifier):
    QTest.keyClick(QApplication.focusWidget() or window, key, how)


def tabbed_into(window, place):
    """Tab until the focus lies in it."""
    for _ in range(FARTHEST):
        focus = QApplication.focusWidget()
        if focus is not None and (focus is place or place.isAncestorOf(focus)):
            return
        press(window, Qt.Key.Key_Tab)
    raise AssertionError(f"Tab leads nowhere into {place.accessibleName() or type(place).__name__}")


@pytest.mark.long
def test_the_whole_walk_by_keys_alone_at_larger_type(window, qtbot):
    session = window.session
    for letter in "ABCD":  # two are enough to compare
        session.take_letter(letter)
        session.put_away()
    while THEME.scale < 1.5:
        before = THEME.scale
        press(window, QKeySequence(QKeySequence.StandardKey.ZoomIn)[0].key(), CONTROL)
        assert THEME.scale > before
    press(window, Qt.Key.Key_2, ALT)  # one mode: the shortest walk
    assert session.in_hand.letter == "F"
    kept = []
    for step in walk():
        if step.number < 10:
            press(window, DIGITS[step.number], CONTROL)
        else:
            press(window, DIGITS[0], CONTROL | SHIFT)
        assert window.step == step.key
        settled(window, qtbot)
        view = window.shown
        tabbed_into(window, view.figures)
        press(window, Qt.Key.Key_M)
        if step.measures:
            qtbot.waitUntil(lambda name=step.key: session.states()[name] is not StepState.OPEN, timeout=60_000)
            settled(window, qtbot)
        else:
            assert "Nothing is measured in" in window.tidings.text()
        if view.findings is not None and view.findings.count():
            tabbed_into(window, view.findings)
            press(window, Qt.Key.Key_Home)
            press(window, Qt.Key.Key_K)
            kept.append(step.key)
        assert "could not" not in window.tidings.text()
    assert len(kept) >= 7
    assert {entry.step for entry in session.book.logbook()} >= {"setup", "response", "drive"}
    before = len(session.book.logbook())
    press(window, Qt.Key.Key_Z, CONTROL)
    assert len(session.book.logbook()) < before  # the last one is taken back by a key as well
