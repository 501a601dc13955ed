"""Steps of the walk run on a simulated unit, as the window and the command line run them."""

from dataclasses import replace

from jiyuu.bench.run import Run
from jiyuu.bench.setting import Setting
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Step
from jiyuu.bench.steps.comparison import ComparisonStep
from jiyuu.bench.walk import measured, setting_of, step_named
from jiyuu.circuits.filter_file import Filter
from jiyuu.rig.simulated import SimulatedRig


def runs_of(key: str, document: Filter, *, seed: int, asked: dict | None = None, rig=None, **changes) -> list[Run]:
    """The runs of a step; changes: how the filter stands other than its file says."""
    step, standing = step_named(key), replace(Standing.of(document), **changes)
    return taken(step, standing, setting_of(step, {key: asked or {}}), seed=seed, rig=rig)


def taken(step: Step, standing: Standing, setting: Setting, *, seed: int, rig=None) -> list[Run]:
    """The runs of a step however it stands."""
    found = measured(step, standing, setting, rig or SimulatedRig(standing.filter, seed=seed))
    return [one for one in found if isinstance(one, Run)]


def run_of(key: str, document: Filter, *, seed: int, **how) -> Run:
    """The last run of a step."""
    return runs_of(key, document, seed=seed, **how)[-1]


def found(run: Run) -> dict:
    """Findings by quantity."""
    return {finding.quantity: finding for finding in run.findings}


def listen_briefly(monkeypatch) -> None:
    """A character is measured from half as many looks at the sound, and from three levels of seven: the softest, the
    loudest and one between."""
    for module in ("jiyuu.rig.character_run", "jiyuu.character.measured"):
        monkeypatch.setattr(f"{module}.LOOKS", 3)
    usual = ComparisonStep.request

    def request(self, standing, setting):
        asked = usual(self, standing, setting)
        return replace(asked, loud_v=asked.loud_v[::3])

    monkeypatch.setattr(ComparisonStep, "request", request)
