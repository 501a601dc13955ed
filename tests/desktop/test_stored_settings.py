"""Settings under names in the window: stored, called back, told apart, moved between, undone."""

import pytest

from tests.desktop.using import settled


@pytest.fixture
def aside(window, qtbot):
    window.session.take_letter("A")
    window.files.stored.open()
    settled(window, qtbot)
    return window.files.stored.aside


def store(aside, name):
    aside.name.setText(name)
    aside.keep.click()


def choose(aside, *rows):
    aside.table.clearSelection()
    for row in rows:
        for column in range(aside.table.columnCount()):
            aside.table.item(row, column).setSelected(True)


def test_settings_are_stored_recalled_and_moved_between(window, qtbot, aside):
    session = window.session
    session.change({"cutoff_hz": 400.0, "resonance_percent": 20.0})
    store(aside, "dusk")
    session.change({"cutoff_hz": 1600.0, "resonance_percent": 60.0})
    store(aside, "dawn")
    assert [aside.table.item(i, 0).text() for i in range(2)] == ["dusk", "dawn"]
    store(aside, "dusk")
    assert "stays as it is" in window.tidings.text()
    choose(aside, 0)
    assert [aside.difference.item(i, 0).text() for i in range(aside.difference.rowCount())] == [
        "cutoff hz", "resonance percent"]
    aside.recall.click()
    assert session.standing().cutoff_hz == 400.0
    assert aside.difference.rowCount() == 0
    window.undo()
    assert session.standing().cutoff_hz == 1600.0
    aside.anew.click()
    assert session.standing().cutoff_hz == session.in_hand.document.cutoff_hz
    # Half way between the two: the middle of the octaves; one undo for the whole move.
    choose(aside, 0, 1)
    for place in (10, 30, 50):
        aside.slider.setValue(place)
        qtbot.waitUntil(lambda place=place: session.standing().cutoff_hz == pytest.approx(400 * 4 ** (place / 100)),
                        timeout=5000)
    assert session.standing().resonance_percent == pytest.approx(40.0)
    window.undo()
    assert session.standing().cutoff_hz == session.in_hand.document.cutoff_hz
    # What is stored outlives the window's choice of filter, and is another filter's not at all.
    session.take_letter("B")
    settled(window, qtbot)
    assert aside.table.rowCount() == 0
    session.take_letter("A")
    settled(window, qtbot)
    assert aside.table.rowCount() == 2


def test_a_store_is_undone_like_any_act(window, qtbot, aside):
    store(aside, "once")
    assert aside.table.rowCount() == 1
    window.undo()
    assert aside.table.rowCount() == 0
    assert "stored as 'once'" in window.tidings.text()
