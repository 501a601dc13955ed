"""The steps that are built, one after the other without anyone: what is done and still holds is not done again."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

from jiyuu.book.keeping import keep_levels, keep_oscillation, keep_resonance, keep_run, keep_tracking
from jiyuu.book.setup import Setup
from jiyuu.book.store import Book
from jiyuu.book.walk import StepState, step_state
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.reach import reach
from jiyuu.circuits.trims import Trims
from jiyuu.errors import JiyuuError
from jiyuu.rig.level_run import LevelRequest, run_levels
from jiyuu.rig.oscillation_run import OscillationRequest, run_oscillation
from jiyuu.rig.protocol import Rig
from jiyuu.rig.resonance_run import ResonanceRequest, run_resonance
from jiyuu.rig.response_run import Progress, ResponseRequest, expected_tolerances, run_response
from jiyuu.rig.tracking_request import tracking_request
from jiyuu.rig.tracking_run import possible_request, run_tracking

KEEPS: Mapping[str, Callable[..., object]] = {
    "Setup": keep_levels, "Response": keep_run, "Resonance": keep_resonance, "Self-oscillation": keep_oscillation,
    "Tracking": keep_tracking,
}
MEASURED = tuple(KEEPS)


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
                else:
                    KEEPS[step](book, filter_id, done, source=source)
        except JiyuuError as error:
            problems.append(f"{step}: {error}")
    if problems:
        raise JiyuuError(" ".join(problems))


def _step(step: str, document: Filter, settings: Mapping[str, Any], setup: Setup, rig: Rig) -> Iterator[Any]:
    cutoff_hz, percent, mode = settings["cutoff_hz"], settings["resonance_percent"], settings["mode"]
    trims = Trims(**settings.get("trims", {}))
    if step == "Setup":
        standing_hz = reach(setup.controls(cutoff_hz), lowest_hz=setup.lowest_hz, highest_hz=setup.highest_hz).now_hz
        yield from run_levels(
            LevelRequest(document, standing_hz, percent, mode, setup.sources(), setup.drive_db, setup.next_limit_v,
                         knob_hz=cutoff_hz, trims=trims), rig,
        )
    elif step == "Response":
        # The chosen mode last: the newest run is what the step's state is read from.
        modes = (*(m for m in document.entry.modes if m != mode), mode)
        yield from run_response(
            ResponseRequest(document, cutoff_hz, percent, modes, tolerances=expected_tolerances(cutoff_hz),
                            trims=trims), rig
        )
    elif step == "Resonance":
        yield from run_resonance(ResonanceRequest(document, cutoff_hz, mode, trims=trims), rig,
                                 resonance_percent=percent)
    elif step == "Self-oscillation":
        yield from run_oscillation(
            OscillationRequest(document, cutoff_hz, mode, percent, setup.sources()[0], trims=trims), rig
        )
    else:
        yield from run_tracking(possible_request(tracking_request(document, mode, trims=trims), rig), rig)
