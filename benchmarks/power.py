"""A hundred losses of power at random moments: what was written and not synchronised is there, in part, or not at all;
what was acknowledged must be."""

from __future__ import annotations

import os
import random
import shutil
import struct
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

HEAD = struct.Struct("<cHHQQQ")
ACTS, MOMENTS = 400, 100
ACKS = "acks"  # the file that what is acknowledged is written to
SCRIPT = """
import sys
from pathlib import Path
import numpy as np
from jiyuu.book.store import Book
from jiyuu.circuits.filter_file import neutral_filter
folder = Path(sys.argv[1])
acks = (folder / "acks").open("w", buffering=1)
def acknowledge(what): acks.write(what + "\\n")
book = Book.create(folder / "power.jiyuu")
acknowledge("book 0")
row = book.add_filter("A", neutral_filter("transistor-ladder"), seed=1)
acknowledge("filter 0")
for n in range(int(sys.argv[2])):
    if n % 5 == 0:
        book.set_values(row, {"cutoff_hz": 100.0 + n})
        acknowledge(f"setting {n}")
    elif n % 7 == 0:
        book.add_run(row, "response", "lowpass-24", standing={}, setting={}, facts={"n": n}, source=f"run {n}",
                     records={"recording": (np.full(2000, float(n)), 48000.0)}, tables=[], findings=[])
        acknowledge(f"run {n}")
    elif n % 61 == 0:
        book.settle()
    else:
        book.add_note(f"note {n}")
        acknowledge(f"note {n}")
    if n % 97 == 96:
        book.close()
        book = Book.open(folder / "power.jiyuu")
"""


@dataclass(frozen=True, slots=True)
class Op:
    """what: N named new, W written, T cut to offset, S synchronised, U unlinked, R renamed, L linked."""

    what: str
    path: str
    other: str
    inode: int
    offset: int
    data: bytes


@dataclass(slots=True)
class Disk:
    """What has reached it, and what may or may not have: files by inode, names by path."""

    files: dict[int, bytearray] = field(default_factory=dict)
    names: dict[str, int] = field(default_factory=dict)
    unsure: dict[int, list[Op]] = field(default_factory=dict)
    renamed: list[Op] = field(default_factory=list)

    def does(self, op: Op) -> None:
        """In the order of the log."""
        if op.what in "WT":
            self.unsure.setdefault(op.inode, []).append(op)
        elif op.what == "S" and op.inode in self.unsure:
            for one in self.unsure.pop(op.inode):
                self._write(one)
        elif op.what == "S":
            here = [one for one in self.renamed if str(Path(one.other or one.path).parent) == op.path]
            for one in here:
                self._name(one)
            self.renamed = [one for one in self.renamed if one not in here]
        else:
            self.renamed.append(op)

    def loses_power(self, chance: random.Random) -> None:
        """Of what was not synchronised any part may have reached it; names in their order."""
        for ops in self.unsure.values():
            for op in ops:
                if chance.random() < 0.5:
                    self._write(op)
        for op in self.renamed[: chance.randint(0, len(self.renamed))]:
            self._name(op)

    def _write(self, op: Op) -> None:
        held = self.files.setdefault(op.inode, bytearray())
        if op.what == "T":
            del held[op.offset :]
            held.extend(bytes(op.offset - len(held)))
            return
        if len(held) < op.offset:
            held.extend(bytes(op.offset - len(held)))
        held[op.offset : op.offset + len(op.data)] = op.data

    def _name(self, op: Op) -> None:
        if op.what == "N":
            self.names[op.path] = op.inode
        elif op.what == "U":
            self.names.pop(op.path, None)
        elif op.path in self.names:
            self.names[op.other] = self.names[op.path]
            if op.what == "R":
                del self.names[op.path]


def read_log(path: Path) -> list[Op]:
    """Everything in it, in order."""
    data, at, found = path.read_bytes(), 0, []
    while at < len(data):
        what, name, other, inode, offset, size = HEAD.unpack_from(data, at)
        at += HEAD.size
        parts = []
        for length in (name, other, size if what == b"W" else 0):
            parts.append(data[at : at + length])
            at += length
        found.append(Op(what.decode(), parts[0].decode(), parts[1].decode(), inode, offset, parts[2]))
    return found


def library_in(place: Path) -> Path:
    """What is loaded ahead of libc. Raises CalledProcessError where it cannot be compiled."""
    library, source = place / "power.so", str(Path(__file__).with_name("power.c"))
    subprocess.run(["cc", "-O1", "-w", "-shared", "-fPIC", "-D_LARGEFILE64_SOURCE", source, "-o", str(library), "-ldl",
                    "-lpthread"], check=True)
    return library


def recorded(place: Path) -> list[Op]:
    """What the script does to its folder. Raises CalledProcessError where there is no C compiler, or it fails."""
    library, folder, log = library_in(place), place / "bench", place / "log"
    folder.mkdir()
    subprocess.run([sys.executable, "-c", SCRIPT, str(folder), str(ACTS)], check=True,
                   env={**os.environ, "LD_PRELOAD": str(library), "POWER_FOLDER": str(folder), "POWER_LOG": str(log)})
    return read_log(log)


def lost_at(ops: Sequence[Op], moment: int, place: Path, chance: random.Random) -> list[str]:
    """What was acknowledged before that moment and is not there after a loss of power."""
    from jiyuu.book.recovery import wrong_in
    from jiyuu.book.store import Book
    from jiyuu.errors import JiyuuError

    disk, said = Disk(), []
    for op in ops[:moment]:
        if op.path.endswith(ACKS):
            said += op.data.decode().split("\n")[:-1]
        else:
            disk.does(op)
    disk.loses_power(chance)
    shutil.rmtree(place, ignore_errors=True)
    place.mkdir()
    for name, inode in disk.names.items():
        (place / Path(name).name).write_bytes(disk.files.get(inode, b""))
    acts = [(kind, int(number)) for kind, number in (line.split() for line in said)]
    if not acts:
        return []
    try:
        book = Book.open(place / "power.jiyuu")
    except JiyuuError as error:
        return [f"the book does not open: {error}"]
    try:
        notes = {note.text for note in book.notes()}
        runs = {run.source for run in book.all_runs()}
        settings = book.settings().get(1, {})
        stood = max((number for kind, number in acts if kind == "setting"), default=None)
        lost = [f"{kind} {number}" for kind, number in acts if
                (kind == "note" and f"note {number}" not in notes) or (kind == "run" and f"run {number}" not in runs)]
        lost += ["filter"] if ("filter", 0) in acts and not book.filters() else []
        # The one after it may have got through without having been acknowledged.
        lost += [] if stood is None or settings.get("cutoff_hz", 0.0) >= 100.0 + stood else [f"setting {stood}"]
        return lost + wrong_in(book)
    finally:
        book.close()


def main(moments: int = MOMENTS) -> None:
    """Prints how many acts were acknowledged and lost, and how many books were unusable."""
    chance, start = random.Random(33), time.perf_counter()
    if shutil.which("cc") is None:
        print("no C compiler here: losses of power are left out")
        return
    with tempfile.TemporaryDirectory() as name:
        place = Path(name)
        ops = recorded(place)
        lost = [lost_at(ops, chance.randrange(1, len(ops) + 1), place / "after", chance) for _ in range(moments)]
        syncs = sum(op.what == "S" for op in ops)
        print(f"{moments} losses of power in {time.perf_counter() - start:.0f} s, among {len(ops)} writes, {syncs} of "
              f"them synchronising: {sum(map(bool, lost))} with something lost (wanted 0)")
        for one in [line for lines in lost for line in lines][:10]:
            print(f"  lost: {one}")


if __name__ == "__main__":
    main()
