"""What a stage of a patch puts out, for controls that listen to it: the path as far as that stage, played."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from jiyuu.errors import CircuitError
from jiyuu.patch.controls import FollowerControl
from jiyuu.patch.document import LEFT, RIGHT, AnyStage, Pair, Parallel, Patch, Stereo, stages_in
from jiyuu.patch.heard import HeardRecord
from jiyuu.patch.inside import inner_routes
from jiyuu.signals.long_record import Record


def stage_record(patch: Patch, own: str, until_s: float, played: HeardRecord | None) -> HeardRecord:
    """The stage of that id, on the patch's own sources or on what is played in their place. Raises CircuitError where
    it stands in a loop, or where something behind it moves it."""
    from jiyuu.patch.playing import play_record, sources_record
    from jiyuu.patch.sounding import OWN_RATE_HZ

    path, side = path_to(patch.path, own)
    ahead = {stage.id for stage in stages_in(path) if stage.id}
    for route, control in inner_routes(patch):
        if route.target.rpartition(".")[0] in ahead and control.of not in ahead:
            raise CircuitError(f"controls: of: '{own}' is moved by '{control.of}' behind it, so that what it puts out "
                               "is known only while it sounds; listen to a stage behind both, or to a source.")
    # What only sounds behind it is left out: it may wait for this very record.
    routes = tuple(route for route in patch.routes if route.target.rpartition(".")[0] in ahead or _belongs(
        patch, route.target))
    cut = patch.model_copy(update={"path": path, "routes": routes})
    rate = OWN_RATE_HZ if played is None else played.sample_rate_hz
    sound = Record.of(sources_record(cut, until_s, rate)) if played is None else played.record
    out = play_record(cut, [sound], rate, own_sources=played is None)
    return HeardRecord(out[min(int(side == RIGHT), len(out) - 1)], rate)


def _belongs(patch: Patch, target: str) -> bool:
    """Whether a target is a source's or a control's own field."""
    own = target.rpartition(".")[0]
    return own.startswith("source ") or own in patch.controls


def path_to(path: Sequence[AnyStage], own: str) -> tuple[tuple[AnyStage, ...], str]:
    """(the path as far as a stage, the side it is heard on). Raises CircuitError for one in a loop."""
    found = next(_paths_to(tuple(path), own), None)
    if found is None:
        raise CircuitError(f"controls: of: '{own}' stands in a loop, or inside a pair, where it cannot be listened to "
                           "by itself; listen to the stage round it.")
    return found


def _paths_to(path: tuple[AnyStage, ...], own: str) -> Iterator[tuple[tuple[AnyStage, ...], str]]:
    for i, stage in enumerate(path):
        if stage.id == own:
            yield path[: i + 1], LEFT
        if isinstance(stage, Parallel) and not stage.off:
            for limb in stage.branches:
                if not limb.sources:
                    yield from (((*path[:i], *inner), side) for inner, side in _paths_to(limb.path, own))
        if isinstance(stage, Stereo) and not stage.off:
            for side in (LEFT, RIGHT):
                for inner, _ in _paths_to(getattr(stage, side), own):
                    yield (*path[:i], stage.model_copy(update={side: inner})), side


def waits_for(patch: Patch) -> dict[str, list[str]]:
    """Of every control that listens to a stage, all others that move what lies ahead of it: they have to be known
    first. What a stage's own output moves is no waiting: that is part of the network."""
    found: dict[str, list[str]] = {}
    inside = {route.source for route, _ in inner_routes(patch)}
    for name, control in patch.controls.items():
        if not isinstance(control, FollowerControl) or control.of.startswith("source "):
            continue
        ahead = {stage.id for stage in stages_in(path_to(patch.path, control.of)[0]) if stage.id}
        ahead |= {f"{stage.id}.{which}" for stage in stages_in(patch.path) if isinstance(stage, Pair)
                  for which in ("first", "second") if stage.id in ahead}
        found[name] = [
            needed for route in patch.routes
            if route.target.rpartition(".")[0] in ahead or route.target.startswith("source ")
            for needed in (route.source, route.amount_by) if needed is not None and needed not in inside]
    return found

