"""Where the demo book lives, and making it on first use.

    python -m jiyuu.book.demo_place     makes it if it is not there
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

import platformdirs

DEMO_BOOK = "fog-voices.jiyuu"


def demo_book_path() -> Path:
    """JIYUU_DATA_DIR moves it."""
    base = os.environ.get("JIYUU_DATA_DIR") or platformdirs.user_data_dir("jiyuu", appauthor=False)
    return Path(base) / DEMO_BOOK


def prepare_demo_book() -> None:
    """The demo book with its half-done session, measured now if it is not there yet; an existing one is left alone."""
    path = demo_book_path()
    if path.exists():
        return
    from jiyuu.book.demo import write_demo_book

    sys.stderr.write("Preparing the demo book (once, about ten seconds)\n")
    path.parent.mkdir(parents=True, exist_ok=True)
    # Under another name until it is complete, so that a broken start does not leave half a book.
    unfinished = path.with_name(f".{path.name}.{os.getpid()}")
    unfinished.unlink(missing_ok=True)
    write_demo_book(unfinished)
    unfinished.replace(path)


if __name__ == "__main__":
    prepare_demo_book()
