"""The Logbook: the timeline and its entries, one looked at again as it was, put back, taken out."""

import csv
import io
from datetime import date

import numpy as np
import pytest
import soundfile
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtTest import QTest

from jiyuu.bench.timeline import Kind
from jiyuu.book.store import Book
from jiyuu.desktop.figures.timeline_figure import HEAD_PX
from jiyuu.errors import JiyuuError
from jiyuu.measurement.finding import Verdict
from tests.desktop.using import settled

OPENS_AT = "logbook"


@pytest.fixture
def window(measured_demo, tmp_path, open_window, qtbot):
    path = tmp_path / "demo.jiyuu"
    path.write_bytes(measured_demo.read_bytes())
    opened = open_window(path)
    opened.go("logbook")
    settled(opened, qtbot)
    return opened


def first_run(view, letter="A"):
    return next(entry for entry in reversed(view.presenter.every)
                if entry.kind is Kind.RUN and entry.letter == letter)


def test_days_and_filters_are_seen_and_read_out(window):
    view = window.shown
    assert len(view.timeline.words()) == 3
    assert view.timeline.words()[0] == "19 Mar 2026: D: 1 run."
    rows = list(csv.reader(io.StringIO(view.timeline.as_csv())))
    assert len(rows) == 1 + len(view.presenter.every)
    assert view.table.entries_model.rowCount() == len(view.presenter.every)
    assert "out of tolerance" in {row[5] for row in rows}


def test_an_entry_is_looked_at_as_it_was_beside_today(window):
    view = window.shown
    entry = first_run(view)
    view.presenter.look_at(entry)
    assert view.about.text().startswith("A, 2 Mar 2026")
    assert "Offset trim: was −5 turns, is 0 turns." in view.told.text()
    assert "Measured then and last:" in view.told.text()
    assert view.table.currentIndex().row() == view.presenter.fitting.index(entry)
    names = [row[0] for row in csv.reader(io.StringIO(view.then.as_csv()))]
    assert {"run 1", "newest, run 2"} <= set(names)
    view.page_choice.button(1).click()
    assert "2 times; last less first +34" in view.over_time.words()[0]
    assert view.quantity.currentData() == "pole_hz"


def test_it_is_put_back_as_one_act_and_undone(window, qtbot):
    view, session = window.shown, window.session
    session.take_letter("A")
    session.change({"cutoff_hz": 300.0, "parameters": {"stage_headroom_v": 2.0}})
    settled(window, qtbot)
    view.presenter.look_at(first_run(view))
    view.back.click()
    settled(window, qtbot)
    assert session.standing().cutoff_hz == 820.0
    assert session.standing().trims.offset == -5.0
    assert "stands as it did on 2 Mar 2026" in window.tidings.text()
    window.undo()
    assert session.standing().cutoff_hz == 300.0
    assert session.standing().parameters["stage_headroom_v"] == 2.0


def test_words_filters_and_days_narrow_it(window):
    view = window.shown
    view.words.setText("bell")
    assert [entry.kind for entry in view.presenter.fitting] == [Kind.NOTE]
    view.words.setText("nothing of the kind")
    assert "Nothing fits" in view.about.text()
    view.words.setText("")
    view.stamp.setCurrentText(str(Verdict.OUTSIDE))
    view.stamp.activated.emit(view.stamp.currentIndex())
    assert {entry.letter for entry in view.presenter.fitting} == {"A", "B"}
    view.stamp.setCurrentIndex(0)
    view.stamp.activated.emit(0)
    QTest.mouseClick(view.timeline, Qt.MouseButton.LeftButton, pos=QPoint(view.timeline.width() // 2,
                                                                           int(HEAD_PX) - 10))
    assert {entry.day for entry in view.presenter.fitting} == {date(2026, 3, 5)}
    assert view.every_day.isEnabled()
    view.every_day.click()
    assert view.presenter.fitting == view.presenter.every


def test_the_timeline_is_walked_by_keys_and_clicked(window):
    view = window.shown
    view.timeline.setFocus()
    newest = view.presenter.every[0]
    assert view.presenter.current == newest
    QTest.keyClick(view.timeline, Qt.Key.Key_Left)
    assert view.presenter.current == view.presenter.every[1]
    QTest.keyClick(view.timeline, Qt.Key.Key_Right)
    assert view.presenter.current == newest
    QTest.keyClick(view.timeline, Qt.Key.Key_Up)
    assert view.presenter.current.letter == "C"
    spots = [QPointF(x, y) for x in range(40, view.timeline.width(), 6) for y in range(50, view.timeline.height(), 6)]
    spot = next(spot for spot in spots if (entry := view.timeline.nearest(spot)) is not None and entry.letter == "B")
    QTest.mouseClick(view.timeline, Qt.MouseButton.LeftButton, pos=spot.toPoint())
    assert view.presenter.current.letter == "B"


def test_notes_and_findings_are_taken_out_and_come_back(window, qtbot):
    view = window.shown
    QTest.keyClicks(view.note, "Check the trim of C")
    QTest.keyClick(view.note, Qt.Key.Key_Return)
    settled(window, qtbot)
    assert view.presenter.every[0].text == "Check the trim of C"
    view.presenter.look_at(view.presenter.every[0])
    view.out.click()
    settled(window, qtbot)
    assert "Check the trim of C" not in [entry.text for entry in view.presenter.every]
    window.undo()
    settled(window, qtbot)
    assert view.presenter.every[0].text == "Check the trim of C"
    kept = next(entry for entry in view.presenter.every if entry.kind is Kind.FINDING)
    view.presenter.look_at(kept)
    view.keep_current()
    settled(window, qtbot)
    assert len(window.session.book.logbook()) == 1
    view.presenter.look_at(first_run(view))
    view.keep_current()
    assert "Choose a note or a finding" in window.tidings.text()


def test_the_raw_recording_is_saved_as_it_was_read(window, tmp_path):
    view = window.shown
    entry = first_run(view)
    view.presenter.look_at(entry)
    view.presenter.save_recording(tmp_path / "raw.wav")
    samples, rate = soundfile.read(tmp_path / "raw.wav")
    volts, rate_hz = window.session.book.record(entry.run_id, "recording")
    assert rate == rate_hz
    assert np.abs(10 * samples - volts).max() < 1e-5
    view.presenter.look_at(next(entry for entry in view.presenter.every if entry.kind is Kind.NOTE))
    with pytest.raises(JiyuuError, match="Choose a run first"):
        view.presenter.save_recording(tmp_path / "none.wav")


def test_rows_are_copied_as_text(window):
    view = window.shown
    view.table.selectRow(0)
    view.table.copy()
    heading, row = QGuiApplication.clipboard().text().splitlines()
    assert heading.startswith("Day\tFilter")
    assert row.startswith("19 Mar 2026\tD\tResponse\tlowpass-24, 500.0 Hz")


def test_an_empty_book_says_what_to_keep(open_window, tmp_path, qtbot):
    Book.create(tmp_path / "empty.jiyuu").close()
    opened = open_window(tmp_path / "empty.jiyuu")
    opened.go("logbook")
    settled(opened, qtbot)
    assert opened.shown.empty.isVisible()
    assert "press K to keep it" in opened.shown.empty.text()
    opened.shown.presenter.put_back()
    assert "Choose a run" in opened.tidings.text()


def dropped(window, qtbot, *paths):
    window.files.open(list(paths))
    settled(window, qtbot)


def test_pictures_and_recordings_lie_in_the_logbook(window, qtbot, tmp_path, monkeypatch):
    picture = tmp_path / "front panel.png"
    window.grab().scaled(320, 200).save(str(picture))
    sound = tmp_path / "knock.wav"
    soundfile.write(sound, np.column_stack([np.linspace(-0.5, 0.25, 96_000), np.zeros(96_000)]), 48_000)
    view = window.shown
    dropped(window, qtbot, picture, sound)
    entries = {entry.text: entry for entry in view.presenter.every if entry.kind is Kind.ENCLOSED}
    assert set(entries) == {"front panel.png", "knock.wav"}
    assert {entry.letter for entry in entries.values()} == {window.session.in_hand.letter}

    view.presenter.look_at(entries["knock.wav"])
    settled(window, qtbot)
    assert view.pages.currentWidget() is view.enclosed
    assert view.enclosed.words() == ("knock.wav: 2.00 s, 48000 Hz, 2 channels, peak 50.0 % of full scale.",)
    rows = view.enclosed.rows()
    assert rows[1][1] == pytest.approx(-0.5, abs=1e-4)
    assert rows[-1][2] == pytest.approx(0.25, abs=1e-4)
    assert 1.9 < rows[-1][0] < 2.0
    view.presenter.look_at(entries["front panel.png"])
    settled(window, qtbot)
    assert view.enclosed.words() == ("front panel.png: 320 × 200 points.",)
    assert view.enclosed.rows() == []
    # Saved again it is the file it was; and what else is looked at has its own page.
    monkeypatch.setattr("jiyuu.desktop.steps.logbook.view.chosen_to_write", lambda *_, **__: tmp_path / "again.png")
    view.save_recording()
    assert (tmp_path / "again.png").read_bytes() == picture.read_bytes()
    view.presenter.look_at(first_run(view))
    assert view.pages.currentWidget() is view.then

    view.kind.setCurrentIndex(view.kind.findData(Kind.ENCLOSED))
    view.kind.activated.emit(view.kind.currentIndex())
    assert {entry.text for entry in view.presenter.fitting} == set(entries)
    view.presenter.look_at(entries["knock.wav"])
    view.presenter.take_away()
    settled(window, qtbot)
    assert [entry.text for entry in view.presenter.fitting] == ["front panel.png"]
    window.session.undo()
    settled(window, qtbot)
    assert len(view.presenter.fitting) == 2


def test_what_cannot_lie_in_the_logbook_says_why_and_a_picture_dropped_elsewhere_goes_there(window, qtbot, tmp_path):
    spoilt, torn, picture = tmp_path / "a.png", tmp_path / "torn.wav", tmp_path / "b.png"
    spoilt.write_bytes(b"no picture at all")
    torn.write_bytes(b"RIFF and nothing behind it")
    window.grab().scaled(32, 20).save(str(picture))
    dropped(window, qtbot, spoilt)
    assert "does not begin like one" in window.tidings.text()
    dropped(window, qtbot, torn)  # a recording that cannot be read is kept as it is, and says so
    view = window.shown
    view.presenter.look_at(next(entry for entry in view.presenter.every if entry.text == "torn.wav"))
    settled(window, qtbot)
    assert "cannot be read as WAV" in view.enclosed.words()[0]
    window.go("response")
    settled(window, qtbot)
    dropped(window, qtbot, picture)
    assert window.shown is view
    assert any(entry.text == "b.png" for entry in view.presenter.every)
