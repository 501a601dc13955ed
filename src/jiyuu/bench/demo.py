"""The demonstration: Skerry Light Workshop builds six 'fog voices' for a disused lighthouse, boards A to F.

The book holds six filter files, each a different family, their simulated units, a session half done (A measured, B out
of tolerance, D out of date) and notes. Everything in it is made up; every sound and curve is computed.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import closing
from functools import partial
from pathlib import Path
from tempfile import TemporaryDirectory

from jiyuu.bench.run import Run, keep
from jiyuu.bench.standing import Standing
from jiyuu.bench.stored_settings import storing
from jiyuu.bench.walk import measured as bench_measured
from jiyuu.bench.walk import setting_of, step_named
from jiyuu.book.opening import give_name
from jiyuu.book.store import Book
from jiyuu.circuits.filter_file import Filter, Tolerances
from jiyuu.circuits.trims import Trims
from jiyuu.errors import BookError
from jiyuu.processes import as_they_come
from jiyuu.progress import Progress
from jiyuu.rig.simulated import SimulatedRig

BOARDS: tuple[tuple[str, int, Filter], ...] = (
    ("A", 11, Filter(
        name="Fog voice A", circuit="transistor-ladder", cutoff_hz=820.0, resonance_percent=45.0,
        notes="Deep voice, seaward wall. Matched pairs, polystyrene capacitors.",
        tolerances=Tolerances(cutoff_offset_cents=8.0),
    )),
    ("B", 23, Filter(
        name="Fog voice B", circuit="state-variable", mode="lowpass", cutoff_hz=1200.0, resonance_percent=60.0,
        parameters={"stage_headroom_v": 2.0}, notes="Lantern room. Lowpass for the drone, bandpass for the bell.",
        tolerances=Tolerances(cutoff_offset_cents=90.0, capacitor_percent=4.0, inverts=True),
    )),
    ("C", 31, Filter(
        name="Fog voice C", circuit="ota-cascade", cutoff_hz=640.0, resonance_percent=30.0,
        notes="Stairwell, second landing.",
    )),
    ("D", 47, Filter(
        name="Fog voice D", circuit="diode-ladder", cutoff_hz=500.0, resonance_percent=55.0,
        parameters={"feedback_coupling_hz": 8.0}, notes="Boathouse. Coupling capacitor in the loop, soft knee.",
    )),
    ("E", 59, Filter(
        name="Fog voice E", circuit="pole-mixer", mode="bandpass-hp6-lp18", cutoff_hz=900.0, resonance_percent=50.0,
        notes="Gallery rail. One loop, many sums.",
    )),
    ("F", 61, Filter(
        name="Fog voice F", circuit="sallen-key-lowpass", cutoff_hz=1500.0, resonance_percent=70.0,
        notes="Keeper's room. Growls when pushed.",
    )),
)


def write_demo_book(path: Path, *, measured: bool = True) -> None:
    """Makes the demo book at a path that is free, beside it and then under its name; `measured` adds the half-done
    session (some seconds of work). Raises BookError where the place is taken or cannot be written."""
    if path.exists():
        raise BookError(f"{path} exists already; open it, or choose another name.")
    try:
        with TemporaryDirectory(dir=path.parent, prefix=".jiyuu-") as folder:
            unfinished = Path(folder) / path.name
            _write(unfinished, measured=measured)
            give_name(unfinished, path)
    except FileExistsError as error:
        raise BookError(f"{path} exists already; open it, or choose another name.") from error
    except OSError as error:
        raise BookError(f"{path} could not be made: {error.strerror}; choose a folder you may write to.") from error


EVENINGS = ("2026-03-02T18:{minute:02d}:00.000+00:00", "2026-03-05T19:{minute:02d}:00.000+00:00",
            "2026-03-19T17:{minute:02d}:00.000+00:00")
DATED = (("filters", "created_at"), ("notes", "made_at"), ("actions", "done_at"), ("runs", "made_at"),
         ("findings", "kept_at"))
# Board C drawn three times: as it was, with a limiter that takes hold earlier, then with some of the bass given back.
REVISIONS: tuple[tuple[str, dict[str, float]], ...] = (
    ("Revision 1", {}), ("Revision 2", {"feedback_headroom_v": 0.4}),
    ("Revision 3", {"feedback_headroom_v": 0.4, "compensation": 0.5}))
AS_FOUND = {"offset": -5.0}  # turns at which the trim of A stood, the first evening


SESSIONS = (("A", Trims(**AS_FOUND)), ("A", None), ("B", None), ("D", None))


def _write(path: Path, *, measured: bool) -> None:
    sessions = iter(_sessions() if measured else ())
    book = Book.create(path)
    try:
        rows = {letter: book.add_filter(letter, document, seed=seed) for letter, seed, document in BOARDS}
        book.add_note("Six boards to trim before the light is lit again. Start with A: its ladder is the reference.")
        for minute, (name, parameters) in enumerate(REVISIONS):
            how = {"parameters": parameters} if parameters else {}
            book.set_values(rows["C"], storing(how, name, EVENINGS[0].format(minute=40 + minute)))
        if measured:
            book.set_values(rows["A"], {"trims": AS_FOUND})
            _keep_all(book, rows["A"], next(sessions))
        _dated(path, EVENINGS[0])
        book.add_note("B reads sharp at the bench; check its cutoff trim before the bell test.", filter_id=rows["B"])
        if measured:
            book.set_values(rows["A"], {"trims": None})
            _keep_all(book, rows["A"], next(sessions), kept=2)
            _keep_all(book, rows["B"], next(sessions))
        _dated(path, EVENINGS[1])
        if measured:
            _keep_all(book, rows["D"], next(sessions))
            book.set_values(rows["D"], {"cutoff_hz": 560.0})
        _dated(path, EVENINGS[2])
    finally:
        book.close()


def _dated(path: Path, evening: str) -> None:
    """What was just written was written that evening, one thing after the other: a book has its days."""
    with closing(sqlite3.connect(path)) as connection:
        # Of what was written within one millisecond a note comes before the act it speaks of, and a trim is turned
        # before it is measured.
        written = sorted(
            (when, place, number) for place, (table, column) in enumerate(DATED) for when, number in connection.execute(
                f"SELECT {column}, id FROM {table} WHERE {column} > '2026-04'"))
        for minute, (_, place, number) in enumerate(written):
            table, column = DATED[place]
            connection.execute(f"UPDATE {table} SET {column} = ? WHERE id = ?",
                               (evening.format(minute=2 * minute), number))
        connection.commit()


def _sessions() -> list[list[Run]]:
    """What is measured in those evenings, one session after the other, though side by side on rigs of their own."""
    runs: list[list[Run]] = [[] for _ in SESSIONS]
    for number, done in as_they_come([partial(_measured, letter, trims) for letter, trims in SESSIONS]):
        if isinstance(done, Run):
            runs[number].append(done)
    return runs


def _measured(letter: str, trims: Trims | None) -> Iterator[Progress | Run]:
    seed, document = next((seed, document) for one, seed, document in BOARDS if one == letter)
    standing = Standing.of(document) if trims is None else Standing.of(document).moved(trims=trims)
    step = step_named("response")
    return bench_measured(step, standing, setting_of(step, {}), SimulatedRig(standing.filter, seed=seed))


def _keep_all(book: Book, row: int, runs: Iterable[Run], *, kept: int = 0) -> None:
    """kept: findings of each that go to the logbook."""
    for run in runs:
        for finding_id in keep(book, row, run)[:kept]:
            book.keep(finding_id)
