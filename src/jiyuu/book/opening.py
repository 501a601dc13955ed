"""A book as a file: made, opened, told from other files, brought up to date."""

from __future__ import annotations

import shutil
import sqlite3
from importlib.resources import files
from pathlib import Path

from jiyuu.errors import BookError
from jiyuu.whole_file import written_whole

APPLICATION_ID = 0x4A495955  # 'JIYU'
SCHEMA_VERSION = 1
MIGRATIONS: dict[int, str] = {}  # version -> SQL that leads from it to the next
HEADER = b"SQLite format 3\x00"


def made(path: Path) -> sqlite3.Connection:
    """A new, empty book. Raises BookError when the place is taken or cannot be written."""
    if path.exists():
        raise BookError(f"{path} exists already; open it, or choose another name.")
    try:
        connection = _connect(path)
        connection.executescript(files("jiyuu.book").joinpath("schema.sql").read_text(encoding="utf-8"))
        connection.execute(f"PRAGMA application_id = {APPLICATION_ID}")
        connection.execute(f"PRAGMA user_version = {SCHEMA_VERSION}")
        connection.commit()
        # Into the file itself: its header is what tells a book from other databases, even after a kill.
        connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    except sqlite3.Error as error:
        raise BookError(f"{path} could not be made: {error}; choose a folder you may write to.") from error
    return connection


def opened(path: Path) -> tuple[sqlite3.Connection, bool]:
    """An existing book and whether it may only be read. Raises BookError saying what is wrong."""
    if not path.is_file():
        raise BookError(f"{path} does not exist; check the name, or start a new book.")
    # Header of an SQLite file: user version at byte 60, application id at 68; read before anything may write.
    with path.open("rb") as file:
        header = file.read(72)
    if header[:16] != HEADER or len(header) < 72:
        raise BookError(f"{path} is not a book (its first bytes are not those of one); choose a *.jiyuu file.")
    if int.from_bytes(header[68:72], "big") != APPLICATION_ID:
        raise BookError(f"{path} is a database of another program; choose a *.jiyuu file.")
    version = int.from_bytes(header[60:64], "big")
    read_only = version > SCHEMA_VERSION
    try:
        if version < SCHEMA_VERSION:
            _migrate(path, version)
        connection = _connect(path, read_only=read_only)
        if connection.execute("PRAGMA quick_check(1)").fetchone()[0] != "ok":
            connection.close()
            raise BookError(f"{path} is damaged; open a copy of it from a backup.")
    except sqlite3.Error as error:
        raise BookError(f"{path} cannot be read as a book: {error}; open a copy of it from a backup.") from error
    return connection, read_only


def _migrate(path: Path, version: int) -> None:
    """Brings an older book up to date on a copy, which then takes its place; the book as it was stays beside it."""
    missing = [step for step in range(version, SCHEMA_VERSION) if step not in MIGRATIONS]
    if missing:
        raise BookError(f"{path} is of version {version}, which this program cannot bring up to date; ask for help.")
    with written_whole(path) as copy:
        source, target = sqlite3.connect(path), sqlite3.connect(copy)
        try:
            # Into the file first: a log left by a kill must not be taken for one of the book that takes its place.
            source.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            source.backup(target)
            for step in range(version, SCHEMA_VERSION):
                target.executescript(MIGRATIONS[step])
            target.execute(f"PRAGMA user_version = {SCHEMA_VERSION}")
            target.commit()
        finally:
            source.close()
            target.close()
        kept = path.with_name(f"{path.name}.version-{version}")
        if not kept.exists():
            shutil.copy2(path, kept)


def _connect(path: Path, *, read_only: bool = False) -> sqlite3.Connection:
    if read_only:
        connection = sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True, check_same_thread=False)
        connection.row_factory = sqlite3.Row
        return connection
    connection = sqlite3.connect(path, check_same_thread=False, timeout=10)
    connection.row_factory = sqlite3.Row
    connection.execute("PRAGMA journal_mode = WAL")
    connection.execute("PRAGMA synchronous = NORMAL")
    connection.execute("PRAGMA foreign_keys = ON")
    return connection
