"""The steps that are built, one after the other without anyone: what is done and still holds is not done again."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from jiyuu.book.keeping import keep_levels, keep_resonance, keep_run
from jiyuu.book.setup import Setup
from jiyuu.book.store import Book
from jiyuu.book.walk import StepState, step_state
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.reach import reach
from jiyuu.errors import JiyuuError
from jiyuu.rig.level_run import LevelRequest, run_levels
from jiyuu.rig.protocol import Rig
from jiyuu.rig.resonance_run import ResonanceRequest, run_resonance
from jiyuu.rig.response_run import Progress, ResponseRequest, expected_tolerances, run_response

MEASURED = ("Setup", "Response", "Resonance")


def missing_steps(book: Book, filter_id: int, settings: Mapping[str, Any]) -> tuple[str, ...]:
    """Steps with nothing measured, or with what no longer holds."""
    wanted = (StepState.OPEN, StepState.STALE)
    return tuple(step for step in MEASURED if step_state(book, filter_id, step, settings) in wanted)


def walk_on(
    book: Book, filter_id: int, document: Filter, settings: Mapping[str, Any], setup: Setup, rig: Rig, *, source: str
) -> Iterator[Progress]:
    """Does the missing steps and keeps each run as it ends; stop iterating to cancel, call again to go on.

    A step that cannot be measured does not stop the others: its error is raised at the end."""
    steps = missing_steps(book, filter_id, settings)
    problems: list[str] = []
    for i, step in enumerate(steps):
        try:
            for done in _step(step, document, settings, setup, rig):
                if isinstance(done, Progress):
                    yield Progress(f"{step}: {done.text}", (i + done.share) / len(steps))
                elif step == "Setup":
                    keep_levels(book, filter_id, done, source=source)
                elif step == "Response":
                    keep_run(book, filter_id, done, source=source)
                else:
                    keep_resonance(book, filter_id, done, source=source)
        except JiyuuError as error:
            problems.append(f"{step}: {error}")
    if problems:
        raise JiyuuError(" ".join(problems))


def _step(step: str, document: Filter, settings: Mapping[str, Any], setup: Setup, rig: Rig) -> Iterator[Any]:
    cutoff_hz, percent, mode = settings["cutoff_hz"], settings["resonance_percent"], settings["mode"]
    if step == "Setup":
        standing_hz = reach(setup.controls(cutoff_hz), lowest_hz=setup.lowest_hz, highest_hz=setup.highest_hz).now_hz
        yield from run_levels(
            LevelRequest(document, standing_hz, percent, mode, setup.sources(), setup.drive_db, setup.next_limit_v,
                         knob_hz=cutoff_hz), rig,
        )
    elif step == "Response":
        # The chosen mode last: the newest run is what the step's state is read from.
        modes = (*(m for m in document.entry.modes if m != mode), mode)
        yield from run_response(
            ResponseRequest(document, cutoff_hz, percent, modes, tolerances=expected_tolerances(cutoff_hz)), rig
        )
    else:
        yield from run_resonance(ResonanceRequest(document, cutoff_hz, mode), rig, resonance_percent=percent)
