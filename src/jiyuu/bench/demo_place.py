"""Where the demo book lives, and making it on first use.

    python -m jiyuu.bench.demo_place     makes it if it is not there
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

import platformdirs

from jiyuu.errors import BookError

DEMO_BOOK = "fog-voices.jiyuu"


def data_folder() -> Path:
    """The application's own data; JIYUU_DATA_DIR moves it."""
    return Path(os.environ.get("JIYUU_DATA_DIR") or platformdirs.user_data_dir("jiyuu", appauthor=False))


def demo_book_path() -> Path:
    """In the application's own data."""
    return data_folder() / DEMO_BOOK


def prepare_demo_book() -> None:
    """The demo book with its half-done session, measured now if it is not there yet; an existing one is left alone.
    Raises BookError where its folder cannot be made."""
    path = demo_book_path()
    if path.exists():
        return
    from jiyuu.bench.demo import write_demo_book

    sys.stderr.write("Preparing the demo book (once, about ten seconds)\n")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise BookError(f"{path.parent} cannot be made: {error.strerror}; set JIYUU_DATA_DIR to a folder you may write "
                        "to.") from error
    write_demo_book(path)


if __name__ == "__main__":
    prepare_demo_book()
