"""The book: what is kept, undone, refused, and what a kill leaves behind."""

import json
import shutil
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path

import numpy as np
import pytest

from jiyuu.bench.demo import BOARDS, write_demo_book
from jiyuu.bench.demo_place import demo_book_path, prepare_demo_book
from jiyuu.bench.standing import Standing
from jiyuu.bench.walk import StepState, states
from jiyuu.book.enclosed import Enclosure, enclosed
from jiyuu.book.store import Book
from jiyuu.book.table import Table
from jiyuu.circuits.filter_file import Filter
from jiyuu.errors import BookError
from jiyuu.measurement.contexts import HumpPlace
from jiyuu.measurement.finding import Finding, Tolerance
from jiyuu.wording.findings import sentence
from tests.book.killing import killed_while_made
from tests.trials import some

VOICE = Filter(name="Fog voice A", circuit="transistor-ladder", cutoff_hz=820.0)
STANDING = {"mode": "lowpass-24", "cutoff_hz": 820.0, "resonance_percent": 0.0}


@pytest.fixture
def book(tmp_path):
    opened = Book.create(tmp_path / "a.jiyuu")
    yield opened
    opened.close()


def curve():
    hz = np.geomspace(20, 20_000, 50)
    return Table.of("response", ("frequency_hz", "Hz", hz), ("magnitude_db", "dB", -hz / 1000),
                    ("snr_db", "dB", np.where(hz > 5000, np.nan, 50.0)))


def add_run(book, row, *, findings=(), standing=STANDING, step="response"):
    volts = np.linspace(-1, 1, 101)
    return book.add_run(
        row, step, standing["mode"], standing=standing, setting={"every_mode": False}, facts={"kind": "lowpass"},
        source="simulated rig", records={"recording": (volts, 48_000.0)}, tables=[curve()], findings=findings,
    )


def test_a_run_comes_back_with_its_raw_record_table_and_findings(book, tmp_path):
    row = book.add_filter("A", VOICE, seed=3)
    finding = Finding("hump_db", 3.0, "dB", 0.2, Tolerance(-1, 4), HumpPlace(300.0, -1.5))
    run_id, (finding_id,) = add_run(book, row, findings=[finding])
    book.keep(finding_id)
    book.close()
    again = Book.open(tmp_path / "a.jiyuu")
    (shelved,) = again.filters()
    assert (shelved.letter, shelved.document, shelved.seed) == ("A", VOICE, 3)
    (run,) = again.runs(row, "response")
    assert (run.standing, run.setting, run.facts) == (STANDING, {"every_mode": False}, {"kind": "lowpass"})
    assert run.title == f"run {run_id}: lowpass-24, 820.0 Hz, 0 %"
    volts, rate = again.record(run_id, "recording")
    assert rate == 48_000
    assert np.abs(volts - np.linspace(-1, 1, 101)).max() < 1e-7
    table = again.tables(run_id)["response"]
    assert list(table.columns) == ["frequency_hz", "magnitude_db", "snr_db"]
    assert table.units["magnitude_db"] == "dB"
    for name, column in curve().columns.items():
        np.testing.assert_array_equal(table[name], column)
    (logged,) = again.logbook()
    assert logged.finding == finding
    assert sentence(logged.finding) == sentence(finding)
    again.close()


def test_every_act_can_be_undone_and_done_again(book):
    row = book.add_filter("A", VOICE, seed=None)
    run_id, (finding_id,) = add_run(book, row, findings=[Finding("peak_db", 3.0, "dB")])
    book.set_values(row, {"cutoff_hz": 900.0})
    book.keep(finding_id)
    note = book.add_note("Start with A")
    book.show_run(run_id, shown=False)
    book.show_note(note, shown=False)
    book.show_filter(row, shown=False)

    def state():
        return (book.settings().get(row, {}).get("cutoff_hz"), len(book.logbook()), [n.text for n in book.notes()],
                len(book.runs(row, "response")), len(book.filters()))

    seen = [state()]
    assert seen[0] == (900.0, 1, [], 0, 0)
    kinds = []
    while (act := book.undo()) is not None:
        kinds.append(act.kind)
        seen.append(state())
    assert kinds == ["filter", "note", "run", "note", "keep", "set", "filter"]
    assert seen[-1] == (None, 0, [], 1, 0)
    again = []
    while (act := book.redo()) is not None:
        again.append(act.kind)
        assert state() == seen[len(kinds) - len(again)]
    assert again == kinds[::-1]


def test_a_new_act_overtakes_what_was_undone(book):
    row = book.add_filter("A", VOICE, seed=None)
    book.set_values(row, {"cutoff_hz": 900.0})
    book.undo()
    book.set_values(row, {"cutoff_hz": 700.0})
    assert book.redo() is None
    assert book.settings()[row]["cutoff_hz"] == 700.0


def test_moving_a_control_to_where_it_stands_is_no_act(book):
    row = book.add_filter("A", VOICE, seed=None)
    assert book.set_values(row, {"cutoff_hz": 900.0})
    assert not book.set_values(row, {"cutoff_hz": 900.0})
    assert book.undo().state["values"] == {"cutoff_hz": None}


def test_presses_that_follow_each_other_are_one_act(book):
    row = book.add_filter("A", VOICE, seed=None)
    for hz in (900.0, 910.0, 920.0):
        book.set_values(row, {"cutoff_hz": hz}, together=True)
    book.set_values(row, {"resonance_percent": 10.0}, together=True)
    book.set_values(row, {"cutoff_hz": 930.0})
    assert book.undo().state["values"] == {"cutoff_hz": 920.0}
    assert book.undo().state["values"] == {"resonance_percent": None}
    assert book.undo().state["values"] == {"cutoff_hz": None}


def test_a_run_put_aside_leaves_the_one_before(book):
    row = book.add_filter("A", VOICE, seed=None)
    first, _ = add_run(book, row)
    second, _ = add_run(book, row)
    other, _ = add_run(book, row, standing={**STANDING, "mode": "bandpass-12"})
    assert {run.id for run in book.newest_runs(row)} == {second, other}
    book.show_run(second, shown=False)
    assert {run.id for run in book.newest_runs()} == {first, other}
    assert book.run(second).mode == "lowpass-24"  # nothing of it is lost
    assert [run.id for run in book.runs(row, "response", mode="lowpass-24")] == [first]


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


def test_the_demo_book_is_a_session_half_done(tmp_path, monkeypatch, measured_demo):
    monkeypatch.setenv("JIYUU_DATA_DIR", str(tmp_path))
    monkeypatch.setattr("jiyuu.bench.demo.write_demo_book", lambda path: shutil.copyfile(measured_demo, path))
    prepare_demo_book()
    stamp = demo_book_path().stat().st_mtime_ns
    prepare_demo_book()
    assert demo_book_path().stat().st_mtime_ns == stamp
    demo = Book.open(demo_book_path())
    shelf = demo.filters()
    assert [s.letter for s in shelf] == list("ABCDEF")
    assert len({s.document.circuit for s in shelf}) == len(BOARDS) == 6

    kept = demo.settings()

    def state(shelved):
        own = kept.get(shelved.id, {})
        return states(demo, shelved.id, Standing.of(shelved.document, own), own)["response"]

    assert [state(s) for s in shelf] == [
        StepState.DONE, StepState.OUTSIDE, StepState.OPEN, StepState.STALE, StepState.OPEN, StepState.OPEN
    ]
    assert len(demo.logbook()) == 2
    assert len(demo.notes()) == 2
    demo.close()
    assert [p.name for p in tmp_path.iterdir()] == [demo_book_path().name]


WRITER = """
import sys
from contextlib import closing
from pathlib import Path
import numpy as np
from jiyuu.book.enclosed import Enclosure, enclosed
from jiyuu.book.store import Book
from jiyuu.book.table import Table
from jiyuu.measurement.finding import Finding

book = Book.open(Path(sys.argv[1]))
row = book.filters()[0].id
hz = np.geomspace(20, 20000, 500)
for i in range(100000):
    _, rows = book.add_run(row, "response", "lowpass", standing={"cutoff_hz": 1.0 * i}, setting={}, facts={},
        source="script", records={"recording": (np.zeros(60000), 48000.0)},
        tables=[Table.of("response", ("frequency_hz", "Hz", hz))], findings=[Finding("peak_hz", 100.0 + i, "Hz")])
    book.keep(rows[0])
    print(100 + i, flush=True)
"""


def test_a_kill_at_any_moment_loses_nothing_that_was_kept(book, tmp_path):
    book.add_filter("A", VOICE, seed=None)
    book.close()
    path = tmp_path / "a.jiyuu"
    generator = np.random.default_rng(8)
    reported: set[float] = set()
    for _ in some(range(5), 3):
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
    assert len(reported) > 3


def test_two_programs_may_have_the_same_book_open(book, tmp_path):
    row = book.add_filter("A", VOICE, seed=None)
    second = Book.open(tmp_path / "a.jiyuu")
    second.add_note("from the second")
    book.set_values(row, {"cutoff_hz": 5.0})
    assert [n.text for n in book.notes()] == ["from the second"]
    second.close()


def test_a_book_of_the_first_version_loses_nothing(tmp_path):
    """Written by the first version, its raw records cut short; 24 acts, 5 steps, three filters measured."""
    path = tmp_path / "old.jiyuu"
    shutil.copy(Path(__file__).parent / "books" / "version-1.jiyuu", path)
    before = path.read_bytes()
    old = sqlite3.connect(f"{path.as_uri()}?mode=ro", uri=True)
    counts = {table: old.execute(f"SELECT COUNT(*) FROM {table}").fetchone()[0]
              for table in ("filters", "runs", "records", "findings", "notes", "actions")}
    findings = old.execute("SELECT id, quantity, value, unit, uncertainty, kept FROM findings ORDER BY id").fetchall()
    settings = {number: json.loads(text) for number, text in old.execute("SELECT id, settings FROM runs")}
    levels = {number: np.frombuffer(blob) for number, blob in old.execute("SELECT run_id, level_db FROM curves")}
    old.close()
    book = Book.open(path)
    assert (tmp_path / "old.jiyuu.version-1").read_bytes() == before
    new = sqlite3.connect(path)
    for table, count in counts.items():
        assert new.execute(f"SELECT COUNT(*) FROM {table}").fetchone()[0] == count, table
    now = new.execute("SELECT id, quantity, value, unit, uncertainty, kept FROM findings ORDER BY id").fetchall()
    new.close()
    assert now == [(i, {"cusp_percent": "balance_percent"}.get(name, name), *rest) for i, name, *rest in findings]
    for number, told in settings.items():
        run, tables = book.run(number), book.tables(number)
        kept = {**run.standing, **run.facts}
        columns = {f"{name}.{column}": values for name, table in tables.items() for column, values in
                   table.columns.items()}
        for name, value in told.items():
            if isinstance(value, list) and name in MOVED:
                wanted = [np.nan if v is None else v for v in value]
                np.testing.assert_array_equal(columns[MOVED[name][run.step]], wanted)
            else:
                assert kept[name] == value, name
        if number in levels:
            np.testing.assert_array_equal(tables["response"]["magnitude_db"], levels[number])
        for logged in book.findings_of_run(number):
            assert sentence(logged.finding).endswith(".")
    shelf = book.filters()
    own = book.settings()[shelf[0].id]
    assert own["self_oscillation"] == {"target": "a pitch", "pitch_hz": 440.0, "balance_db": -12.0}
    assert own["response"] == {"curve_level_v": 2.0, "cutoff_named": "peak", "beside": shelf[1].id}
    assert own["tracking"] == {"to_v": 4.0, "tolerance_cents": 2.0}
    standing = Standing.of(shelf[0].document, own)
    assert set(states(book, shelf[0].id, standing, own).values()) <= set(StepState)
    while (act := book.undo()) is not None:
        assert act.kind in ("set", "keep", "note")
    # The first version wrote down what stood before the first act, where nothing had been set.
    for shelved in shelf:
        kept = book.settings().get(shelved.id, {})
        assert Standing.of(shelved.document, kept).as_json() == Standing.of(shelved.document).as_json()
    book.close()
    again = Book.open(path)  # once is enough
    assert len(again.filters()) == 6
    again.close()


MOVED = {
    "position_percent": {"resonance": "resonance.position_percent", "self_oscillation": "pull.position_percent"},
    "peak_db": {"resonance": "resonance.peak_db"}, "body_db": {"resonance": "resonance.body_db"},
    "highest_db": {"resonance": "resonance.highest_db"}, "pull_hz": {"self_oscillation": "pull.frequency_hz"},
    "pull_v": {"self_oscillation": "pull.amplitude_v"}, "range_hz": {"self_oscillation": "range.frequency_hz"},
    "range_v": {"self_oscillation": "range.amplitude_v"},
    "harmonics_db": {"self_oscillation": "harmonics.harmonics_db"},
    "volts": {"tracking": "tracking.volts"}, "frequency_hz": {"tracking": "tracking.frequency_hz"},
    "uncertainty_hz": {"tracking": "tracking.uncertainty_hz"}, "tone_v": {"tracking": "tracking.amplitude_peak_v"},
    "settled_s": {"tracking": "tracking.settled_s"},
}


def test_a_migration_that_fails_leaves_the_book_as_it_was(tmp_path, monkeypatch):
    path = tmp_path / "a.jiyuu"
    shutil.copy(Path(__file__).parent / "books" / "version-1.jiyuu", path)
    before = path.read_bytes()

    def fails(old, new):
        raise sqlite3.OperationalError("no such column")

    for migrations, words in (({1: fails}, "cannot be read"), ({}, "cannot bring up")):
        monkeypatch.setattr("jiyuu.book.opening.MIGRATIONS", migrations)
        with pytest.raises(BookError, match=words):
            Book.open(path)
        assert path.read_bytes() == before
    assert not list(tmp_path.glob(".jiyuu-*"))


@pytest.mark.long
def test_a_kill_while_a_book_is_made_leaves_none_or_a_whole_one(tmp_path):
    generator = np.random.default_rng(3)
    for i in some(range(6), 2):
        assert killed_while_made(tmp_path / f"{i}.jiyuu", after_s=generator.uniform(0, 0.02)) == ""


def test_a_demo_half_made_is_not_taken_for_one(tmp_path, monkeypatch):
    """Whoever ends it while it is written leaves the place free."""
    def stopped(*arguments, **how):
        raise KeyboardInterrupt

    monkeypatch.setattr("jiyuu.bench.demo.storing", stopped)  # its filters stand in it by then
    with pytest.raises(KeyboardInterrupt):
        write_demo_book(tmp_path / "demo.jiyuu", measured=False)
    assert list(tmp_path.iterdir()) == []


def test_a_book_from_before_paths_opens_with_all_it_held(tmp_path):
    """Written when a filter stood alone beside its set-up: level, trim, two sources, a measured run, an act undone."""
    from jiyuu.bench.standing import Standing
    from jiyuu.bench.walk import step_named, why_out_of_date

    path = tmp_path / "before.jiyuu"
    shutil.copy(Path(__file__).parent / "books" / "before-paths.jiyuu", path)
    book = Book.open(path)
    (shelved,) = book.filters()
    standing = Standing.of(shelved.document, book.settings()[shelved.id])
    setup = standing.setup
    assert (setup.drive_db, setup.trim_db, setup.next_limit_v, setup.key_follow_percent) == (6.0, -4.5, 8.0, 50.0)
    assert [(one.kind.value, one.pitch_hz, one.level_v) for one in setup.inputs] == [
        ("pulse", 55.0, 4.0), ("sine", 220.0, 1.5)]
    assert (setup.path, standing.cutoff_hz, standing.mode) == ((), 700.0, "lowpass-12")
    (run,) = book.runs(shelved.id, "setup")
    assert why_out_of_date(step_named("setup"), standing, setup, run) is None
    with_path = setup.changed(path=[{"stage": "filter", "id": "filter", "filter": "transistor-ladder"},
                                    {"stage": "gain", "db": 3.0}])
    assert why_out_of_date(step_named("setup"), standing.moved(setup=with_path), with_path, run) == (
        "the signal path is another")
    assert book.redo() is not None
    assert Standing.of(shelved.document, book.settings()[shelved.id]).setup.drive_db == 12.0
    book.close()


def test_a_book_to_which_nothing_could_be_enclosed_keeps_all_it_held(tmp_path):
    old = Path(__file__).parent / "books" / "version-2.jiyuu"
    path = Path(shutil.copy(old, tmp_path))
    tables = ("filters", "settings", "runs", "records", "tables", "findings", "notes")

    def rows(place):
        with closing(sqlite3.connect(place)) as connection:
            found = {table: connection.execute(f"SELECT * FROM {table}").fetchall() for table in tables}
            # What stands undone in it is overtaken by the next act.
            return {**found, "actions": connection.execute("SELECT id, kind, before, after FROM actions").fetchall()}

    before = rows(old)
    reading = Book.open(path, reading=True)
    assert enclosed(reading) == {}
    reading.close()
    assert path.read_bytes() == old.read_bytes()
    book = Book.open(path)
    note = book.add_note("front.png", enclosed=Enclosure("front.png", "image/png", b"\x89PNG"))
    assert enclosed(book) == {note: "image/png"}
    book.undo()
    book.close()
    after = rows(path)
    assert all(set(before[table]) <= set(after[table]) for table in before)
    assert path.with_name("version-2.jiyuu.version-2").read_bytes() == old.read_bytes()


def test_a_new_book_that_cannot_be_opened_is_not_left_there(tmp_path, monkeypatch):
    """The disk takes its file, and not what readers meet in."""
    def full(path):
        path.with_name(f"{path.name}-wal").touch()
        raise sqlite3.OperationalError("disk I/O error")

    monkeypatch.setattr("jiyuu.book.opening._connect", full)
    with pytest.raises(BookError, match=r"could not be made: disk I/O error; check the disk"):
        Book.create(tmp_path / "a.jiyuu")
    assert list(tmp_path.iterdir()) == []
