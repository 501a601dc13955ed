"""Steps of the walk run on a simulated unit, as the window and the command line run them."""

from dataclasses import replace

from jiyuu.bench.run import Run
from jiyuu.bench.standing import Standing
from jiyuu.bench.walk import measured, setting_of, step_named
from jiyuu.circuits.filter_file import Filter
from jiyuu.rig.simulated import SimulatedRig


def runs_of(key: str, document: Filter, *, seed: int, asked: dict | None = None, rig=None, **changes) -> list[Run]:
    """The runs of a step; changes: how the filter stands other than its file says."""
    step, standing = step_named(key), replace(Standing.of(document), **changes)
    setting = setting_of(step, {key: asked or {}})
    steps = list(measured(step, standing, setting, rig or SimulatedRig(standing.filter, seed=seed)))
    return [step for step in steps if isinstance(step, Run)]


def run_of(key: str, document: Filter, *, seed: int, **how) -> Run:
    """The last run of a step."""
    return runs_of(key, document, seed=seed, **how)[-1]


def found(run: Run) -> dict:
    """Findings by quantity."""
    return {finding.quantity: finding for finding in run.findings}
