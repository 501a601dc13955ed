"""Whether what moves in a patch can be played: controls that refer to each other, figures, routes and their targets."""

from __future__ import annotations

from graphlib import CycleError, TopologicalSorter

from jiyuu.errors import CircuitError
from jiyuu.patch.controls import (
    FIGURE,
    NOISE,
    AnyControl,
    EnvelopeControl,
    FigureControl,
    FollowerControl,
    HoldControl,
    SignalControl,
    Timed,
    references,
)
from jiyuu.patch.document import Patch, stages_in
from jiyuu.patch.inside import inner_routes
from jiyuu.patch.targets import targets_of


def check_motion(patch: Patch) -> None:
    """Raises CircuitError naming the place of a control or route that cannot be played."""
    known = set(patch.controls)
    for name, control in patch.controls.items():
        if name in (FIGURE, NOISE):
            raise CircuitError(f"controls.{name}: a control cannot be called '{name}', which means something else; "
                               "rename it.")
        for field, wanted in references(control):
            if wanted not in known:
                raise CircuitError(f"controls.{name}: {field}: there is no control '{wanted}'; there are: "
                                   f"{', '.join(known)}.")
        if patch.figure is None and _needs_figure(control):
            raise CircuitError(f"controls.{name}: it plays from a figure and there is none; add a figure to the "
                               "patch.")
    _check_heard(patch)
    _refuse_circles(patch)
    targets = {target.name: target for target in targets_of(patch)}
    for i, route in enumerate(patch.routes):
        place = f"routes[{i}]"
        for field, wanted_by in (("from", route.source), ("amount_by", route.amount_by)):
            if wanted_by is not None and wanted_by not in known:
                raise CircuitError(f"{place}: {field}: there is no control '{wanted_by}'; there are: "
                                   f"{', '.join(sorted(known)) or 'none'}.")
        if route.target not in targets:
            raise CircuitError(f"{place}: to: there is no target '{route.target}'; there are: {', '.join(targets)}.")
        if route.unit == "dB" and not route.target.endswith(".level"):
            raise CircuitError(f"{place}: unit: only a level is moved in dB; leave it out.")
        if route.accent_percent and patch.figure is None:
            raise CircuitError(f"{place}: accent_percent: accents are the figure's and there is none; add one.")
        if sum(other.target == route.target and other.unit != route.unit for other in patch.routes):
            raise CircuitError(f"{place}: unit: '{route.target}' is moved in dB by one route and plainly by another; "
                               "give them the same unit.")


def _check_heard(patch: Patch) -> None:
    """Raises CircuitError naming a follower or signal that listens to what is not there, or cannot be listened to."""
    stages = {stage.id for stage in stages_in(patch.path) if stage.id}
    sources = [f"source {i}" for i in range(1, max(len(patch.sources), 1) + 1)]
    for name, control in patch.controls.items():
        if not isinstance(control, FollowerControl | SignalControl):
            continue
        if control.of not in sources and control.of not in stages:
            raise CircuitError(f"controls.{name}: of: there is no source or stage '{control.of}'; there are: "
                               f"{', '.join([*sources, *sorted(stages)])}.")
        if control.of in stages and isinstance(control, FollowerControl):
            raise CircuitError(f"controls.{name}: of: a stage cannot be followed yet, only a source can: "
                               f"{', '.join(sources)}.")
    for route, _ in inner_routes(patch):
        if route.amount_by is not None or route.accent_percent or route.unit == "dB":
            raise CircuitError(f"routes: from: '{route.source}' is a stage's own output: give it a plain amount, "
                               "without amount_by, accent_percent or dB.")
        if route.target.startswith("source "):
            raise CircuitError(f"routes: to: '{route.target}' cannot be moved by a stage's own output.")
    for name, control in patch.controls.items():
        for field, wanted in references(control):
            other = patch.controls.get(wanted)
            if isinstance(other, SignalControl) and other.of in stages:
                raise CircuitError(f"controls.{name}: {field}: '{wanted}' is a stage's own output, which no other "
                                   "control can wait for; take a source.")


def _needs_figure(control: AnyControl) -> bool:
    if isinstance(control, EnvelopeControl):
        return control.gate == FIGURE and control.loop != "always"
    if isinstance(control, HoldControl):
        return FIGURE in (control.clock, control.of)
    return isinstance(control, FigureControl) or (isinstance(control, Timed) and control.rate_hz is None)


def _refuse_circles(patch: Patch) -> None:
    needed = {name: [wanted for _, wanted in references(control)] for name, control in patch.controls.items()}
    for route in patch.routes:  # what moves a control is needed by it, too
        own = route.target.rpartition(".")[0]
        if own in needed:
            needed[own] += [name for name in (route.source, route.amount_by) if name is not None]
    try:
        TopologicalSorter(needed).prepare()
    except CycleError as error:
        around = list(reversed(error.args[1]))
        raise CircuitError(f"controls.{around[0]}: controls that refer to each other in a circle: "
                           f"{' → '.join(around)}; break it.") from error
