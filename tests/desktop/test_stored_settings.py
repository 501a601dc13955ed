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


@pytest.mark.long
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
        aside.sliders[0].setValue(place)
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


def test_four_make_a_sheet_whose_ways_have_names(window, qtbot, aside):
    session = window.session
    for name, hertz, percent in (("a", 200.0, 0.0), ("b", 3200.0, 0.0), ("c", 200.0, 80.0), ("d", 3200.0, 80.0)):
        session.change({"cutoff_hz": hertz, "resonance_percent": percent})
        store(aside, name)
    choose(aside, 0, 1, 2, 3)
    assert [aside.how.itemText(i) for i in range(aside.how.count())] == ["along them", "on a sheet"]
    assert [slider.isVisible() for slider in aside.sliders] == [True, False, False]
    aside.sliders[0].setValue(50)  # half way through four: between the second and the third
    qtbot.waitUntil(lambda: session.standing().resonance_percent == pytest.approx(40.0), timeout=5000)
    assert session.standing().cutoff_hz == pytest.approx(800.0)
    aside.how.setCurrentIndex(1)
    aside.how.activated.emit(1)
    assert [slider.isVisible() for slider in aside.sliders] == [True, True, False]
    for slider, name, place in zip(aside.sliders, aside.way_names, (25, 75), strict=False):
        slider.setValue(place)
        name.setText("brightness" if place == 25 else "ring")
        name.setModified(True)
        name.editingFinished.emit()
    qtbot.waitUntil(lambda: session.standing().resonance_percent == pytest.approx(60.0), timeout=5000)
    assert session.standing().cutoff_hz == pytest.approx(400.0)
    settled(window, qtbot)
    choose(aside, 0)
    assert aside.way_names[0].text() == "brightness"  # kept with the filter
    choose(aside, 0, 1, 2)
    assert aside.how.count() == 1
