"""A book that is made by a process which is killed meanwhile."""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path

from jiyuu.book.store import Book
from jiyuu.circuits.filter_file import neutral_filter
from jiyuu.errors import JiyuuError

MAKER = """
import sys
from contextlib import closing
from pathlib import Path
from jiyuu.book.enclosed import Enclosure, enclosed
from jiyuu.book.store import Book
print("going", flush=True)
Book.create(Path(sys.argv[1])).close()
print("made", flush=True)
"""


def killed_while_made(path: Path, *, after_s: float) -> str:
    """What is wrong afterwards, "" for nothing: the place must be free, or the book whole, and take an act."""
    maker = subprocess.Popen([sys.executable, "-c", MAKER, str(path)], stdout=subprocess.PIPE, text=True)
    assert maker.stdout is not None
    maker.stdout.readline()
    time.sleep(after_s)
    maker.kill()
    maker.wait()
    maker.stdout.close()
    try:
        book = Book.open(path) if path.exists() else Book.create(path)
        book.add_filter("A", neutral_filter("transistor-ladder"), seed=1)
        book.close()
    except JiyuuError as error:
        return str(error)
    return ""
