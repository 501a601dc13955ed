"""The book: what is kept, undone, refused, and what a kill leaves behind."""

import sqlite3
import subprocess
import sys
import time

import numpy as np
import pytest

from jiyuu.book.demo import BOARDS
from jiyuu.book.demo_place import demo_book_path, prepare_demo_book
from jiyuu.book.store import Book, StoredCurve
from jiyuu.book.walk import STEPS, StepState, moved_since, step_state
from jiyuu.circuits.filter_file import Filter
from jiyuu.errors import BookError
from jiyuu.measurement.finding import Finding, Tolerance
from jiyuu.measurement.wording import sentence

VOICE = Filter(name="Fog voice A", circuit="transistor-ladder", cutoff_hz=820.0)
SETTINGS = {"mode": "lowpass-24", "cutoff_hz": 820.0, "resonance_percent": 0.0}


@pytest.fixture
def book(tmp_path):
    opened = Book.create(tmp_path / "a.jiyuu")
    yield opened
    opened.close()


def curve():
    hz = np.geomspace(20, 20_000, 50)
    return StoredCurve(hz, -hz / 1000, hz * 0, hz * 0 + 0.1, hz * 0 + 50)


def add_run(book, row, *, findings=(), settings=SETTINGS):
    volts = np.linspace(-1, 1, 101)
    return book.add_run(row, "Response", settings, source="simulated rig", records={"recording": (volts, 48_000.0)},
                        curve=curve(), findings=findings)


def test_a_run_comes_back_with_its_raw_record_curve_and_findings(book, tmp_path):
    row = book.add_filter("A", VOICE, seed=3)
    finding = Finding("pole_hz", 811.0, "Hz", 0.2, Tolerance(797, 844), SETTINGS)
    run_id, (finding_id,) = add_run(book, row, findings=[finding])
    book.keep(finding_id)
    book.close()
    again = Book.open(tmp_path / "a.jiyuu")
    (shelved,) = again.filters()
    assert (shelved.letter, shelved.document, shelved.seed) == ("A", VOICE, 3)
    (run,) = again.runs(row, "Response")
    assert run.settings == SETTINGS
    volts, rate = again.record(run_id, "recording")
    assert rate == 48_000
    assert np.abs(volts - np.linspace(-1, 1, 101)).max() < 1e-7
    assert (again.curve(run_id).level_db == curve().level_db).all()
    (logged,) = again.logbook()
    assert logged.finding == finding
    assert sentence(logged.finding) == sentence(finding)
    again.close()


def test_every_act_can_be_undone_and_done_again(book):
    row = book.add_filter("A", VOICE, seed=None)
    _, (finding_id,) = add_run(book, row, findings=[Finding("peak_db", 3.0, "dB")])
    book.set_values(row, {"cutoff_hz": 900.0}, before={"cutoff_hz": 820.0})
    book.keep(finding_id)
    book.add_note("Start with A")

    def state():
        return book.setting(row, "cutoff_hz"), len(book.logbook()), [n.text for n in book.notes()]

    assert state() == (900.0, 1, ["Start with A"])
    assert [book.undo(), book.undo(), book.undo(), book.undo()] == ["note", "keep", "set", None]
    assert state() == (820.0, 0, [])
    assert not book.can_undo
    assert [book.redo(), book.redo(), book.redo(), book.redo()] == ["set", "keep", "note", None]
    assert state() == (900.0, 1, ["Start with A"])


def test_a_new_act_overtakes_what_was_undone(book):
    row = book.add_filter("A", VOICE, seed=None)
    book.set_values(row, {"cutoff_hz": 900.0}, before={"cutoff_hz": 820.0})
    book.undo()
    book.set_values(row, {"cutoff_hz": 700.0}, before={"cutoff_hz": 820.0})
    assert not book.can_redo
    assert book.redo() is None
    assert book.setting(row, "cutoff_hz") == 700.0


def test_moving_a_control_to_where_it_stands_is_no_act(book):
    row = book.add_filter("A", VOICE, seed=None)
    book.set_values(row, {"cutoff_hz": 820.0}, before={"cutoff_hz": 820.0})
    assert not book.can_undo


def test_states_of_the_walk(book):
    row = book.add_filter("A", VOICE, seed=None)
    assert step_state(book, row, "Response", SETTINGS) is StepState.OPEN
    add_run(book, row, findings=[Finding("pole_hz", 811.0, "Hz", 0.2, Tolerance(797, 844))])
    assert step_state(book, row, "Response", SETTINGS) is StepState.DONE
    moved = {**SETTINGS, "cutoff_hz": 900.0}
    assert step_state(book, row, "Response", moved) is StepState.STALE
    assert moved_since(moved, SETTINGS) == "cutoff was 820.0 Hz, is 900.0 Hz"
    add_run(book, row, findings=[Finding("pole_hz", 911.0, "Hz", 0.2, Tolerance(797, 844))])
    assert step_state(book, row, "Response", SETTINGS) is StepState.OUTSIDE
    assert len(STEPS) == 10


def test_files_that_are_no_books_are_refused_and_left_alone(tmp_path):
    with pytest.raises(BookError, match="does not exist"):
        Book.open(tmp_path / "none.jiyuu")
    for content in (b"", b"text, not a book", b"SQLite format 3\x00" + bytes(200)):
        path = tmp_path / "x.jiyuu"
        path.write_bytes(content)
        with pytest.raises(BookError, match=r"not a book|another program"):
            Book.open(path)
        assert path.read_bytes() == content
    other = sqlite3.connect(tmp_path / "other.jiyuu")
    other.execute("CREATE TABLE t (x)")
    other.commit()
    other.close()
    with pytest.raises(BookError, match="another program"):
        Book.open(tmp_path / "other.jiyuu")


def test_a_book_cut_short_is_refused(book, tmp_path):
    row = book.add_filter("A", VOICE, seed=None)
    add_run(book, row)
    book.close()
    path = tmp_path / "a.jiyuu"
    path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])
    with pytest.raises(BookError, match="backup"):
        Book.open(path).filters()


def test_a_place_that_is_taken_is_not_overwritten(book, tmp_path):
    with pytest.raises(BookError, match="exists already"):
        Book.create(tmp_path / "a.jiyuu")
    with pytest.raises(BookError, match="could not be made"):
        Book.create(tmp_path / "nowhere" / "b.jiyuu")


def test_a_book_of_a_newer_version_opens_for_reading_only(book, tmp_path):
    book.add_filter("A", VOICE, seed=None)
    book.close()
    path = tmp_path / "a.jiyuu"
    connection = sqlite3.connect(path)
    connection.execute("PRAGMA journal_mode = DELETE")
    connection.execute("PRAGMA user_version = 99")
    connection.commit()
    connection.close()
    before = path.read_bytes()
    newer = Book.open(path)
    assert newer.read_only
    assert newer.filters()[0].document == VOICE
    with pytest.raises(BookError, match="reading only"):
        newer.add_note("no")
    newer.close()
    assert path.read_bytes() == before


def test_the_demo_book_is_a_session_half_done(tmp_path, monkeypatch):
    monkeypatch.setenv("JIYUU_DATA_DIR", str(tmp_path))
    prepare_demo_book()
    stamp = demo_book_path().stat().st_mtime_ns
    prepare_demo_book()
    assert demo_book_path().stat().st_mtime_ns == stamp
    demo = Book.open(demo_book_path())
    shelf = demo.filters()
    assert [s.letter for s in shelf] == list("ABCDEF")
    assert len({s.document.circuit for s in shelf}) == len(BOARDS) == 6

    def state(shelved):
        document = shelved.document
        now = {"cutoff_hz": demo.setting(shelved.id, "cutoff_hz", document.cutoff_hz),
               "resonance_percent": document.resonance_percent}
        return step_state(demo, shelved.id, "Response", now)

    assert [state(s) for s in shelf] == [
        StepState.DONE, StepState.OUTSIDE, StepState.OPEN, StepState.STALE, StepState.OPEN, StepState.OPEN
    ]
    assert len(demo.logbook()) == 2
    assert len(demo.notes()) == 2
    demo.close()
    assert [p.name for p in tmp_path.iterdir()] == [demo_book_path().name]


WRITER = """
import sys
from pathlib import Path
import numpy as np
from jiyuu.book.store import Book, StoredCurve
from jiyuu.measurement.finding import Finding

book = Book.open(Path(sys.argv[1]))
row = book.filters()[0].id
hz = np.geomspace(20, 20000, 500)
for i in range(100000):
    _, rows = book.add_run(row, "Response", {"cutoff_hz": 1.0 * i}, source="script",
        records={"recording": (np.zeros(60000), 48000.0)}, curve=StoredCurve(hz, hz, hz, hz, hz),
        findings=[Finding("peak_hz", 100.0 + i, "Hz")])
    book.keep(rows[0])
    print(100 + i, flush=True)
"""


def test_a_kill_at_any_moment_loses_nothing_that_was_kept(book, tmp_path):
    book.add_filter("A", VOICE, seed=None)
    book.close()
    path = tmp_path / "a.jiyuu"
    generator = np.random.default_rng(8)
    reported: set[float] = set()
    for _ in range(5):
        writer = subprocess.Popen([sys.executable, "-c", WRITER, str(path)], stdout=subprocess.PIPE, text=True)
        assert writer.stdout is not None
        reported.add(float(writer.stdout.readline()))
        time.sleep(generator.uniform(0, 0.25))
        writer.kill()
        reported |= {float(line) for line in writer.stdout.read().split("\n")[:-1]}
        writer.wait()
        writer.stdout.close()
        again = Book.open(path)
        assert reported <= {logged.finding.value for logged in again.logbook()}
        assert again.filters()
        again.close()
    assert len(reported) > 5


def test_two_programs_may_have_the_same_book_open(book, tmp_path):
    row = book.add_filter("A", VOICE, seed=None)
    second = Book.open(tmp_path / "a.jiyuu")
    second.add_note("from the second")
    book.set_values(row, {"cutoff_hz": 5.0}, before={"cutoff_hz": 820.0})
    assert [n.text for n in book.notes()] == ["from the second"]
    second.close()


def test_an_older_book_is_brought_up_to_date_on_a_copy(book, tmp_path, monkeypatch):
    row = book.add_filter("A", VOICE, seed=3)
    add_run(book, row)
    book.close()
    path = tmp_path / "a.jiyuu"
    before = path.read_bytes()
    monkeypatch.setattr("jiyuu.book.opening.SCHEMA_VERSION", 2)
    monkeypatch.setattr("jiyuu.book.opening.MIGRATIONS", {1: "ALTER TABLE notes ADD COLUMN colour TEXT;"})
    newer = Book.open(path)
    assert newer.filters()[0].document == VOICE
    assert len(newer.runs(row, "Response")) == 1
    assert newer._rows("SELECT colour FROM notes") == []
    newer.close()
    assert int.from_bytes(path.read_bytes()[60:64], "big") == 2
    assert (tmp_path / "a.jiyuu.version-1").read_bytes() == before


def test_a_migration_that_fails_leaves_the_book_as_it_was(book, tmp_path, monkeypatch):
    book.add_filter("A", VOICE, seed=3)
    book.close()
    path = tmp_path / "a.jiyuu"
    before = path.read_bytes()
    monkeypatch.setattr("jiyuu.book.opening.SCHEMA_VERSION", 2)
    for migrations, words in (({1: "ALTER TABLE nothing ADD COLUMN x;"}, "cannot be read"), ({}, "cannot bring up")):
        monkeypatch.setattr("jiyuu.book.opening.MIGRATIONS", migrations)
        with pytest.raises(BookError, match=words):
            Book.open(path)
        assert path.read_bytes() == before
    assert [p.name for p in tmp_path.iterdir()] == ["a.jiyuu"]
