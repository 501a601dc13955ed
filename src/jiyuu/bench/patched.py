"""The filter in hand with everything round it as a patch document, and a patch taken in hand as a filter."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from pydantic import ValidationError

from jiyuu.bench.setting import said
from jiyuu.bench.setup import IN_HAND, MOST_SOURCES, Setup, SourceSetting
from jiyuu.bench.standing import Standing
from jiyuu.circuits.filter_file import Filter
from jiyuu.errors import CircuitError
from jiyuu.patch.controls import Route
from jiyuu.patch.document import AnyStage, FilterStage, Gain, Patch, PatchSource
from jiyuu.patch.editing import place_of, places, replaced, stage_at
from jiyuu.signals.source import SourceKind

LEVEL, TRIM = "level", "trim"
LOUDEST_DB = 60.0  # of what Setup takes as level or trim


@dataclass(frozen=True, slots=True)
class Taken:
    """A filter as the shelf takes it, and what stands round it, as a book keeps it."""

    document: Filter
    kept: dict[str, Any]


def path_of(standing: Standing) -> tuple[AnyStage, ...]:
    """The stages between level and trim; where the filter stands alone, it by itself."""
    return standing.setup.path or (marker(standing.document.circuit, standing.setup.in_hand),)


def marker(circuit_id: str, own_id: str = IN_HAND) -> FilterStage:
    """What stands in a path for the filter in hand: its circuit; all else is the filter's own."""
    return FilterStage(stage="filter", id=own_id, filter=circuit_id)


def patch_of(standing: Standing, name: str) -> Patch:
    """As a file would hold it. Raises CircuitError where the source is a recording, which a patch does not hold."""
    setup, path = standing.setup, filled_path(standing)
    if any(one.kind is SourceKind.FILE for one in setup.inputs):
        raise CircuitError("A recording cannot be the source of a patch file: choose another source (Setup), or give "
                           "the recording to 'jiyuu render' with the patch.")
    whole = [*path]
    ids = {stage.id for _, stage in places(path)}
    if setup.drive_db:
        whole.insert(0, Gain(stage="gain", id=None if LEVEL in ids else LEVEL, db=setup.drive_db))
    if setup.trim_db:
        whole.append(Gain(stage="gain", id=None if TRIM in ids else TRIM, db=setup.trim_db))
    return Patch(
        format="jiyuu-patch", version=1, name=name, path=tuple(whole), controls=setup.controls, routes=_routes(setup),
        figure=setup.figure, notes=standing.document.notes,
        sources=tuple(PatchSource.model_validate(one.model_dump(exclude={"path"})) for one in setup.inputs),
    )


def filled_path(standing: Standing) -> tuple[AnyStage, ...]:
    """The stages between level and trim, the filter in hand as it stands in its place."""
    setup, path = standing.setup, path_of(standing)
    place = place_of(path, setup.in_hand)
    assert place is not None
    own = FilterStage.model_construct(
        stage="filter", id=setup.in_hand, filter=_alone(standing), mode=standing.mode, cutoff_hz=standing.standing_hz,
        resonance_gain=standing.gain, lowest_hz=setup.lowest_hz, highest_hz=setup.highest_hz, parameters={},
    )
    path = replaced(path, place, own)
    for name, octaves in setup.tied.items():
        there = place_of(path, name)
        assert there is not None
        stage = stage_at(path, there)
        assert isinstance(stage, FilterStage)
        hertz = float(np.clip(standing.standing_hz * 2.0**octaves, stage.lowest_hz, stage.highest_hz))
        path = replaced(path, there, stage.model_copy(update={"cutoff_hz": hertz}))
    return path


def beside_of(standing: Standing) -> tuple[tuple[AnyStage, ...], tuple[AnyStage, ...]]:
    """(what stands ahead of what is measured, what stands behind it), as they stand."""
    setup, path = standing.setup, filled_path(standing)
    return path[: len(setup.ahead)], path[len(path) - len(setup.behind) :]


def _routes(setup: Setup) -> tuple[Route, ...]:
    """What moves the filter in hand moves those that are tied to it."""
    own = f"{setup.in_hand}.cutoff"
    along = [route.model_copy(update={"target": f"{name}.cutoff"}) for name in setup.tied for route in setup.routes
             if route.target == own]
    return (*setup.routes, *along)


def _alone(standing: Standing) -> Filter:
    """Without anything round it."""
    found = standing.filter
    return Filter.model_construct(**{name: getattr(found, name) for name in Filter.model_fields})


def taken(patch: Patch) -> Taken:
    """Its first filter in hand, everything else round it. Raises CircuitError where it has none, or where what stands
    round it cannot be played."""
    first = next((place for place, stage in places(patch.path) if isinstance(stage, FilterStage) and not stage.off),
                 None)
    if first is None:
        raise CircuitError(f"The patch '{patch.name}' has no filter that could be taken in hand; put a filter into its "
                           "path.")
    path = [*patch.path]
    stage = stage_at(patch.path, first)
    assert isinstance(stage, FilterStage)
    own_id = stage.id or _free_id(patch)
    document = _document(stage, patch)
    path = [*replaced(tuple(path), first, marker(document.circuit, own_id))]
    values: dict[str, object] = {"in_hand": own_id, "lowest_hz": stage.lowest_hz, "highest_hz": stage.highest_hz}
    for name, which, end in (("drive_db", LEVEL, 0), ("trim_db", TRIM, -1)):
        if path and isinstance(path[end], Gain) and _belongs_to_setup(path[end], which):
            values[name] = path.pop(end).db  # type: ignore[union-attr]
    if len(path) > 1 or places_inside(tuple(path)):
        values["path"] = tuple(path)
    inputs = [SourceSetting.model_validate(one.model_dump()) for one in patch.sources[:MOST_SOURCES]]
    if inputs:
        values["inputs"] = tuple(inputs)
    values |= {"controls": patch.controls, "routes": patch.routes, "figure": patch.figure}
    try:
        setup = Setup.model_validate(values)
    except ValidationError as error:
        raise CircuitError(said(Setup, error)) from error
    kept = {"setup": setup.model_dump(mode="json", exclude_defaults=True)}
    standing = Standing.of(document, kept)
    if setup.side == "left" and setup.surrounds:
        standing = _heard(standing)
        kept = {"setup": standing.setup.model_dump(mode="json", exclude_defaults=True)}
    return Taken(document, kept)


def places_inside(path: tuple[AnyStage, ...]) -> bool:
    """Whether any stage holds paths of its own."""
    return any(len(place) > 1 for place, _ in places(path))


def _heard(standing: Standing) -> Standing:
    """On the side on which the filter in hand is heard. Raises CircuitError where neither is."""
    try:
        standing.network.output_index(standing.mode)
        return standing
    except CircuitError:
        other = standing.moved(setup=standing.setup.changed(side="right"))
        other.network.output_index(other.mode)
        return other


def _belongs_to_setup(stage: AnyStage, which: str) -> bool:
    return (isinstance(stage, Gain) and stage.id == which and stage.polarity == 1 and not stage.off
            and abs(stage.db) <= LOUDEST_DB)


def _free_id(patch: Patch) -> str:
    used = {stage.id for _, stage in places(patch.path)}
    return next(name for name in (IN_HAND, *(f"{IN_HAND} {number}" for number in range(2, 99))) if name not in used)


def _document(stage: FilterStage, patch: Patch) -> Filter:
    """Its filter as it stands there, under the patch's name; where its loop gain is past the control's end, the control
    reaches that far."""
    document = stage.document
    gain = stage.loop_gain
    changed: dict[str, object] = {"name": patch.name, "notes": patch.notes or document.notes}
    if stage.resonance_gain is not None:
        percent = document.percent_at(gain)
        if percent > 100 or gain > document.gain_at(100.0):
            changed["full_gain"], percent = gain, 100.0
        changed["resonance_percent"] = percent
    if document.components is not None and stage.cutoff_hz is not None:
        # The knob stands elsewhere than the values on the board would have it, and a filter says only one of the two.
        changed["components"] = None
    return document.model_copy(update=changed)
