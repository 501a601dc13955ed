"""What a person does in every test of the window."""

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest


def settled(window, qtbot):
    """Until the step that is looked at has nothing to compute any more, and nobody works."""
    qtbot.waitUntil(lambda: not (window.shown.presenter.waiting or window.session.crew.busy), timeout=60_000)


def typed(field, text):
    """Typed into a field, and entered."""
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)
    QTest.keyClick(field, Qt.Key.Key_Return)


def measured(window, qtbot):
    """The step that is looked at, measured by its key's act; settled afterwards."""
    with qtbot.waitSignal(window.measuring.jobs.finished, timeout=120_000):
        window.shown.presenter.measure()
    settled(window, qtbot)
