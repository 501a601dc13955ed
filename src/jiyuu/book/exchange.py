"""A whole book as a folder of open files, and back: JSON, CSV and WAV, from which the same book is made again.

    book.json                 filters with what stands round them, notes, findings of no run
    actions.json              what was done, for undo and redo
    filters/A.filter.json     a filter file each
    runs/7/run.json           a run: how the filter stood, what was asked, facts, findings
    runs/7/response.csv       its tables
    runs/7/recording.wav      its raw records: samples × full_scale_v are volts
    enclosed/3.png            what lies beside note 3, as its file was
"""

from __future__ import annotations

import csv
import io
import json
import math
import os
import re
import shutil
import sqlite3
import tempfile
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import TypeVar

import numpy as np
from pydantic import BaseModel, ValidationError

from jiyuu.arrays import FloatArray
from jiyuu.book.enclosed import ENDINGS, enclosure_of, read_enclosure
from jiyuu.book.exchanged import (
    FORMAT,
    VERSION,
    ActPart,
    ActsPart,
    BookPart,
    EnclosedPart,
    FilterPart,
    FindingPart,
    NotePart,
    RecordPart,
    RunPart,
    TablePart,
)
from jiyuu.book.opening import MEND, made
from jiyuu.book.store import Book
from jiyuu.book.stored import document_of
from jiyuu.book.table import Table, table_of
from jiyuu.circuits.filter_file import parse_filter
from jiyuu.errors import BookError, JiyuuError
from jiyuu.stopping import checkpoint
from jiyuu.whole_file import to_disk

FULL_SCALE_V = 16.0  # a power of two: volts come back to the last bit
TINIEST_V = 2.0**-100  # under which that division would lose bits
PLAIN = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_. -]{0,99}")
README = """A book of the filter bench as open files. 'jiyuu exchange THIS-FOLDER --out NEW.jiyuu' makes the book again.
Tables are CSV, raw records float WAV (samples × full_scale_v of run.json are volts), the rest is JSON.
"""
Part = TypeVar("Part", bound=BaseModel)


def export_book(book: Book, folder: Path) -> None:
    """Everything in a book into a new folder, made beside its place and then given its name. Raises BookError where the
    place is taken, or where something cannot be read."""
    if folder.exists() and not (folder.is_dir() and not any(folder.iterdir())):
        raise BookError(f"{folder} exists already; name a new folder.")
    if not folder.resolve().parent.is_dir():
        raise BookError(f"{folder.parent} is not a folder; make it first or choose another place.")
    try:
        made_in = Path(tempfile.mkdtemp(dir=folder.resolve().parent, prefix=".jiyuu-", suffix=".part"))
    except OSError as error:
        raise BookError(f"{folder} could not be made: {error.strerror}; choose another place.") from error
    try:
        made_in.chmod(0o755)
        _export(book, made_in)
        if folder.exists():
            folder.rmdir()
        made_in.rename(folder)
    except OSError as error:
        raise BookError(f"{folder} could not be written: {error.strerror or error}; choose another place.") from error
    except (ValidationError, ValueError) as error:
        raise BookError(f"{book.path} holds values that cannot be; {MEND}.") from error
    finally:
        shutil.rmtree(made_in, ignore_errors=True)


def _export(book: Book, folder: Path) -> None:
    (folder / "filters").mkdir()
    filters = []
    for row in book.raw("SELECT * FROM filters ORDER BY id"):
        name = f"filters/{row['letter']}.filter.json"
        _write(folder / name, row["document"])
        settings = {one["name"]: json.loads(one["value"]) for one in book.raw(
            "SELECT * FROM settings WHERE filter_id = ? ORDER BY name", row["id"])}
        filters.append(FilterPart(id=row["id"], letter=row["letter"], seed=row["seed"], shown=bool(row["shown"]),
                                  created_at=row["created_at"], file=name, settings=settings))
    notes = [NotePart(id=row["id"], filter=row["filter_id"], text=row["text"], shown=bool(row["shown"]),
                      made_at=row["made_at"], enclosed=_export_enclosed(book, row["id"], folder))
             for row in book.raw("SELECT * FROM notes ORDER BY id")]
    for row in book.raw("SELECT * FROM runs ORDER BY id"):
        checkpoint()
        _export_run(book, row, folder / "runs" / str(row["id"]))
    alone = _findings(book, "run_id IS NULL")
    acts = [ActPart(id=row["id"], kind=row["kind"], before=document_of(row["before"], f"Act {row['id']}"),
                    after=document_of(row["after"], f"Act {row['id']}"), undone=row["undone"], done_at=row["done_at"])
            for row in book.raw("SELECT * FROM actions ORDER BY id")]
    _write_part(folder / "actions.json", ActsPart(actions=acts))
    _write_part(folder / "book.json", BookPart(format=FORMAT, version=VERSION, filters=filters, notes=notes,
                                               findings=alone))
    _write(folder / "README.txt", README)


def _export_enclosed(book: Book, note_id: int, folder: Path) -> EnclosedPart | None:
    one = enclosure_of(book, note_id)
    if one is None:
        return None
    name = f"enclosed/{note_id}{ENDINGS.get(one.media, '')}"
    (folder / "enclosed").mkdir(exist_ok=True)
    (folder / name).write_bytes(one.content)
    to_disk(folder / name)
    return EnclosedPart.model_validate({"name": one.name, "media": one.media, "file": name})


def _export_run(book: Book, row: sqlite3.Row, folder: Path) -> None:
    folder.mkdir(parents=True)
    tables: list[TablePart] = []
    records: list[RecordPart] = []
    for one in book.raw("SELECT * FROM tables WHERE run_id = ? ORDER BY name", row["id"]):
        table = table_of(one["name"], one["columns"], one["length"], one["numbers"])
        name = _called(one["name"], "table", len(tables), ".csv")
        _write(folder / name, _as_csv(table))
        tables.append(TablePart(name=one["name"], file=name, columns=[(c, table.units[c]) for c in table.columns]))
    for (named,) in book.raw("SELECT name FROM records WHERE run_id = ? ORDER BY name", row["id"]):
        volts, rate_hz = book.record(row["id"], named)
        scale = 1.0 if np.any((volts != 0) & (np.abs(volts) < TINIEST_V)) else FULL_SCALE_V
        name = _called(named, "record", len(records), ".wav")
        _write_wav(folder / name, (volts / scale).astype(np.float32), rate_hz)
        records.append(RecordPart(name=named, file=name, sample_rate_hz=rate_hz, full_scale_v=scale))
    place = f"Run {row['id']}"
    _write_part(folder / "run.json", RunPart(
        id=row["id"], filter=row["filter_id"], step=row["step"], mode=row["mode"],
        standing=document_of(row["standing"], place), setting=document_of(row["setting"], place),
        facts=document_of(row["facts"], place), source=row["source"], shown=bool(row["shown"]), made_at=row["made_at"],
        tables=tables, records=records, findings=_findings(book, "run_id = ?", row["id"]),
    ))


def _called(name: str, what: str, number: int, ending: str) -> str:
    """A file's name for it: its own, where a file may be called so."""
    return f"{name if PLAIN.fullmatch(name) else f'{what} {number + 1}'}{ending}"


def _findings(book: Book, where: str, *values: object) -> list[FindingPart]:
    return [FindingPart(
        id=row["id"], filter=row["filter_id"], step=row["step"], quantity=row["quantity"], value=row["value"],
        unit=row["unit"], uncertainty=row["uncertainty"], tolerance_low=row["tolerance_low"],
        tolerance_high=row["tolerance_high"], sentence=row["sentence"],
        context=None if row["context"] is None else document_of(row["context"], f"Finding {row['id']}"),
        kept=bool(row["kept"]), kept_at=row["kept_at"],
    ) for row in book.raw(f"SELECT * FROM findings WHERE {where} ORDER BY id", *values)]


def _as_csv(table: Table) -> str:
    """Every number to its last bit; empty where there is none."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(table.columns)
    writer.writerows(["" if math.isnan(value) else repr(value) for value in row]
                     for row in zip(*(column.tolist() for column in table.columns.values()), strict=True))
    return out.getvalue()


def _write(path: Path, text: str) -> None:
    path.write_text(text, encoding="utf-8", newline="\n")
    to_disk(path)


def _write_part(path: Path, part: BaseModel) -> None:
    _write(path, json.dumps(part.model_dump(mode="json"), indent=1, ensure_ascii=False) + "\n")


def _write_wav(path: Path, samples: np.ndarray, rate_hz: float) -> None:
    from scipy.io import wavfile

    wavfile.write(path, max(round(rate_hz), 1), samples)
    to_disk(path)


# And back


def import_book(folder: Path, path: Path) -> Book:
    """The book that such a folder holds, as a new file. Raises BookError naming the file and what is wrong with it."""
    whole = _part(BookPart, folder / "book.json")
    acts = _part(ActsPart, folder / "actions.json")

    try:
        made(path, lambda connection: _fill(connection, folder, whole, acts)).close()
    except sqlite3.IntegrityError as error:
        raise BookError(f"{folder}: two parts of it bear one number ({error}); export the book again.") from error
    return Book.open(path)


def _fill(connection: sqlite3.Connection, folder: Path, whole: BookPart, acts: ActsPart) -> None:
    for one in whole.filters:
        document = _text(folder / _plain(one.file, "filters/"))
        try:
            parse_filter(document, source=str(folder / one.file))
        except JiyuuError as error:
            raise BookError(str(error)) from error
        connection.execute("INSERT INTO filters VALUES (?, ?, ?, ?, ?, ?)", (
            one.id, one.letter, document, one.seed, int(one.shown), one.created_at))
        connection.executemany("INSERT INTO settings VALUES (?, ?, ?)", [
            (one.id, name, json.dumps(value)) for name, value in one.settings.items()])
    for run in _runs(folder):
        checkpoint()
        _import_run(connection, run, folder / "runs" / str(run.id))
    _insert_findings(connection, whole.findings, None)
    connection.executemany("INSERT INTO notes VALUES (?, ?, ?, ?, ?)", [
        (note.id, note.filter, note.text, int(note.shown), note.made_at) for note in whole.notes])
    for note in whole.notes:
        if note.enclosed is not None:
            lies = read_enclosure(folder / _plain(note.enclosed.file, "enclosed/"))
            connection.execute("INSERT INTO enclosures VALUES (?, ?, ?, ?)", (
                note.id, note.enclosed.name, note.enclosed.media, lies.content))
    connection.executemany("INSERT INTO actions VALUES (?, ?, ?, ?, ?, ?)", [
        (one.id, one.kind, json.dumps(one.before), json.dumps(one.after), one.undone, one.done_at)
        for one in acts.actions])
    lost = connection.execute("PRAGMA foreign_key_check").fetchone()
    if lost is not None:
        raise BookError(f"{folder}: a row of '{lost[0]}' belongs to one of '{lost[2]}' that is not there; export "
                        "the book again.")


def _runs(folder: Path) -> Iterator[RunPart]:
    place = folder / "runs"
    for one in sorted(place.iterdir() if place.is_dir() else (), key=lambda one: (len(one.name), one.name)):
        run = _part(RunPart, one / "run.json")
        if str(run.id) != one.name:
            raise BookError(f"{one}: it says it is run {run.id}; a run's folder bears its number.")
        yield run


def _import_run(connection: sqlite3.Connection, run: RunPart, folder: Path) -> None:
    connection.execute("INSERT INTO runs VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", (
        run.id, run.filter, run.step, run.mode, json.dumps(run.standing), json.dumps(run.setting),
        json.dumps(run.facts), run.source, int(run.shown), run.made_at))
    for table in run.tables:
        stored = _of_csv(table, folder / _plain(table.file)).stored()
        connection.execute("INSERT INTO tables VALUES (?, ?, ?, ?, ?)", (run.id, *stored))
    for record in run.records:
        samples = _of_wav(folder / _plain(record.file), record)
        connection.execute("INSERT INTO records VALUES (?, ?, ?, ?, ?)", (
            run.id, record.name, record.sample_rate_hz, samples.size, samples.tobytes()))
    _insert_findings(connection, run.findings, run.id)


def _insert_findings(connection: sqlite3.Connection, findings: list[FindingPart], run_id: int | None) -> None:
    connection.executemany("INSERT INTO findings VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", [
        (one.id, one.filter, run_id, one.step, one.quantity, one.value, one.unit, one.uncertainty, one.tolerance_low,
         one.tolerance_high, one.sentence, None if one.context is None else json.dumps(one.context), int(one.kept),
         one.kept_at) for one in findings])


def _plain(name: str, below: str = "") -> str:
    """A file's name that leads nowhere else. Raises BookError."""
    if not name.startswith(below) or not PLAIN.fullmatch(name.removeprefix(below)):
        raise BookError(f"'{name[:100]}' is no name of a file in this folder; use letters, figures and dots.")
    return name


def _text(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8")
    except UnicodeDecodeError as error:
        raise BookError(f"{path} is not text in UTF-8; export the book again.") from error
    except OSError as error:
        raise BookError(f"{path} could not be read: {error.strerror}; export the book again.") from error


def _part(kind: type[Part], path: Path) -> Part:
    try:
        return kind.model_validate(json.loads(_text(path)))
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(part) for part in first["loc"]) or "the document"
        message = first["msg"].removeprefix("Value error, ")
        raise BookError(f"{path}: {place}: {message[:1].lower()}{message[1:]}; export the book again.") from error
    except (ValueError, RecursionError) as error:
        raise BookError(f"{path} is not valid JSON: {error}; export the book again.") from error


def _of_csv(part: TablePart, path: Path) -> Table:
    try:
        rows = list(csv.reader(io.StringIO(_text(path))))
        names = [name for name, _ in part.columns]
        if not rows or rows[0] != names:
            raise BookError(f"{path}: its first line is not {','.join(names)[:200]}; export the book again.")
        if any(len(row) != len(names) for row in rows[1:]):
            raise BookError(f"{path}: a row does not have {len(names)} values; export the book again.")
        columns: Mapping[str, FloatArray] = {
            name: np.array([float(row[i]) if row[i] else np.nan for row in rows[1:]]) for i, name in enumerate(names)}
    except (ValueError, csv.Error) as error:
        raise BookError(f"{path}: {error}; every value is a number or empty.") from error
    return Table.of(part.name, *((name, unit, columns[name]) for name, unit in part.columns))


def _of_wav(path: Path, record: RecordPart) -> np.ndarray:
    """(n,) float32 volts."""
    import soundfile

    if not path.is_file():
        raise BookError(f"{path} is not there; export the book again.")
    try:
        if path.stat().st_size < 60:  # a header and nothing behind it
            return np.zeros(0, dtype="<f4")
        samples, _ = soundfile.read(os.fsencode(path), dtype="float32", always_2d=True)
    except (soundfile.SoundFileError, RuntimeError) as error:
        raise BookError(f"{path} cannot be read as WAV; export the book again.") from error
    if samples.shape[1] != 1:
        raise BookError(f"{path} has {samples.shape[1]} channels; a record has one.")
    with np.errstate(over="ignore", invalid="ignore"):
        volts = np.asarray(samples[:, 0] * np.float32(record.full_scale_v), dtype="<f4")
    if not np.isfinite(volts).all():
        raise BookError(f"{path} holds samples that are no volts; export the book again.")
    return volts


