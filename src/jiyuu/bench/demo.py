"""The demonstration: Skerry Light Workshop builds six 'fog voices' for a disused lighthouse, boards A to F.

The book holds six filter files, each a different family, their simulated units, a session half done (A measured, B out
of tolerance, D out of date) and notes. Everything in it is made up; every sound and curve is computed.
"""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory

from jiyuu.bench.run import Run, keep
from jiyuu.bench.standing import Standing
from jiyuu.bench.walk import measured as bench_measured
from jiyuu.bench.walk import setting_of, step_named
from jiyuu.book.opening import give_name
from jiyuu.book.store import Book
from jiyuu.circuits.filter_file import Filter, Tolerances
from jiyuu.errors import BookError
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


def _write(path: Path, *, measured: bool) -> None:
    book = Book.create(path)
    try:
        rows = {letter: book.add_filter(letter, document, seed=seed) for letter, seed, document in BOARDS}
        book.add_note("Six boards to trim before the light is lit again. Start with A: its ladder is the reference.")
        book.add_note("B reads sharp at the bench; check its cutoff trim before the bell test.", filter_id=rows["B"])
        if measured:
            for letter, seed, document in BOARDS:
                if letter in ("A", "B", "D"):
                    _measure(book, rows[letter], Standing.of(document), seed, kept=2 if letter == "A" else 0)
            book.set_values(rows["D"], {"cutoff_hz": 560.0})
    finally:
        book.close()


def _measure(book: Book, filter_id: int, standing: Standing, seed: int, *, kept: int) -> None:
    step = step_named("response")
    for done in bench_measured(step, standing, setting_of(step, {}), SimulatedRig(standing.filter, seed=seed)):
        if isinstance(done, Run):
            for finding_id in keep(book, filter_id, done)[:kept]:
                book.keep(finding_id)
