"""A book as a folder of open files and back, and what is got out of a damaged one."""

import filecmp
import json
import shutil
import sqlite3
from pathlib import Path

import numpy as np
import pytest
import soundfile

from jiyuu.book.enclosed import LARGEST_BYTES, Enclosure, enclosed, enclosure_of, read_enclosure
from jiyuu.book.exchange import export_book, import_book
from jiyuu.book.recovery import recover, wrong_in
from jiyuu.book.store import Book
from jiyuu.book.table import Table
from jiyuu.circuits.filter_file import Filter, read_filter
from jiyuu.cli.entry import main
from jiyuu.errors import BookError
from jiyuu.measurement.contexts import HumpPlace
from jiyuu.measurement.finding import Finding, Tolerance

VOICES = [Filter(name="Fog voice A", circuit="transistor-ladder", cutoff_hz=820.0),
          Filter(name="Fog voice B", circuit="state-variable", notes="Lantern room; 1,2 kΩ")]
PICTURE = b"\x89PNG\r\n\x1a\n" + bytes(range(256)) * 3
TABLES = ("filters", "settings", "runs", "records", "tables", "findings", "notes", "enclosures", "actions")


def written(path: Path, *, runs: int = 3) -> Path:
    """A book with something of everything in it, odd values among them."""
    book, generator = Book.create(path), np.random.default_rng(6)
    rows = [book.add_filter(letter, voice, seed=seed)
            for letter, voice, seed in zip("AB", VOICES, (3, None), strict=True)]
    book.set_values(rows[0], {"cutoff_hz": 0.1 + 0.2, "parameters": {"stage_headroom_v": 1 / 3}})
    for i in range(runs):
        hz = np.geomspace(20, 20_000, 40 + i)
        level = np.where(hz > 5000, np.nan, -hz / 7)
        level[0] = np.inf
        _, findings = book.add_run(
            rows[i % 2], "response", "lowpass-24", standing={"cutoff_hz": 820.0, "mode": "lowpass-24"},
            setting={"every_mode": False}, facts={"kind": "lowpass", "note": "ä, \"quoted\""}, source="simulated rig",
            records={"recording": (generator.normal(size=900) * 20.0 ** (-i), 48_000.0),
                     "tiny": (np.array([1e-42, 0.0, -1.5]), 44_100.0), "empty": (np.zeros(0), 48_000.0)},
            tables=[Table.of("response", ("frequency_hz", "Hz", hz), ("magnitude_db", "dB", level)),
                    Table.of("odd", ("only, one", "", [np.nan, 2.0]))],
            findings=[Finding("hump_db", 3.0 + i, "dB", 0.2, Tolerance(-1, 4), HumpPlace(300.0, -1.5)),
                      Finding("peak_hz", 1 / 7, "Hz")])
        book.keep(findings[0])
    book.add_note("half-way\nup the stairs", filter_id=rows[1])
    book.add_note("front.png", filter_id=rows[0], enclosed=Enclosure("front.png", "image/png", PICTURE))
    book.show_note(book.add_note("put away"), shown=False)
    book.undo()
    book.close()
    return path


def content(path: Path) -> dict[str, list]:
    """Every value of every table."""
    connection = sqlite3.connect(path)
    found = {table: connection.execute(f"SELECT * FROM {table} ORDER BY 1, 2").fetchall() for table in TABLES}
    connection.close()
    return found


def alike(one: Path, other: Path) -> bool:
    """Byte by byte, through all folders."""
    names = {path.relative_to(one) for path in one.rglob("*")}
    files = [str(name) for name in names if (one / name).is_file()]
    return names == {path.relative_to(other) for path in other.rglob("*")} and filecmp.cmpfiles(
        one, other, files, shallow=False)[1:] == ([], [])


def test_a_folder_holds_all_of_a_book_and_makes_it_again(tmp_path):
    before = written(tmp_path / "a.jiyuu")
    book = Book.open(before)
    export_book(book, tmp_path / "out")
    book.close()
    import_book(tmp_path / "out", tmp_path / "b.jiyuu").close()
    assert content(tmp_path / "b.jiyuu") == content(before)
    again = Book.open(tmp_path / "b.jiyuu")
    export_book(again, tmp_path / "again")
    assert again.redo() is not None  # what was undone still is
    again.close()
    assert alike(tmp_path / "out", tmp_path / "again")


def test_its_files_are_those_that_others_read(tmp_path):
    book = Book.open(written(tmp_path / "a.jiyuu"))
    export_book(book, tmp_path / "out")
    volts, rate = book.record(1, "recording")
    table = book.tables(1)["response"]
    book.close()
    assert read_filter(tmp_path / "out" / "filters" / "B.filter.json") == VOICES[1]
    run = json.loads((tmp_path / "out" / "runs" / "1" / "run.json").read_text())
    record = next(one for one in run["records"] if one["name"] == "recording")
    samples, found_hz = soundfile.read(tmp_path / "out" / "runs" / "1" / record["file"])
    assert found_hz == rate
    assert np.array_equal(samples * record["full_scale_v"], volts)
    rows = np.genfromtxt(tmp_path / "out" / "runs" / "1" / "response.csv", delimiter=",", names=True)
    assert np.array_equal(rows["magnitude_db"], table["magnitude_db"], equal_nan=True)


def test_the_demo_goes_round_by_command(tmp_path, capsys):
    from jiyuu.bench.demo import write_demo_book

    book, folder, again = tmp_path / "demo.jiyuu", tmp_path / "open", tmp_path / "again.jiyuu"
    write_demo_book(book, measured=False)
    before = book.read_bytes()
    assert main(["exchange", str(book), "--out", str(folder), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["filters"] == 6
    assert book.read_bytes() == before
    assert main(["exchange", str(folder), "--out", str(again)]) == 0
    assert content(again) == content(book)
    assert main(["exchange", str(folder), "--out", str(again)]) == 2
    assert main(["exchange", str(book), "--out", str(folder)]) == 2
    assert [line.startswith("jiyuu: ") for line in capsys.readouterr().err.splitlines()] == [True, True]


def in_json(name, change):
    def spoilt(folder):
        path = folder / name
        document = json.loads(path.read_text())
        change(document)
        path.write_text(json.dumps(document))
    return spoilt


SPOILT = {
    "no head": (lambda folder: (folder / "book.json").unlink(), "book.json could not be read"),
    "no JSON": (lambda folder: (folder / "book.json").write_text("{"), "not valid JSON"),
    "no text": (lambda folder: (folder / "actions.json").write_bytes(b"\xff\xfe{}"), "not text in UTF-8"),
    "another format": (in_json("book.json", lambda one: one.update(format="else")), "format"),
    "a later version": (in_json("book.json", lambda one: one.update(version=2)), "version"),
    "an unknown key": (in_json("runs/1/run.json", lambda one: one.update(more=1)), "more"),
    "a name that leads away": (in_json("book.json", lambda one: one["filters"][0].update(
        file="filters/../../x.filter.json")), "no name of a file"),
    "a picture that is none": (lambda folder: (folder / "enclosed" / "2.png").write_bytes(b"no"), "begin like one"),
    "a picture that is gone": (lambda folder: (folder / "enclosed" / "2.png").unlink(), "cannot be read"),
    "two of one number": (in_json("book.json", lambda one: one["filters"].append(one["filters"][0])), "one number"),
    "a run of nobody": (in_json("runs/1/run.json", lambda one: one.update(filter=77)), "not there"),
    "a run elsewhere": (lambda folder: (folder / "runs" / "1").rename(folder / "runs" / "9"), "bears its number"),
    "no table": (lambda folder: (folder / "runs" / "1" / "response.csv").unlink(), "could not be read"),
    "a word for a number": (lambda folder: (folder / "runs" / "1" / "response.csv").write_text(
        "frequency_hz,magnitude_db\n20,loud\n"), "number or empty"),
    "a row too short": (lambda folder: (folder / "runs" / "1" / "response.csv").write_text(
        "frequency_hz,magnitude_db\n20\n"), "does not have 2 values"),
    "other columns": (lambda folder: (folder / "runs" / "1" / "response.csv").write_text("a,b\n1,2\n"), "first line"),
    "no sound": (lambda folder: (folder / "runs" / "1" / "recording.wav").write_bytes(b"RIFF" * 40), "as WAV"),
    "a filter that is none": (lambda folder: (folder / "filters" / "A.filter.json").write_text("{}"), "name"),
}


@pytest.mark.parametrize("name", SPOILT)
def test_a_folder_that_is_not_whole_makes_no_book(name, tmp_path):
    spoilt, said = SPOILT[name]
    book = Book.open(written(tmp_path / "a.jiyuu", runs=1))
    export_book(book, tmp_path / "out")
    book.close()
    spoilt(tmp_path / "out")
    with pytest.raises(BookError, match=said):
        import_book(tmp_path / "out", tmp_path / "b.jiyuu")
    assert not (tmp_path / "b.jiyuu").exists()
    assert not list(tmp_path.glob(".jiyuu-*"))


def test_a_place_that_is_taken_stays_as_it_is(tmp_path):
    book = Book.open(written(tmp_path / "a.jiyuu", runs=1))
    (tmp_path / "out").mkdir()
    export_book(book, tmp_path / "out")  # an empty one is as good as none
    for place, said in ((tmp_path / "out", "exists already"), (tmp_path / "a.jiyuu", "exists already"),
                        (tmp_path / "nowhere" / "out", "make it first")):
        with pytest.raises(BookError, match=said):
            export_book(book, place)
    book.close()


def spoil(path: Path, *statements: tuple[str, tuple]) -> None:
    connection = sqlite3.connect(path)
    for statement, values in statements:
        connection.execute(statement, values)
    connection.commit()
    connection.close()


def test_what_does_not_read_is_listed_and_the_rest_got_out(tmp_path):
    path = written(tmp_path / "a.jiyuu", runs=6)
    spoil(path, ("UPDATE filters SET document = '{' WHERE letter = 'B'", ()),
          ("UPDATE runs SET standing = ? WHERE id = 2", (b"\xff\x00",)),
          ("UPDATE findings SET value = 'loud' WHERE id = 1", ()),
          ("UPDATE tables SET length = 9 WHERE run_id = 3 AND name = 'response'", ()),
          ("UPDATE records SET volts = x'00' WHERE run_id = 4 AND name = 'recording'", ()))
    before = path.read_bytes()
    found = recover(path, tmp_path / "b.jiyuu")
    assert path.read_bytes() == before
    for said in ("Filter B", "Run 2", "Finding 1", "Table 'response'", "record 'recording' of run 4"):
        assert any(said in line for line in found.lost), said
    book = Book.open(tmp_path / "b.jiyuu")
    assert book.filters()[0].document.name == "Fog voice A"
    assert {run.id for run in book.all_runs()} == {1, 3, 4, 5, 6}
    assert wrong_in(book) == []
    assert book.record(5, "recording")[0].size == 900
    book.close()


def test_a_book_whose_pages_are_lost_gives_what_is_left(tmp_path, capsys):
    path = written(tmp_path / "a.jiyuu", runs=40)
    whole, data = content(path), bytearray(path.read_bytes())
    for place in range(4096 * (len(data) // 4096 // 2), len(data) - 4096, 5 * 4096):
        data[place : place + 4096] = bytes(range(256)) * 16
    path.write_bytes(data)
    assert main(["validate", str(path)]) == 2
    assert "jiyuu recover" in capsys.readouterr().err
    assert main(["recover", str(path), "--out", str(tmp_path / "b.jiyuu"), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["lost"]
    assert sum(told["rows"].values()) > 20
    kept = content(tmp_path / "b.jiyuu")
    # Nothing is there that was not there before.
    for table in ("runs", "findings", "notes", "records"):
        assert {row[:2] for row in kept[table]} <= {row[:2] for row in whole[table]}
    assert main(["validate", str(tmp_path / "b.jiyuu")]) == 0


def test_a_book_cut_short_is_named_and_gives_what_is_left(tmp_path):
    path = written(tmp_path / "a.jiyuu", runs=40)
    path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])
    with pytest.raises(BookError, match=r"cut short.*jiyuu recover"):
        Book.open(path)
    assert recover(path, tmp_path / "b.jiyuu").rows["filters"] == 2


@pytest.mark.parametrize("data", [b"", b"no book at all", b"SQLite format 3\x00" + bytes(84), None])
def test_what_is_no_book_is_not_recovered(data, tmp_path):
    path = tmp_path / "a.jiyuu"
    if data is not None:
        path.write_bytes(data)
    with pytest.raises(BookError):
        recover(path, tmp_path / "b.jiyuu")
    assert not (tmp_path / "b.jiyuu").exists()


def test_a_recovered_book_is_no_more_than_a_copy_where_nothing_was_lost(tmp_path):
    path = written(tmp_path / "a.jiyuu")
    found = recover(path, tmp_path / "b.jiyuu")
    assert found.lost == []
    assert content(tmp_path / "b.jiyuu") == content(path)
    with pytest.raises(BookError, match="exists already"):
        recover(path, tmp_path / "b.jiyuu")
    shutil.rmtree(tmp_path)


def test_what_is_enclosed_is_the_file_it_was(tmp_path):
    book = Book.create(tmp_path / "a.jiyuu")
    sound = tmp_path / "knock.wav"
    soundfile.write(sound, np.linspace(-0.5, 0.5, 300), 48_000)
    (tmp_path / "front.PNG").write_bytes(PICTURE)
    notes = [book.add_note(path.name, enclosed=read_enclosure(path)) for path in (sound, tmp_path / "front.PNG")]
    book.add_note("words only")
    assert enclosed(book) == dict(zip(notes, ["audio/wav", "image/png"], strict=True))
    assert enclosure_of(book, notes[0]) == Enclosure("knock.wav", "audio/wav", sound.read_bytes())
    assert enclosure_of(book, notes[1]).is_picture
    assert enclosure_of(book, 99) is None
    export_book(book, tmp_path / "out")
    assert (tmp_path / "out" / "enclosed" / f"{notes[0]}.wav").read_bytes() == sound.read_bytes()
    book.undo()
    book.undo()  # the note with the picture
    assert [note.text for note in book.notes()] == ["knock.wav"]
    book.close()


@pytest.mark.parametrize(("name", "content", "says"), [
    ("scan.pdf", b"%PDF", "neither a picture"), ("scan.png", b"GIF89a", "does not begin like one"),
    ("nothing.wav", b"", "does not begin like one"), ("gone.flac", None, "cannot be read")])
def test_what_cannot_be_enclosed_is_refused(tmp_path, name, content, says):
    if content is not None:
        (tmp_path / name).write_bytes(content)
    with pytest.raises(BookError, match=says):
        read_enclosure(tmp_path / name)


def test_what_is_too_large_for_a_logbook_is_refused_before_it_is_read(tmp_path):
    path = tmp_path / "long.wav"
    with path.open("wb") as file:
        file.truncate(LARGEST_BYTES + 1)
    with pytest.raises(BookError, match="200 MB lie in a"):
        read_enclosure(path)


def test_a_damaged_enclosure_is_named_and_left_out_of_what_is_recovered(tmp_path):
    path = written(tmp_path / "a.jiyuu", runs=1)
    connection = sqlite3.connect(path)
    connection.execute("UPDATE enclosures SET media = 'text/plain'")
    connection.commit()
    connection.close()
    book = Book.open(path)
    assert any("neither picture nor recording" in line for line in wrong_in(book))
    book.close()
    found = recover(path, tmp_path / "b.jiyuu")
    assert found.rows["enclosures"] == 0
    assert any(line.startswith("enclosures: ") for line in found.lost)
    assert recover(Path(__file__).parent / "books" / "version-2.jiyuu", tmp_path / "c.jiyuu").lost == []
