"""Copies of a book by date, the newest few of them: what a mistake or a disk takes, yesterday's copy still has."""

from __future__ import annotations

import hashlib
import os
import shutil
import sqlite3
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

from jiyuu.errors import BookError
from jiyuu.stopping import checkpoint
from jiyuu.whole_file import written_whole

KEPT, MOST_BYTES = 7, 2 << 30  # copies of a book, and what all of them may take; the newest is always kept
FREE_SHARE = 0.1  # of the room that is left, that a copy may take
PAGES = 512  # copied at a time: 2 MB


def backup_folder(path: Path, data: Path) -> Path:
    """Where the copies of the book at path lie, below the application's own data."""
    whole = path.resolve()
    return data / "backups" / f"{whole.stem[:60]}-{hashlib.sha256(os.fsencode(whole)).hexdigest()[:8]}"


def backups(path: Path, data: Path) -> list[Path]:
    """Copies of a book, newest first."""
    return sorted(backup_folder(path, data).glob("????-??-??.jiyuu"), reverse=True)


def back_up(path: Path, data: Path, *, today: str) -> Iterator[Path]:
    """Makes the copy of a day, unless there is one or nothing was written since the last; then lets go of the oldest.
    today: '2026-11-27'. Yields the copy made. Raises BookError where it cannot be made."""
    there = backups(path, data)
    if any(copy.stem == today for copy in there) or (there and _changed(path) <= there[0].stat().st_mtime):
        return
    folder = backup_folder(path, data)
    target = folder / f"{today}.jiyuu"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if path.stat().st_size > FREE_SHARE * shutil.disk_usage(folder).free:
            raise BookError(f"There is too little room in {folder} for today's copy of {path.name}; free some.")
        # From a connection of its own: whoever writes meanwhile is not kept waiting.
        with (written_whole(target) as unfinished,
              closing(sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True)) as source,
              closing(sqlite3.connect(unfinished)) as copy):
            source.backup(copy, pages=PAGES, progress=lambda *_: checkpoint())
            copy.execute("PRAGMA journal_mode = DELETE")
    except (OSError, sqlite3.Error) as error:
        raise BookError(f"{target} could not be made: {error}; the book itself is as it was.") from error
    yield target
    taken = 0
    for number, old in enumerate(backups(path, data)):
        taken += old.stat().st_size
        if number and (number >= KEPT or taken > MOST_BYTES):
            old.unlink(missing_ok=True)


def _changed(path: Path) -> float:
    log = path.with_name(f"{path.name}-wal")
    return max(one.stat().st_mtime for one in (path, log) if one.exists())
