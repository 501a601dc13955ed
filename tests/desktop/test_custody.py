"""Two windows on one book, what does not read in one, the copy of the day."""

import sqlite3

import pytest

from jiyuu.bench.demo_place import data_folder
from jiyuu.book.backup import backups
from jiyuu.desktop.custody import LOOK_MS
from jiyuu.errors import BookError
from tests.desktop.using import settled


@pytest.mark.long
def test_two_windows_on_one_book_see_each_other_and_undo_their_own(open_window, book_path, qtbot):
    one, other = open_window(book_path), open_window(book_path)
    for window in (one, other):
        settled(window, qtbot)
        window.session.take_letter("A")
    one.session.change({"cutoff_hz": 321.0})
    qtbot.waitUntil(lambda: other.session.standing().cutoff_hz == 321.0, timeout=20 * LOOK_MS)
    other.session.change({"resonance_percent": 12.0})
    qtbot.waitUntil(lambda: one.session.standing().resonance_percent == 12.0, timeout=20 * LOOK_MS)
    assert "Undone on A: cutoff" in one.session.undo()
    assert one.session.standing().resonance_percent == 12.0
    letter = other.session.put_away()
    qtbot.waitUntil(lambda: letter not in [shelved.letter for shelved in one.session.shelf], timeout=20 * LOOK_MS)


def test_what_does_not_read_is_said_and_the_rest_is_there(open_window, book_path, qtbot):
    connection = sqlite3.connect(book_path)
    connection.execute("UPDATE filters SET document = '{' WHERE letter = 'F'")
    connection.execute("INSERT OR REPLACE INTO settings VALUES (1, 'setup', '{\"from_tomorrow\": 3}')")
    connection.execute("INSERT OR REPLACE INTO settings VALUES (1, 'cutoff_hz', '555.0')")
    connection.commit()
    connection.close()
    window = open_window(book_path)
    settled(window, qtbot)
    assert [shelved.letter for shelved in window.session.shelf] == list("ABCDE")
    window.session.take_letter("A")
    assert window.session.standing().cutoff_hz == 555.0
    assert window.tidings.is_error
    assert "Filter F" in window.tidings.text()
    assert "And 1 more. The rest is shown" in window.tidings.text()
    assert any("'setup'" in sentence for sentence in window.session.unread())


def test_a_moved_book_is_said_and_nothing_is_lost_in_silence(open_window, book_path, qtbot):
    window = open_window(book_path)
    settled(window, qtbot)
    book_path.rename(book_path.with_name("elsewhere.jiyuu"))
    qtbot.waitUntil(lambda: "nothing more is written" in window.tidings.text(), timeout=20 * LOOK_MS)
    with pytest.raises(BookError, match="moved, deleted or replaced"):
        window.shown.presenter.set_knob(432.0)
    book_path.with_name("elsewhere.jiyuu").rename(book_path)
    qtbot.waitUntil(lambda: "in its place again" in window.tidings.text(), timeout=20 * LOOK_MS)
    window.shown.presenter.set_knob(432.0)
    assert window.session.standing().cutoff_hz == 432.0


def test_the_copy_of_the_day_is_made_once(open_window, book_path, qtbot, tmp_path, monkeypatch):
    monkeypatch.setenv("JIYUU_DATA_DIR", str(tmp_path / "data"))
    window = open_window(book_path)
    settled(window, qtbot)
    for _ in range(2):
        window.custody.back_up_now()
        qtbot.waitUntil(lambda: "a backup copy" not in window.session.crew.at_work(), timeout=20_000)
        assert len(backups(book_path, data_folder())) == 1


def test_a_book_is_taken_apart_and_put_together_in_the_window(open_window, book_path, qtbot, tmp_path):
    window = open_window(book_path)
    settled(window, qtbot)
    window.session.take_letter("B")
    window.session.change({"cutoff_hz": 654.0})
    window.custody.export(tmp_path / "out")
    qtbot.waitUntil(lambda: "as open files" in window.tidings.text(), timeout=30_000)
    window.custody.put_together(tmp_path / "out", tmp_path / "again.jiyuu")
    qtbot.waitUntil(lambda: "again.jiyuu" in window.windowTitle(), timeout=30_000)
    window.session.take_letter("B")
    assert window.session.standing().cutoff_hz == 654.0
    window.custody.export(tmp_path / "out")
    qtbot.waitUntil(lambda: "exists already" in window.tidings.text(), timeout=30_000)


def test_an_earlier_copy_is_opened_as_a_book_of_its_own(open_window, book_path, qtbot, tmp_path, monkeypatch):
    monkeypatch.setenv("JIYUU_DATA_DIR", str(tmp_path / "data"))
    window = open_window(book_path)
    settled(window, qtbot)
    window.custody.choose_copy()
    assert "no copy of this book yet" in window.tidings.text()
    window.custody.back_up_now()
    qtbot.waitUntil(lambda: len(backups(book_path, data_folder())) == 1, timeout=20_000)
    (copy,) = backups(book_path, data_folder())
    before = copy.read_bytes()
    window.session.take_letter("A")
    window.session.change({"cutoff_hz": 333.0})
    window.custody.open_copy(copy, tmp_path / "yesterday.jiyuu")
    qtbot.waitUntil(lambda: "yesterday.jiyuu" in window.windowTitle(), timeout=30_000)
    window.session.take_letter("A")
    assert window.session.standing().cutoff_hz == 820.0
    window.session.change({"cutoff_hz": 444.0})
    assert copy.read_bytes() == before
