"""The demonstration: Skerry Light Workshop builds six 'fog voices' for a disused lighthouse, boards A to F.

The book holds six filter files, each a different family, their simulated units, a session half done (A measured, B out
of tolerance, D out of date) and notes. Everything in it is made up; every sound and curve is computed.
"""

from __future__ import annotations

from pathlib import Path

from jiyuu.book.keeping import keep_run
from jiyuu.book.store import Book
from jiyuu.circuits.filter_file import Filter, Tolerances
from jiyuu.rig.response_run import ResponseRequest, ResponseRun, expected_tolerances, run_response
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
    """Makes the demo book at a path that is free; `measured` adds the half-done session (some seconds of work)."""
    book = Book.create(path)
    try:
        rows = {letter: book.add_filter(letter, document, seed=seed) for letter, seed, document in BOARDS}
        book.add_note("Six boards to trim before the light is lit again. Start with A: its ladder is the reference.")
        book.add_note("B reads sharp at the bench; check its cutoff trim before the bell test.", filter_id=rows["B"])
        if measured:
            for letter, seed, document in BOARDS:
                if letter in ("A", "B", "D"):
                    _measure(book, rows[letter], document, seed, kept=2 if letter == "A" else 0)
            before = {"cutoff_hz": 500.0}
            book.set_values(rows["D"], {"cutoff_hz": 560.0}, before=before)
    finally:
        book.close()


def _measure(book: Book, filter_id: int, document: Filter, seed: int, *, kept: int) -> None:
    request = ResponseRequest(
        document, document.cutoff_hz, document.resonance_percent, (document.chosen_mode,),
        tolerances=expected_tolerances(document.cutoff_hz),
    )
    for step in run_response(request, SimulatedRig(document, seed=seed)):
        if isinstance(step, ResponseRun):
            findings = keep_run(book, filter_id, step, source="simulated rig")
            for finding_id in findings[:kept]:
                book.keep(finding_id)
