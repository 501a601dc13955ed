"""'jiyuu characterise': the whole walk on the simulated rig, with a bar for the person who waits."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from pathlib import Path

from rich.console import Console
from rich.progress import Progress as Bar

from jiyuu.bench.characterise import characterise as characterised
from jiyuu.bench.standing import Standing
from jiyuu.bench.walk import step_named
from jiyuu.progress import Progress
from jiyuu.rig.simulated import SimulatedRig


def characterise(
    standing: Standing, *, seed: int, folder: Path, only_mode: bool, asked: Mapping[str, Mapping[str, object]],
    inputs: tuple[Path, ...] = (),
) -> dict[str, object]:
    """Shows how far it is on standard error; returns what stands in findings.json."""
    # Drawn when there is something to say: a thread that draws would be in the way of forks.
    with Bar(console=Console(file=sys.stderr), transient=True, auto_refresh=False) as bar:
        task = bar.add_task("Starting", total=1.0)
        for told in characterised(standing, lambda: SimulatedRig(standing.filter, seed=seed), seed=seed, folder=folder,
                                  only_mode=only_mode, asked=asked, inputs=inputs):
            if isinstance(told, Progress):
                bar.update(task, completed=told.share, description=told.text, refresh=True)
            else:
                return told
    raise AssertionError("a characterisation ends with its summary")


def asked_of_steps(given: Mapping[str, Mapping[str, object]]) -> dict[str, dict[str, object]]:
    """What was typed, by step, less what was not. Raises CircuitError naming what is out of range."""
    typed = {place: {name: value for name, value in values.items() if value is not None}
             for place, values in given.items()}
    return {place: step_named(place).setting().changed(**values).model_dump(mode="json", exclude_defaults=True)
            for place, values in typed.items() if values}
