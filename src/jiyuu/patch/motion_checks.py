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
from jiyuu.patch.document import Patch, all_stages, stages_in
from jiyuu.patch.inside import check_inside
from jiyuu.patch.linear_stages import Bank
from jiyuu.patch.stage_sound import path_to, waits_for
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
    """Raises CircuitError naming what listens to something that is not there, or cannot be listened to."""
    stages = {stage.id for stage in all_stages(patch.path) if stage.id}
    sources = [f"source {i}" for i in range(1, max(len(patch.sources), 1) + 1)]
    listening = [(f"controls.{name}: of", control.of) for name, control in patch.controls.items()
                 if isinstance(control, FollowerControl | SignalControl)]
    banks = [stage for stage in stages_in(patch.path) if isinstance(stage, Bank) and stage.follow is not None]
    listening += [(f"{bank.id or 'bank'}: follow", bank.follow.of) for bank in banks if bank.follow is not None]
    for place, of in listening:
        if of not in sources and of not in stages:
            raise CircuitError(f"{place}: there is no source or stage '{of}'; there are: "
                               f"{', '.join([*sources, *sorted(stages)])}.")
    for name, control in patch.controls.items():
        if isinstance(control, FollowerControl) and control.of in stages:
            try:
                path_to(patch.path, control.of)
            except CircuitError as error:
                raise CircuitError(f"controls.{name}: of: {error}") from error
        for field, wanted in references(control):
            other = patch.controls.get(wanted)
            if isinstance(other, SignalControl) and other.of in stages:
                raise CircuitError(f"controls.{name}: {field}: '{wanted}' is a stage's own output, which no other "
                                   "control can wait for; take a source.")
    for bank in banks:
        of = "" if bank.follow is None else bank.follow.of
        if of in stages and bank in [*stages_in(path_to(patch.path, of)[0])]:
            raise CircuitError(f"{bank.id or 'bank'}: follow: '{of}' is behind it, or it itself, and cannot be known "
                               "before it sounds; follow a stage ahead of it, or a source.")
    check_inside(patch)


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
    for name, others in waits_for(patch).items():
        needed[name] += others
    try:
        TopologicalSorter(needed).prepare()
    except CycleError as error:
        around = list(reversed(error.args[1]))
        raise CircuitError(f"controls.{around[0]}: controls that refer to each other in a circle: "
                           f"{' → '.join(around)}; break it.") from error
