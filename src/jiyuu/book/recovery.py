"""What still reads of a damaged book, into a new one: row by row, each judged by whoever reads it in daily use."""

from __future__ import annotations

import os
import shutil
import sqlite3
import tempfile
from collections.abc import Callable, Iterator, Mapping
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from jiyuu.book.enclosed import MEDIA
from jiyuu.book.opening import APPLICATION_ID, HEADER, UNREADABLE, made, promised_size
from jiyuu.book.store import Book
from jiyuu.book.stored import document_of, logged_of, run_of, setting_of, shelved_of
from jiyuu.book.table import table_of
from jiyuu.circuits.filter_file import Filter
from jiyuu.errors import BookError, JiyuuError

LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
MOST_LOST = 64  # times what is there: a header that promises more is damaged itself
TOGETHER = 64  # rows asked for at once, while nothing is wrong with them
LOST = "Recovered (its own file could not be read)"


@dataclass(slots=True)
class Recovered:
    """rows got out, by table; lost: a sentence each for what could not be read."""

    rows: dict[str, int] = field(default_factory=dict)
    lost: list[str] = field(default_factory=list)


def wrong_in(book: Book) -> list[str]:
    """A sentence for everything in an open book that does not read."""
    found = [str(row[0]) for row in book.raw("PRAGMA integrity_check(5)") if row[0] != "ok"]
    if found:
        return found
    for table, check in TABLES.items():
        for row in book.each(f"SELECT * FROM {table}"):
            try:
                check(row)
            except JiyuuError as error:
                found.append(str(error))
    return found


def recover(damaged: Path, path: Path) -> Recovered:
    """A new book at path of all that reads in a damaged one, which is left as it is. Raises BookError where nothing can
    be got out of it, or the new one cannot be made."""
    try:
        with damaged.open("rb") as file:
            header = file.read(100)
    except OSError as error:
        raise BookError(f"{damaged} cannot be read: {error.strerror}; check its name and rights.") from error
    if header[:16] != HEADER or int.from_bytes(header[68:72], "big") not in (0, APPLICATION_ID):
        raise BookError(f"{damaged} is not a book, or its first page is lost; open a copy of it from a backup.")
    found = Recovered()
    with tempfile.TemporaryDirectory(prefix="jiyuu-") as scratch:
        copy = Path(scratch) / "damaged.jiyuu"
        shutil.copyfile(damaged, copy)
        size, promised = copy.stat().st_size, promised_size(header)
        if size < promised < MOST_LOST * size:
            os.truncate(copy, promised)  # what was cut off reads as damaged pages
        log = damaged.with_name(f"{damaged.name}-wal")
        if log.exists():
            shutil.copyfile(log, copy.with_name(f"{copy.name}-wal"))
        try:
            with closing(sqlite3.connect(copy)) as source:
                source.row_factory = sqlite3.Row
                source.text_factory = lambda data: data.decode("utf-8", "backslashreplace")
                source.execute("SELECT name FROM sqlite_master").fetchall()
                made(path, lambda new: _fill(source, new, found)).close()
        except UNREADABLE as error:
            raise BookError(f"{damaged} cannot be read any more ({error}); open a copy of it from a backup.") from error
    return found


def _fill(source: sqlite3.Connection, new: sqlite3.Connection, found: Recovered) -> None:
    for table, check in TABLES.items():
        columns = [row[1] for row in new.execute(f"PRAGMA table_info({table})")]
        count = 0
        if table == "enclosures" and not _has(source, table):
            continue  # a book of before
        for row in _rows(source, table, found):
            try:
                check(row)
                if table in ("runs", "settings", "findings", "notes"):
                    _shelve(new, row, found)
                marks = ", ".join("?" * len(columns))
                new.execute(f"INSERT INTO {table} VALUES ({marks})", [row[name] for name in columns])
                count += 1
            except (JiyuuError, sqlite3.Error, IndexError, ValueError, TypeError) as error:
                found.lost.append(f"{table}: {str(error).rstrip('.')}.")
        found.rows[table] = count
    _drop_orphans(new, found)
    if not any(found.rows.values()):
        raise BookError("Nothing in it reads any more; open a copy of it from a backup.")
    new.commit()


def _has(source: sqlite3.Connection, table: str) -> bool:
    found = source.execute("SELECT 1 FROM sqlite_master WHERE type = 'table' AND name = ?", (table,))
    return found.fetchone() is not None


def _rows(source: sqlite3.Connection, table: str, found: Recovered) -> Iterator[sqlite3.Row]:
    """Whatever rows of a table read; where one does not, those around it are asked for one by one."""
    try:
        if table == "settings":  # without numbers of its own
            yield from source.execute("SELECT * FROM settings").fetchall()
            return
        last = source.execute(f"SELECT MAX(rowid) FROM {table}").fetchone()[0] or 0
    except UNREADABLE as error:
        found.lost.append(f"{table}: none of it can be read ({error}).")
        return
    for start in range(1, last + 1, TOGETHER):
        yield from _between(source, table, start, min(start + TOGETHER, last + 1), found)


def _between(
    source: sqlite3.Connection, table: str, start: int, stop: int, found: Recovered
) -> Iterator[sqlite3.Row]:
    try:
        yield from source.execute(f"SELECT * FROM {table} WHERE rowid >= ? AND rowid < ?", (start, stop)).fetchall()
    except UNREADABLE as error:
        if stop - start == 1:
            found.lost.append(f"{table}: row {start} cannot be read ({error}).")
            return
        middle = (start + stop) // 2
        yield from _between(source, table, start, middle, found)
        yield from _between(source, table, middle, stop, found)


def _shelve(new: sqlite3.Connection, row: sqlite3.Row, found: Recovered) -> None:
    """A filter for what belongs to one that is lost."""
    number = row["filter_id"]
    if number is None or new.execute("SELECT 1 FROM filters WHERE id = ?", (number,)).fetchone():
        return
    taken = {letter for (letter,) in new.execute("SELECT letter FROM filters")}
    letter = next(one for one in LETTERS if one not in taken)
    stands_in = Filter(name=LOST, circuit="transistor-ladder")
    new.execute("INSERT INTO filters VALUES (?, ?, ?, NULL, 1, ?)",
                (number, letter, stands_in.model_dump_json(), "1970-01-01T00:00:00+00:00"))
    found.lost.append(f"filters: filter {number} is lost; what belongs to it stands under {letter}, '{LOST}'.")


def _drop_orphans(new: sqlite3.Connection, found: Recovered) -> None:
    """Of runs that are lost: their tables and records mean nothing without them, a finding does."""
    lost = "run_id IS NOT NULL AND run_id NOT IN (SELECT id FROM runs)"
    new.execute(f"UPDATE findings SET run_id = NULL WHERE {lost}")
    for table, what, where in (("tables", "runs", lost), ("records", "runs", lost),
                               ("enclosures", "notes", "note_id NOT IN (SELECT id FROM notes)")):
        gone = new.execute(f"DELETE FROM {table} WHERE {where}").rowcount
        if gone:
            found.rows[table] -= gone
            found.lost.append(f"{table}: {gone} belong to {what} that are lost.")


def _check_act(row: sqlite3.Row) -> None:
    for name in ("before", "after"):
        document_of(row[name], f"act {row['id']}")


def _check_record(row: sqlite3.Row) -> None:
    if not isinstance(row["volts"], bytes) or len(row["volts"]) != 4 * row["samples"]:
        raise BookError(f"record '{row['name']}' of run {row['run_id']} is not as long as it says")
    if not np.isfinite(np.frombuffer(row["volts"], dtype="<f4")).all():
        raise BookError(f"record '{row['name']}' of run {row['run_id']} holds values that are not finite")


def _check_note(row: sqlite3.Row) -> None:
    if not isinstance(row["text"], str):
        raise BookError(f"note {row['id']} is no text")


def _check_enclosure(row: sqlite3.Row) -> None:
    if row["media"] not in MEDIA or not isinstance(row["content"], bytes):
        raise BookError(f"what is enclosed with note {row['note_id']} is neither picture nor recording")


Check = Callable[[sqlite3.Row], object]
TABLES: Mapping[str, Check] = {
    "filters": shelved_of, "settings": setting_of, "runs": run_of,
    "tables": lambda row: table_of(row["name"], row["columns"], row["length"], row["numbers"]),
    "records": _check_record, "findings": logged_of, "notes": _check_note,
    "enclosures": _check_enclosure, "actions": _check_act,
}
