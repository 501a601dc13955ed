"""A book as a file: made, opened, told from other files, brought up to date."""

from __future__ import annotations

import os
import shutil
import sqlite3
import tempfile
from importlib.resources import files
from pathlib import Path

from jiyuu.book.migration import MIGRATIONS
from jiyuu.errors import BookError
from jiyuu.whole_file import written_whole

APPLICATION_ID = 0x4A495955  # 'JIYU'
SCHEMA_VERSION = 2
HEADER = b"SQLite format 3\x00"


def made(path: Path) -> sqlite3.Connection:
    """A new, empty book, made beside its place and then given its name: a kill leaves no half of one. Raises BookError
    when the place is taken or cannot be written."""
    taken = BookError(f"{path} exists already; open it, or choose another name.")
    try:
        if path.exists():
            raise taken
        handle, name = tempfile.mkstemp(dir=path.parent, prefix=".jiyuu-", suffix=".part")
        os.close(handle)
    except OSError as error:
        raise BookError(f"{path} could not be made: {error.strerror}; choose a folder you may write to.") from error
    unfinished = Path(name)
    try:
        connection = sqlite3.connect(unfinished)
        try:
            connection.executescript(files("jiyuu.book").joinpath("schema.sql").read_text(encoding="utf-8"))
            _mark(connection)
        finally:
            connection.close()
        give_name(unfinished, path)
        return _connect(path)
    except FileExistsError as error:
        raise taken from error
    except (sqlite3.Error, OSError) as error:
        raise BookError(f"{path} could not be made: {error}; choose a folder you may write to.") from error
    finally:
        unfinished.unlink(missing_ok=True)


def give_name(unfinished: Path, path: Path) -> None:
    """A finished file gets its name, unless another has it. Raises FileExistsError then."""
    unfinished.chmod(0o666 & ~_mask())
    try:
        os.link(unfinished, path)  # the one way of naming that never takes another's place
    except FileExistsError:
        raise
    except OSError as error:  # a file system without links
        if path.exists():
            raise FileExistsError(str(path)) from error
        unfinished.rename(path)


def _mask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask


def _mark(connection: sqlite3.Connection) -> None:
    connection.execute(f"PRAGMA application_id = {APPLICATION_ID}")
    connection.execute(f"PRAGMA user_version = {SCHEMA_VERSION}")
    connection.commit()


def opened(path: Path) -> tuple[sqlite3.Connection, bool]:
    """An existing book and whether it may only be read. Raises BookError saying what is wrong."""
    # Header of an SQLite file: user version at byte 60, application id at 68; read before anything may write.
    try:
        if not path.is_file():
            raise BookError(f"{path} does not exist; check the name, or start a new book.")
        with path.open("rb") as file:
            header = file.read(72)
    except OSError as error:
        raise BookError(f"{path} cannot be read: {error.strerror}; check its rights.") from error
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
        source = sqlite3.connect(path)
        try:
            # Into the file first: a log left by a kill must not be taken for one of the book that takes its place.
            source.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            kept = path.with_name(f"{path.name}.version-{version}")
            if not kept.exists():
                shutil.copy2(path, kept)
            for step in range(version, SCHEMA_VERSION):
                copy.unlink()
                target = sqlite3.connect(copy)
                try:
                    MIGRATIONS[step](source, target)
                    _mark(target)
                finally:
                    target.close()
        finally:
            source.close()


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
