"""The walk: its steps in working order, where each stands for a filter, and all of them one after the other."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from enum import StrEnum
from functools import lru_cache
from importlib import import_module
from pkgutil import iter_modules
from typing import Any

from jiyuu.bench import steps as room
from jiyuu.bench.run import Run
from jiyuu.bench.setting import Setting
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.book.store import Book
from jiyuu.book.stored import LoggedFinding, StoredRun
from jiyuu.errors import JiyuuError, MeasurementError
from jiyuu.measurement.finding import Verdict
from jiyuu.progress import Progress
from jiyuu.rig.protocol import Rig
from jiyuu.wording.findings import learn
from jiyuu.wording.stale import why_stale


@lru_cache(maxsize=1)
def walk() -> tuple[Step, ...]:
    """Every step there is, found in its room; in working order."""
    found: list[Step] = [
        import_module(f"{room.__name__}.{module.name}").STEP for module in iter_modules(room.__path__)
    ]
    for step in found:
        learn(step.quantities)
    return tuple(sorted(found, key=lambda step: step.number))


def step_named(key: str) -> Step:
    """By its key, or by what its runs are called. Raises JiyuuError listing the steps there are."""
    for step in walk():
        if step.key == key or step.run_key == key:
            return step
    raise JiyuuError(f"There is no step '{key}'; there are: {', '.join(step.key for step in walk())}.")


class StepState(StrEnum):
    """Where a step stands for a filter."""

    OPEN = "open"
    DONE = "done"
    STALE = "out of date"
    OUTSIDE = "out of tolerance"


def setting_of(step: Step, kept: Mapping[str, object]) -> Any:
    """What a step is asked, from a filter's settings in the book."""
    return step.setting.model_validate(kept.get(step.key, {}))


def why_out_of_date(step: Step, standing: Standing, setting: Setting, run: StoredRun) -> str | None:
    """Why a run no longer holds, in words; None when it does."""
    def whole(stands: Mapping[str, object], asked: Mapping[str, object]) -> dict[str, object]:
        return {**stands, **{f"setting.{name}": value for name, value in asked.items()}}

    made = whole(run.standing, {**run.facts, **run.setting})
    return why_stale(step.depends_on, made, whole(standing.as_json(), setting.model_dump(mode="json")))


def state_of(
    step: Step, standing: Standing, setting: Setting, run: StoredRun | None, findings: list[LoggedFinding]
) -> StepState:
    """From the newest run in the mode that stands: stale before out of tolerance, since a stale verdict judges the
    past."""
    if run is None:
        return StepState.OPEN
    if why_out_of_date(step, standing, setting, run):
        return StepState.STALE
    outside = any(logged.finding.verdict is Verdict.OUTSIDE for logged in findings)
    return StepState.OUTSIDE if outside else StepState.DONE


def states(book: Book, filter_id: int, standing: Standing, kept: Mapping[str, object]) -> dict[str, StepState]:
    """State of every step by its key, in two queries."""
    newest = {run.step: run for run in book.newest_runs(filter_id) if run.mode == standing.mode}
    findings = book.findings_of_runs([run.id for run in newest.values()])
    return {
        step.key: state_of(step, standing, setting_of(step, kept), newest.get(step.run_key),
                           findings[newest[step.run_key].id] if step.run_key in newest else [])
        for step in walk()
    }


def measured(step: Step, standing: Standing, setting: Setting, rig: Rig) -> Iterator[Progress | Run]:
    """One step on a rig: the same for a key in the window, the whole walk and the command line. Raises MeasurementError
    where the step refuses."""
    refused = step.refuse(standing, setting)
    if refused is not None:
        raise MeasurementError(refused)
    yield from step.run(standing, setting, step.request(standing, setting), rig)


def missing_steps(book: Book, filter_id: int, standing: Standing, kept: Mapping[str, object]) -> tuple[Step, ...]:
    """Steps with nothing measured, or with what no longer holds."""
    wanted = (StepState.OPEN, StepState.STALE)
    found = states(book, filter_id, standing, kept)
    return tuple(step for step in walk() if step.measures and found[step.key] in wanted)


def walk_on(
    book: Book, filter_id: int, standing: Standing, kept: Mapping[str, object], rig: Callable[[], Rig]
) -> Iterator[Progress | Run]:
    """Does the missing steps, each on a rig of its own; what is kept of it is not done again, call again to go on.

    A step that cannot be measured does not stop the others: its error is raised at the end."""
    missing = missing_steps(book, filter_id, standing, kept)
    problems: list[str] = []
    for i, step in enumerate(missing):
        try:
            for done in measured(step, standing, step.thorough(setting_of(step, kept)), rig()):
                yield done if isinstance(done, Run) else Progress(
                    f"{step.name}: {done.text}", (i + done.share) / len(missing))
        except JiyuuError as error:
            problems.append(f"{step.name}: {error}")
    if problems:
        raise JiyuuError(" ".join(problems))
