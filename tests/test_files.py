"""Nothing is written onto what it is made from, nor by halves, nor onto what nobody said may go."""

import os
import sqlite3
import stat
import threading

import numpy as np
import pytest

from jiyuu.book.opening import made
from jiyuu.circuits.filter_file import Filter, write_filter
from jiyuu.cli.entry import main
from jiyuu.errors import BookError, JiyuuError
from jiyuu.signals.recordings import write_recording
from jiyuu.whole_file import write_bytes, write_text, written_whole

RATE = 48_000


@pytest.fixture
def files(tmp_path):
    write_filter(tmp_path / "a.filter.json", Filter(name="Fog voice", circuit="ota-cascade"))
    write_recording(tmp_path / "in.wav", 0.1 * np.sin(2 * np.pi * 440 * np.arange(RATE // 4) / RATE), RATE)
    return tmp_path


def by_other_names(path):
    """The same file by a detour, a link, a second name."""
    yield path
    yield path.parent / "." / path.name
    link = path.parent / f"link-{path.name}"
    link.symlink_to(path)
    yield link
    second = path.parent / f"second-{path.name}"
    os.link(path, second)
    yield second


@pytest.mark.parametrize("command", [
    lambda f, out: ("render", f / "a.filter.json", f / "in.wav", out),
    lambda f, out: ("measure", "response", f / "in.wav", f / "in.wav", "--out", out),
])
def test_no_command_writes_onto_the_recording_it_reads(files, capfd, command):
    before = (files / "in.wav").read_bytes()
    for out in by_other_names(files / "in.wav"):
        assert main([str(a) for a in command(files, out)]) == 2
        assert "is what is being read and would be lost" in capfd.readouterr().err
        assert (files / "in.wav").read_bytes() == before


@pytest.mark.parametrize("command", ["respond", "netlist"])
def test_no_command_writes_onto_the_filter_it_reads(files, capfd, command):
    before = (files / "a.filter.json").read_bytes()
    for out in by_other_names(files / "a.filter.json"):
        assert main([command, str(files / "a.filter.json"), "--out", str(out)]) == 2
        assert "would be lost" in capfd.readouterr().err
        assert (files / "a.filter.json").read_bytes() == before


def test_what_stood_there_stays_where_writing_breaks_off(tmp_path):
    path = tmp_path / "figure.svg"
    path.write_text("before")

    def broken_off():
        with written_whole(path) as temporary:
            temporary.write_text("half")
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        broken_off()
    assert path.read_text() == "before"
    assert [found.name for found in tmp_path.iterdir()] == ["figure.svg"]


def test_links_and_rights_are_kept_and_a_pipe_is_written_into(tmp_path):
    path, link, pipe = tmp_path / "real.txt", tmp_path / "link.txt", tmp_path / "pipe"
    path.write_text("before")
    path.chmod(0o640)
    link.symlink_to(path)
    write_text(link, "after")
    assert link.is_symlink()
    assert path.read_text() == "after"
    assert stat.S_IMODE(path.stat().st_mode) == 0o640
    os.mkfifo(pipe)
    heard = []
    reader = threading.Thread(target=lambda: heard.append(pipe.read_bytes()))
    reader.start()
    write_bytes(pipe, b"through")
    reader.join(10)
    assert heard == [b"through"]
    assert stat.S_ISFIFO(pipe.stat().st_mode)


def test_a_folder_or_nowhere_is_said(tmp_path):
    with pytest.raises(JiyuuError, match="is a folder"):
        write_text(tmp_path, "x")
    with pytest.raises(JiyuuError, match="is not a folder; make it first"):
        write_text(tmp_path / "nowhere" / "x.txt", "x")


@pytest.mark.parametrize("ends_well", [True, False])
def test_what_a_database_leaves_beside_an_unfinished_file_goes_with_it(tmp_path, ends_well):
    def filled():
        with written_whole(tmp_path / "copy.jiyuu") as unfinished:
            unfinished.write_bytes(b"whole")
            for end in ("-journal", "-wal", "-shm"):
                unfinished.with_name(f"{unfinished.name}{end}").touch()
            if not ends_well:
                raise OSError(28, "No space left on device")

    if ends_well:
        filled()
    else:
        with pytest.raises(JiyuuError, match="No space left"):
            filled()
    assert [one.name for one in tmp_path.iterdir()] == ["copy.jiyuu"] * ends_well


def test_a_new_book_leaves_nothing_beside_it_where_its_disk_fills_up(tmp_path):
    def full(connection):
        name = connection.execute("PRAGMA database_list").fetchone()[2]
        for end in ("-journal", "-wal"):
            (tmp_path / f"{name.rpartition('/')[2]}{end}").touch()
        raise sqlite3.OperationalError("database or disk is full")

    with pytest.raises(BookError, match="full; check the disk"):
        made(tmp_path / "a.jiyuu", full)
    assert list(tmp_path.iterdir()) == []
