"""Books, filters and patches as files: checked, taken apart and put together, got out of damaged ones."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from jiyuu.cli.options import Json, notice, print_json
from jiyuu.errors import BookError
from jiyuu.patch.file_kind import is_patch
from jiyuu.whole_file import apart_from


def validate(file: Path, json: Json = False) -> None:
    """Check a filter file, a patch, wishes or a book; nothing is written."""
    from jiyuu.circuits.filter_file import read_filter

    if file.suffix == ".jiyuu":
        result, text = _validated_book(file)
    elif file.name.endswith(".wish.json"):
        from jiyuu.character.wish import read_wishes

        wished = [wish.quantity for wish in read_wishes(file).wishes]
        result, text = {"valid": True, "kind": "wish", "quantities": wished}, f"{file}: wishes for {', '.join(wished)}."
    elif is_patch(str(file)):
        import numpy as np

        from jiyuu.patch.document import stages_in
        from jiyuu.patch.reading import read_patch
        from jiyuu.patch.response import respond_patch

        patch, _ = read_patch(file)
        respond_patch(patch, np.array([1000.0]))
        count = len(list(stages_in(patch.path)))
        result = {"valid": True, "kind": "patch", "name": patch.name, "stages": count}
        text = f"{file}: patch '{patch.name}' with {count} stages."
    else:
        document = read_filter(file)
        result = {"valid": True, "kind": "filter", "name": document.name, "circuit": document.circuit}
        text = f"{file}: filter '{document.name}', {document.entry.title}."
    if json:
        print_json(result)
    else:
        typer.echo(text)


def _validated_book(file: Path) -> tuple[dict[str, object], str]:
    """Raises BookError where something in it does not read."""
    from jiyuu.book.opening import MEND
    from jiyuu.book.recovery import wrong_in
    from jiyuu.book.store import Book

    book = Book.open(file, reading=True)
    try:
        letters = [shelved.letter for shelved in book.filters()]
        kept = len(book.logbook())
        wrong = wrong_in(book)
    finally:
        book.close()
    if wrong:
        more = "" if len(wrong) == 1 else f" (and {len(wrong) - 1} more)"
        raise BookError(f"{file}: {wrong[0].rstrip('.')}{more}; {MEND}.")
    result = {"valid": True, "kind": "book", "filters": letters, "kept_findings": kept}
    return result, f"{file}: a book with {len(letters)} filters and {kept} findings kept."


def exchange(
    source: Annotated[Path, typer.Argument(metavar="BOOK|DIR")],
    out: Annotated[Path, typer.Option("--out", help="A new folder, or a new book.")],
    json: Json = False,
) -> None:
    """A book as a folder of open files (JSON, CSV, WAV), and such a folder as a book."""
    from jiyuu.book.exchange import export_book, import_book
    from jiyuu.book.store import Book

    apart_from(out, [source])
    if source.is_dir():
        book = import_book(source, out)
    else:
        book = Book.open(source, reading=True)
    try:
        filters, runs = len(book.letters()), len(book.raw("SELECT id FROM runs"))
        if not source.is_dir():
            export_book(book, out)
    finally:
        book.close()
    if json:
        print_json({"out": str(out), "kind": "book" if source.is_dir() else "folder", "filters": filters, "runs": runs})
    else:
        typer.echo(f"{out}: {filters} filters and {runs} runs.")


def recover(
    book: Annotated[Path, typer.Argument(metavar="BOOK")],
    out: Annotated[Path, typer.Option("--out", help="The new book.")],
    json: Json = False,
) -> None:
    """What still reads of a damaged book, into a new one; what does not is listed."""
    from jiyuu.book.recovery import recover as got_out

    apart_from(out, [book])
    found = got_out(book, out)
    if json:
        print_json({"out": str(out), "rows": found.rows, "lost": found.lost})
        return
    for line in found.lost:
        notice(f"jiyuu: lost: {line}")
    typer.echo(f"{out}: " + ", ".join(f"{count} {table}" for table, count in found.rows.items() if count) + ".")


def report(
    book: Annotated[Path, typer.Argument(metavar="BOOK")],
    out: Annotated[Path, typer.Option("--out", help="X.html or X.pdf.")],
    kind: Annotated[str, typer.Option("--kind", help="datasheet, comparison, calibration or blind.")] = "datasheet",
    filter: Annotated[list[str] | None, typer.Option("--filter", help="Letter of a filter; again for each that is "
                                                     "compared. All of the shelf, or its first, when not given."
                                                     )] = None,
    dated: Annotated[bool, typer.Option("--dated", help="With the day it is printed on; without, the same book gives "
                                        "the same file.")] = False,
    json: Json = False,
) -> None:
    """What a book holds as a report to be handed on: HTML in one file, or PDF."""
    from datetime import date

    from jiyuu.bench.report.from_book import Kind, sheet_of, write_report
    from jiyuu.book.store import Book

    if kind not in {str(one) for one in Kind}:
        raise BookError(f"--kind '{kind}' is not known; give {', '.join(str(one) for one in Kind)}.")
    apart_from(out, [book])
    opened = Book.open(book, reading=True)
    try:
        shelf = [one.letter for one in opened.filters()]
        letters = filter or (shelf if kind == Kind.COMPARISON else shelf[:1])
        if not letters:
            raise BookError(f"{book.name} has no filter on its shelf, so there is nothing to report.")
        sheet = sheet_of(opened, Kind(kind), letters, on=date.today() if dated else None)
    finally:
        opened.close()
    write_report(sheet, out, inputs=(book,))
    if json:
        print_json({"out": str(out), "kind": kind, "filters": letters, "title": sheet.title,
                    "parts": [part.title for part in sheet.parts]})
    else:
        typer.echo(f"{out}: {sheet.title}.")


def compare_measured(book: Path, letters: list[str], *, json: bool) -> None:
    """The newest runs of some filters beside each other, quantity by quantity."""
    from jiyuu.bench.measured_beside import beside, cells_of, line_json, measured
    from jiyuu.bench.report.from_book import shelved_of
    from jiyuu.book.store import Book

    opened = Book.open(book, reading=True)
    try:
        lines = beside([measured(opened, shelved_of(opened, letter)) for letter in letters])
    finally:
        opened.close()
    if json:
        print_json({"book": str(book), "filters": letters, "quantities": [line_json(line) for line in lines]})
        return
    if not lines:
        raise BookError(f"Nothing is measured of {', '.join(letters)} in {book.name}; measure first.")
    for line in lines:
        typer.echo("   ".join(f"{cell:>22}" if i else f"{cell:28}" for i, cell in enumerate(cells_of(line))))
