"""A day at the bench on a disk that takes no more from some moment on: what must hold of it afterwards."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

from jiyuu.book.recovery import wrong_in
from jiyuu.book.store import Book
from jiyuu.errors import JiyuuError

# Its arguments: the book, and up to how many bytes files may grow; below 0 they may grow as they like.
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
if limit >= 0:
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


def wrong_after(path: Path, done: subprocess.CompletedProcess[str], *, filled: bool | None) -> list[str]:
    """What is wrong after a day in the folder of a book: whatever was acknowledged must be there, what was not must
    have been refused with a sentence. filled: whether something had to be refused; None where that is not known."""
    lines = done.stdout.splitlines()
    if not lines or lines[-1] != "over" or "Traceback" in done.stderr:
        return [f"it did not come to its end: {done.stderr[-600:]}"]
    said = [json.loads(line) for line in lines[:-1]]
    refused = [value for kind, value in said if kind == "refused"]
    wrong = [f"no sentence: {sentence}" for sentence in refused if len(sentence) > 400 or sentence[-1] not in ".?"]
    if filled is not None and bool(refused) != filled:
        wrong.append(f"{len(refused)} acts were refused")
    try:
        wrong += _lost(path, said)
    except JiyuuError as error:
        wrong.append(f"the book does not open: {error}")
    there = {one.name for one in path.parent.iterdir()} - {path.name, "data"}
    whole = {value for kind, value in said if kind in ("file", "folder")}
    if there != whole:
        wrong.append(f"there are {sorted(there)} where {sorted(whole)} were said to be")
    wrong += [f"left behind: {one.name}" for one in path.parent.rglob(".jiyuu-*")]
    return wrong


def _lost(path: Path, said: list[list[object]]) -> list[str]:
    book = Book.open(path)
    try:
        wrong = list(map(str, wrong_in(book)))
        for kind, there in (("note", {note.id for note in book.notes()}), ("run", {run.id for run in book.all_runs()})):
            lost = {value for what, value in said if what == kind} - there
            wrong += [f"lost: {kind} {one}" for one in lost]
        cutoffs = [value for kind, value in said if kind == "cutoff"]
        stands = book.settings()[1]["cutoff_hz"] if cutoffs else None
        if cutoffs and stands != cutoffs[-1]:
            wrong.append(f"the cutoff stands at {stands} and not at {cutoffs[-1]}")
        for run in book.all_runs():
            if book.record(run.id, "recording")[0].size not in (900, 4000):
                wrong.append(f"the record of run {run.id} is cut short")
        return wrong
    finally:
        book.close()
