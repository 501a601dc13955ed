"""A book as a file: made, opened, told from other files, brought up to date."""

from __future__ import annotations

import os
import shutil
import sqlite3
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path

from jiyuu.book.migration import MIGRATIONS
from jiyuu.errors import BookError
from jiyuu.whole_file import take_away, to_disk, written_whole

APPLICATION_ID = 0x4A495955  # 'JIYU'
SCHEMA_VERSION = 3
HEADER = b"SQLite format 3\x00"
BUSY_S = 0.5
FULL = "lies on a disk that takes nothing more and is open for reading only; free some space and open it again"
# What reading a damaged file ends in: the library's own complaint may itself be no text.
UNREADABLE = (sqlite3.Error, UnicodeDecodeError)
MEND = "'jiyuu recover' gets out what still reads, or open a copy of it from a backup"


def made(path: Path, fill: Callable[[sqlite3.Connection], None] | None = None) -> sqlite3.Connection:
    """A new book, made beside its place and then given its name: a kill leaves no half of one. fill: what is put into
    it first; else it is empty. Raises BookError when the place is taken or cannot be written."""
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
            if fill is not None:
                fill(connection)
            _mark(connection)
        finally:
            connection.close()
        give_name(unfinished, path)
        return _begun(path)
    except FileExistsError as error:
        raise taken from error
    except sqlite3.IntegrityError:
        raise  # what it was filled with contradicts itself
    except (sqlite3.Error, OSError) as error:
        raise BookError(f"{path} could not be made: {error}; check the disk, or choose a folder you may write "
                        "to.") from error
    finally:
        take_away(unfinished)


def _begun(path: Path) -> sqlite3.Connection:
    """A book that was just given its name. Where the disk takes nothing more it is not left there unusable."""
    connection = None
    try:
        connection = _connect(path)
        connection.execute("SELECT COUNT(*) FROM actions").fetchone()  # needs the file in which readers meet
        return connection
    except sqlite3.Error:
        if connection is not None:
            connection.close()
        take_away(path)
        raise


def give_name(unfinished: Path, path: Path) -> None:
    """A finished file gets its name, unless another has it. Raises FileExistsError then."""
    unfinished.chmod(0o666 & ~_mask())
    to_disk(unfinished)
    try:
        os.link(unfinished, path)  # the one way of naming that never takes another's place
    except FileExistsError:
        raise
    except OSError as error:  # a file system without links
        if path.exists():
            raise FileExistsError(str(path)) from error
        unfinished.rename(path)
    to_disk(path.parent)


def _mask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask


def _mark(connection: sqlite3.Connection) -> None:
    connection.execute(f"PRAGMA application_id = {APPLICATION_ID}")
    connection.execute(f"PRAGMA user_version = {SCHEMA_VERSION}")
    connection.commit()


@dataclass(frozen=True, slots=True)
class Opened:
    """connection; read_only: why nothing may be written, None where it may; litter: what reading has left on the disk,
    to be taken away afterwards: a folder with a copy, or the file in which readers meet."""

    connection: sqlite3.Connection
    read_only: str | None = None
    litter: Path | None = None


def opened(path: Path, *, reading: bool = False) -> Opened:
    """An existing book; reading: nothing on the disk may change. Raises BookError saying what is wrong."""
    version = _version(path)
    why = None
    if reading:
        why = "is open for reading only"
    elif version > SCHEMA_VERSION:
        why = "was written by a newer version and is open for reading only; update the application"
    elif not (os.access(path, os.W_OK) and os.access(path.resolve().parent, os.W_OK)):
        why = "lies where nothing can be written and is open for reading only; copy it to a folder of your own"
    try:
        if why is not None:
            return _checked(_opened_reading(path, version, why), path)
        if version < SCHEMA_VERSION:
            _migrate(path, version)
        try:
            return _checked(Opened(_connect(path)), path)
        except sqlite3.OperationalError as error:
            if getattr(error, "sqlite_errorcode", 0) & 0xFF not in (sqlite3.SQLITE_IOERR, sqlite3.SQLITE_FULL):
                raise
            return _checked(_opened_reading(path, version, FULL), path)
    except (*UNREADABLE, OSError) as error:
        raise BookError(f"{path} cannot be read as a book: {error}; {MEND}.") from error


def _version(path: Path) -> int:
    """Of a file that is a book; read before anything may write."""
    # Header of an SQLite file: size of a page at byte 16, their number at 28, user version at 60, application id at 68.
    try:
        if not path.is_file():
            raise BookError(f"{path} does not exist; check the name, or start a new book.")
        with path.open("rb") as file:
            header = file.read(100)
        size, logged = path.stat().st_size, _log_of(path).exists()
    except OSError as error:
        raise BookError(f"{path} cannot be read: {error.strerror}; check its rights.") from error
    if header[:16] != HEADER or len(header) < 100:
        raise BookError(f"{path} is not a book (its first bytes are not those of one); choose a *.jiyuu file.")
    if int.from_bytes(header[68:72], "big") != APPLICATION_ID:
        raise BookError(f"{path} is a database of another program; choose a *.jiyuu file.")
    promised = promised_size(header)
    if size < promised and not logged:
        raise BookError(f"{path} is cut short: it has {size} of {promised} bytes; {MEND}.")
    return int.from_bytes(header[60:64], "big")


def promised_size(header: bytes) -> int:
    """Bytes that a book has, by its header."""
    page = int.from_bytes(header[16:18], "big")
    return int.from_bytes(header[28:32], "big") * (65_536 if page == 1 else page)


def _log_of(path: Path) -> Path:
    return path.with_name(f"{path.name}-wal")


def _checked(book: Opened, path: Path) -> Opened:
    """Raises BookError where a table is missing; what is damaged inside one is found by whoever reads it."""
    schema = sqlite3.connect(":memory:")
    schema.executescript(files("jiyuu.book").joinpath("schema.sql").read_text(encoding="utf-8"))
    try:
        for (name,) in schema.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall():
            columns = {row[1] for row in schema.execute(f"PRAGMA table_info({name})")}
            missing = columns - {row[1] for row in book.connection.execute(f"PRAGMA table_info({name})")}
            if missing:
                raise BookError(f"{path} is damaged: its table '{name}' has no {', '.join(sorted(missing))}; {MEND}.")
    except (BookError, *UNREADABLE):
        shut(book)
        raise
    finally:
        schema.close()
    return book


def shut(book: Opened) -> None:
    """Close it, and take away what reading it has left."""
    book.connection.close()
    if book.litter is not None and book.litter.is_dir():
        shutil.rmtree(book.litter, ignore_errors=True)
    elif book.litter is not None:
        book.litter.unlink(missing_ok=True)


def _opened_reading(path: Path, version: int, why: str) -> Opened:
    """Neither the file nor its log is written: where that needs a copy, one is made elsewhere."""
    log = _log_of(path)
    has_log = log.exists() and log.stat().st_size > 0
    meeting = path.with_name(f"{path.name}-shm")
    beside = os.access(path.resolve().parent, os.W_OK) or meeting.exists()
    if version >= SCHEMA_VERSION and (not has_log or beside):
        # Nobody writes where there is no log; where there is one, readers meet in the file beside it.
        litter = meeting if has_log and not meeting.exists() else None
        how = "mode=ro" if has_log else "immutable=1"
        connection = sqlite3.connect(f"{path.resolve().as_uri()}?{how}", uri=True, check_same_thread=False)
        return Opened(_as_rows(connection), why, litter)
    scratch = Path(tempfile.mkdtemp(prefix="jiyuu-"))
    try:
        copy = scratch / path.name
        shutil.copyfile(path, copy)
        if has_log:
            shutil.copyfile(log, _log_of(copy))
        if version < SCHEMA_VERSION:
            _migrate(copy, version)
        return Opened(_connect(copy), why, scratch)
    except BaseException:
        shutil.rmtree(scratch, ignore_errors=True)
        raise


def _migrate(path: Path, version: int) -> None:
    """Brings an older book up to date on a copy, which then takes its place; the book as it was stays beside it."""
    if version not in MIGRATIONS:
        raise BookError(f"{path} is of version {version}, which this program cannot bring up to date; ask for help.")
    with written_whole(path) as copy:
        source = sqlite3.connect(path)
        try:
            # Into the file first: a log left by a kill must not be taken for one of the book that takes its place.
            source.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            kept = path.with_name(f"{path.name}.version-{version}")
            if not kept.exists():
                shutil.copy2(path, kept)
            copy.unlink()
            target = sqlite3.connect(copy)
            try:
                MIGRATIONS[version](source, target)
                _mark(target)
            finally:
                target.close()
        finally:
            source.close()


def _connect(path: Path) -> sqlite3.Connection:
    # Whoever else writes is done within milliseconds; a person in front of a window waits no longer than this.
    connection = _as_rows(sqlite3.connect(path, check_same_thread=False, timeout=BUSY_S))
    connection.execute("PRAGMA journal_mode = WAL")
    connection.execute("PRAGMA synchronous = FULL")  # what is acknowledged outlives a loss of power
    connection.execute("PRAGMA foreign_keys = ON")
    return connection


def _as_rows(connection: sqlite3.Connection) -> sqlite3.Connection:
    connection.row_factory = sqlite3.Row
    # Text that is none is shown as what it is, instead of hiding the rows around it.
    connection.text_factory = lambda data: data.decode("utf-8", "backslashreplace")
    return connection
