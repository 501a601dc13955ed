"""'jiyuu characterise': the whole walk on the simulated rig, with a bar for the person who waits."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.progress import Progress as Bar

from jiyuu.bench.characterise import characterise as characterised
from jiyuu.bench.standing import Standing
from jiyuu.progress import Progress
from jiyuu.rig.simulated import SimulatedRig


def characterise(
    standing: Standing, *, seed: int, folder: Path, only_mode: bool, inputs: tuple[Path, ...] = ()
) -> dict[str, Any]:
    """Shows how far it is on standard error; returns what stands in findings.json."""
    with Bar(console=Console(file=sys.stderr), transient=True) as bar:
        task = bar.add_task("Starting", total=1.0)
        for told in characterised(standing, lambda: SimulatedRig(standing.filter, seed=seed), seed=seed, folder=folder,
                                  only_mode=only_mode, inputs=inputs):
            if isinstance(told, Progress):
                bar.update(task, completed=told.share, description=told.text)
            else:
                return told
    raise AssertionError("a characterisation ends with its summary")
