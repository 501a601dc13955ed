"""A book whose file is moved, shared, locked, damaged, newer, or where nothing can be written; copies by date."""

import json
import os
import shutil
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import pytest

from jiyuu.book import backup, opening, store
from jiyuu.book.backup import back_up, backup_folder, backups
from jiyuu.book.store import Book
from jiyuu.cli.entry import main
from jiyuu.errors import BookError
from tests.book.test_exchange import VOICES, content, spoil, written


@pytest.fixture
def path(tmp_path):
    return written(tmp_path / "a.jiyuu")


def opened_twice(path):
    return Book.open(path), Book.open(path)


# The file under an open book


@pytest.mark.parametrize("happens", [
    lambda path: path.rename(path.with_name("b.jiyuu")), lambda path: path.unlink(),
    lambda path: (path.unlink(), written(path)), lambda path: os.replace(written(path.with_name("c.jiyuu")), path),
])
def test_nothing_is_written_into_a_file_without_a_name(path, happens):
    book = Book.open(path)
    happens(path)
    with pytest.raises(BookError, match=r"moved, deleted or replaced.*nothing more is written"):
        book.set_values(1, {"cutoff_hz": 900.0})
    book.close()


def test_put_back_it_goes_on(path):
    book = Book.open(path)
    path.rename(path.with_name("b.jiyuu"))
    with pytest.raises(BookError):
        book.add_note("lost?")
    path.with_name("b.jiyuu").rename(path)
    book.add_note("kept")
    assert "kept" in [note.text for note in book.notes()]
    book.close()


def test_a_copy_of_the_file_alone_holds_every_act_soon_after_it(path, tmp_path, monkeypatch):
    monkeypatch.setattr(store, "IDLE_S", 0.02)
    book = Book.open(path)
    book.add_note("just now")
    deadline = time.monotonic() + 20
    while time.monotonic() < deadline:
        shutil.copyfile(path, tmp_path / "copy.jiyuu")
        copy = Book.open(tmp_path / "copy.jiyuu")
        texts = [note.text for note in copy.notes()]
        copy.close()
        if "just now" in texts:
            break
        time.sleep(0.02)
    assert "just now" in texts
    book.close()
    assert not path.with_name("a.jiyuu-wal").exists()


# Two at once


def test_each_undoes_its_own_and_sees_what_the_other_did(path):
    one, other = opened_twice(path)
    assert not one.changed_elsewhere()
    one.set_values(1, {"cutoff_hz": 500.0})
    other.add_note("by the other")
    assert one.changed_elsewhere()
    assert not one.changed_elsewhere()
    assert one.undo().kind == "set"
    assert "by the other" in [note.text for note in one.notes()]
    assert other.undo().state["note_id"]
    assert one.redo().state["values"] == {"cutoff_hz": 500.0}
    one.close()
    other.close()


def test_undo_leaves_a_control_where_somebody_else_has_put_it_since(path):
    one, other = opened_twice(path)
    one.set_values(1, {"cutoff_hz": 500.0, "resonance_percent": 10.0})
    other.set_values(1, {"cutoff_hz": 1234.0})
    assert one.undo().state["values"] == {"resonance_percent": None}
    assert one.settings()[1]["cutoff_hz"] == 1234.0
    one.close()
    other.close()


def test_both_may_undo_what_was_done_before_they_opened_it(path):
    one, other = opened_twice(path)
    assert other.undo() is not None
    assert one.undo() is not None
    one.close()
    other.close()


def test_who_finds_it_locked_is_told_soon(path):
    book, holder = Book.open(path), sqlite3.connect(path)
    holder.execute("BEGIN IMMEDIATE")
    with pytest.raises(BookError, match=r"Another program is writing.*try again"):
        book.add_note("no")
    holder.rollback()
    holder.close()
    book.add_note("yes")
    book.close()


def test_a_letter_taken_meanwhile_is_named(path):
    one, other = opened_twice(path)
    one.add_filter("C", VOICES[0], seed=1)
    with pytest.raises(BookError, match="letter C was taken meanwhile"):
        other.add_filter("C", VOICES[1], seed=1)
    one.close()
    other.close()


# Reading without writing


def untouched(folder):
    return {one.name: one.read_bytes() for one in folder.iterdir() if not one.name.endswith("-shm")}


@pytest.mark.long
def test_validating_writes_nothing_even_beside_the_log_of_a_kill(path, tmp_path, capsys):
    script = ("import os, sys\nfrom pathlib import Path\nfrom jiyuu.book.store import Book\n"
              "book = Book.open(Path(sys.argv[1]))\nbook.add_note('in the log')\nos._exit(9)")
    subprocess.run([sys.executable, "-c", script, str(path)], check=False)
    assert path.with_name("a.jiyuu-wal").stat().st_size
    before = untouched(tmp_path)
    assert main(["validate", str(path), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["valid"]
    assert main(["exchange", str(path), "--out", str(tmp_path.parent / f"{tmp_path.name}-out")]) == 0
    assert untouched(tmp_path) == before
    notes = json.loads((tmp_path.parent / f"{tmp_path.name}-out" / "book.json").read_text())["notes"]
    assert "in the log" in [note["text"] for note in notes]


@pytest.mark.parametrize("killed", [False, True])
def test_where_nothing_can_be_written_it_is_read(path, tmp_path, monkeypatch, killed):
    if killed:
        holder = sqlite3.connect(path)
        holder.execute("PRAGMA journal_mode = WAL")
        holder.execute("INSERT INTO notes VALUES (77, NULL, 'in the log', 1, 'now')")
        holder.commit()
        place = tmp_path / "media"
        place.mkdir()
        for one in ("a.jiyuu", "a.jiyuu-wal"):
            shutil.copyfile(tmp_path / one, place / one)
        holder.close()
        path = place / "a.jiyuu"
    monkeypatch.setattr(opening.os, "access", lambda *_: False)
    before = untouched(path.parent)
    book = Book.open(path)
    assert book.read_only
    assert len(book.filters()) == 2
    assert ("in the log" in [note.text for note in book.notes()]) == killed
    with pytest.raises(BookError, match="copy it to a folder of your own"):
        book.add_note("no")
    book.close()
    assert untouched(path.parent) == before


def test_an_old_book_is_read_where_it_cannot_be_brought_up_to_date(tmp_path, monkeypatch):
    path = Path(shutil.copy(Path(__file__).parent / "books" / "version-1.jiyuu", tmp_path))
    monkeypatch.setattr(opening.os, "access", lambda *_: False)
    before = path.read_bytes()
    book = Book.open(path)
    assert len(book.filters()) == 6
    book.close()
    assert [one.name for one in tmp_path.iterdir()] == [path.name]
    assert path.read_bytes() == before


# What does not read


def test_strange_values_are_left_out_and_told(path):
    spoil(path, ("UPDATE filters SET document = json_set(document, '$.version', 2) WHERE letter = 'B'", ()),
          ("UPDATE settings SET value = '{' WHERE name = 'cutoff_hz'", ()),
          ("UPDATE runs SET facts = '[1]' WHERE id = 1", ()),
          ("UPDATE runs SET made_at = 7.5 WHERE id = 3", ()),
          ("UPDATE findings SET context = ? WHERE id = 3", (b"\xff\xfe",)),
          ("UPDATE findings SET value = 'loud' WHERE id = 5", ()),
          ("UPDATE tables SET columns = '3' WHERE run_id = 2 AND name = 'response'", ()),
          ("UPDATE records SET volts = x'010203' WHERE run_id = 2 AND name = 'recording'", ()))
    book = Book.open(path)
    assert [shelved.letter for shelved in book.filters()] == ["A"]
    assert "cutoff_hz" not in book.settings()[1]
    assert {run.id for run in book.all_runs()} == {2}
    assert {logged.id for logged in book.logbook()} == {1}
    assert set(book.tables(2)) == {"odd"}
    with pytest.raises(BookError, match="is damaged"):
        book.record(2, "recording")
    told = " ".join(book.unread.values())
    for said in ("Filter B", "cutoff_hz", "Run 1", "Finding 3", "Finding 5", "Table 'response'", "Run 3"):
        assert said in told
    book.close()


@pytest.mark.parametrize("statement", ["DROP TABLE notes", "ALTER TABLE runs RENAME COLUMN facts TO fact"])
def test_a_book_without_one_of_its_tables_is_refused(path, statement):
    spoil(path, (statement, ()))
    with pytest.raises(BookError, match=r"is damaged: its table .*jiyuu recover"):
        Book.open(path)


# Copies by date


def test_a_copy_a_day_and_the_newest_seven(path, tmp_path):
    data = tmp_path / "data"
    for day in range(1, 12):
        book = Book.open(path)
        book.add_note(f"day {day}")
        book.close()
        later = 2_000_000_000 + 86_400 * day
        os.utime(path, (later, later))
        made = list(back_up(path, data, today=f"2026-11-{day:02d}"))
        assert len(made) == 1
        assert list(back_up(path, data, today=f"2026-11-{day:02d}")) == []
        os.utime(made[0], (later + 1, later + 1))
    assert list(back_up(path, data, today="2026-11-30")) == []  # nothing was written since
    kept = backups(path, data)
    assert [copy.stem for copy in kept] == [f"2026-11-{day:02d}" for day in range(11, 4, -1)]
    assert content(kept[0]) == content(path)
    assert "day 6" not in str(content(kept[-1])["notes"])
    assert {one.name for one in backup_folder(path, data).iterdir()} == {copy.name for copy in kept}


def test_a_copy_that_cannot_be_made_says_so(path, tmp_path):
    (tmp_path / "data").write_text("a file")
    with pytest.raises(BookError, match="could not be made"):
        list(back_up(path, tmp_path / "data", today="2026-11-27"))


def test_copies_take_no_more_room_than_they_may(path, tmp_path, monkeypatch):
    data = tmp_path / "data"
    monkeypatch.setattr(backup, "MOST_BYTES", int(2.5 * path.stat().st_size))
    for day in range(1, 6):
        later = 2_000_000_000 + 86_400 * day
        os.utime(path, (later, later))
        (made,) = back_up(path, data, today=f"2026-11-{day:02d}")
        os.utime(made, (later - 1, later - 1))
    assert [copy.stem for copy in backups(path, data)] == ["2026-11-05", "2026-11-04"]
    monkeypatch.setattr(backup, "FREE_SHARE", 0.0)
    with pytest.raises(BookError, match="too little room"):
        list(back_up(path, data, today="2026-11-30"))
    assert len(backups(path, data)) == 2
