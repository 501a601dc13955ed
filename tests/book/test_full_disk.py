"""A disk that is full at any write: files may grow to so many bytes and no further, which the system refuses like a
full disk. Every act is either there afterwards or was refused with a sentence."""

import json
import subprocess
import sys
from pathlib import Path

import pytest

from jiyuu.book.recovery import wrong_in
from jiyuu.book.store import Book
from tests.book.test_exchange import written

DAY = """
import json, resource, signal, sys
from pathlib import Path
import numpy as np
from jiyuu.book.backup import back_up
from jiyuu.book.exchange import export_book
from jiyuu.book.store import Book
from jiyuu.circuits.filter_file import Filter
from jiyuu.errors import JiyuuError
from jiyuu.measurement.finding import Finding
from jiyuu.signals.long_record import Record
from jiyuu.signals.recordings import write_recording

path, limit = Path(sys.argv[1]), int(sys.argv[2])
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
resource.setrlimit(resource.RLIMIT_FSIZE, (limit, resource.RLIM_INFINITY))

def say(kind, value):
    print(json.dumps([kind, value]), flush=True)

def tried(kind, do):
    try:
        say(kind, do())
    except JiyuuError as error:
        say("refused", str(error))

def run():
    number, _ = book.add_run(1, "response", "lowpass-24", standing={}, setting={}, facts={}, source="day",
        records={"recording": (np.ones(4000), 48000.0)}, tables=[], findings=[Finding("peak_hz", 5.0, "Hz")])
    return number

def new_book():
    Book.create(path.with_name("new.jiyuu")).close()
    return "new.jiyuu"

def long_record():
    Record.gathered([np.ones(400_000)] * 3)
    return 0

book = Book.open(path)
for i in range(8):
    tried("cutoff", lambda: (book.set_values(1, {"cutoff_hz": 100.0 + i}), 100.0 + i)[1])
    tried("note", lambda: book.add_note("x" * 3000 + str(i)))
    tried("run", run)
tried("file", lambda: (write_recording(path.with_name("out.wav"), np.ones(30_000), 48_000), "out.wav")[1])
tried("folder", lambda: (export_book(book, path.with_name("folder")), "folder")[1])
tried("copy", lambda: [str(one) for one in back_up(path, path.with_name("data"), today="2026-11-27")])
tried("file", new_book)
tried("long", long_record)
try:
    book.close()
except JiyuuError as error:
    say("refused", str(error))
print("over", flush=True)
"""


ENOUGH_KB = 20_000


@pytest.mark.parametrize("limit_kb", [0, 30, 60, 110, 160, 210, ENOUGH_KB])
def test_what_is_acknowledged_is_there_and_what_is_not_was_refused(limit_kb, tmp_path):
    path = written(tmp_path / "a.jiyuu", runs=2)
    limit = limit_kb * 1024
    done = subprocess.run([sys.executable, "-c", DAY, str(path), str(limit)], capture_output=True, text=True,
                          check=False, timeout=120)
    *lines, last = done.stdout.splitlines()
    assert last == "over", done.stderr
    assert "Traceback" not in done.stderr
    said = [json.loads(line) for line in lines]
    refused = [value for kind, value in said if kind == "refused"]
    assert [sentence for sentence in refused if len(sentence) > 400 or sentence[-1] not in ".?"] == []
    assert bool(refused) == (limit_kb < ENOUGH_KB)
    book = Book.open(path)
    assert wrong_in(book) == []
    notes, runs = {note.id for note in book.notes()}, {run.id for run in book.all_runs()}
    assert {value for kind, value in said if kind == "note"} <= notes
    assert {value for kind, value in said if kind == "run"} <= runs
    cutoffs = [value for kind, value in said if kind == "cutoff"]
    if cutoffs:
        assert book.settings()[1]["cutoff_hz"] == cutoffs[-1]
    for run in runs:
        assert book.record(run, "recording")[0].size in (900, 4000)
    book.close()
    there = {one.name for one in tmp_path.iterdir()} - {"a.jiyuu", "data"}
    assert there == {value for kind, value in said if kind in ("file", "folder")}  # whole, or not at all
    assert not list(Path(tmp_path).rglob(".jiyuu-*"))
