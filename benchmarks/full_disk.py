"""A disk that is full from any write of a scripted day on: nothing acknowledged is lost, nothing half-written stays."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from benchmarks.power import library_in, read_log
from tests.book.full_disk import DAY, wrong_after
from tests.book.test_exchange import written

AT_ONCE = 2


def day(place: Path, library: Path, full_at: int) -> tuple[int, list[str]]:
    """(writes that were asked for, what is wrong afterwards) where the disk takes so many; below 0 it takes all."""
    folder, log = place / "bench", place / "log"
    folder.mkdir(parents=True)
    path = written(folder / "a.jiyuu", runs=2)
    done = subprocess.run(
        [sys.executable, "-c", DAY, str(path), "-1"], capture_output=True, text=True, check=False, timeout=120,
        env={**os.environ, "LD_PRELOAD": str(library), "POWER_FOLDER": str(folder), "POWER_LOG": str(log),
             "POWER_FULL_AT": str(full_at)})
    writes = sum(op.what == "W" for op in read_log(log)) if log.exists() else 0
    wrong = wrong_after(path, done, filled=False if full_at < 0 else None)
    shutil.rmtree(place)
    return writes, wrong


def main(step: int = 1) -> None:
    """Prints at how many writes the disk was full, and after which of them something was wrong."""
    if shutil.which("cc") is None:
        print("no C compiler here: full disks are left out")
        return
    start = time.perf_counter()
    with tempfile.TemporaryDirectory() as name:
        place = Path(name)
        library = library_in(place)
        writes, wrong = day(place / "whole", library, -1)
        print(*wrong, sep="\n", end="")
        with ThreadPoolExecutor(AT_ONCE) as pool:
            found = list(pool.map(lambda n: day(place / str(n), library, n)[1], range(0, writes, step)))
        for n, faults in zip(range(0, writes, step), found, strict=True):
            for fault in faults:
                print(f"full at write {n}: {fault}")
        print(f"a day of {writes} writes, full at {len(found)} of them, in {time.perf_counter() - start:.0f} s: "
              f"{sum(map(bool, found))} with something wrong (wanted 0)")
