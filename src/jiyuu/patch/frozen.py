"""A patch as it stands at a moment, nothing in it moving any more."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from jiyuu.patch.document import LEFT, RIGHT, Patch, panned
from jiyuu.patch.lowering import OUTPUT_LEVEL, OUTPUT_PAN
from jiyuu.patch.motion import Motion
from jiyuu.patch.targets import Target

# Which field of its stage a target is, where its name does not say.
FIELDS = {"feedback": {"feedback": "amount"}, "comb": {"cutoff": "frequency_hz"}}
NAMES = {"cutoff": "cutoff_hz", "spacing": "spacing_octaves", "shift": "shift_octaves", "morph 2": "morph_2",
         "morph 3": "morph_3"}


def frozen_at(patch: Patch, time_s: float) -> Patch:
    """What every target got by then, written into the fields that it moves."""
    motion, at = Motion(patch, time_s, from_outside=True), np.array([time_s])
    document = patch.model_dump(mode="json", exclude_none=True, by_alias=True)
    stages = {stage["id"]: stage for stage in _inner(document["path"]) if stage.get("id")}
    for target in motion.targets:
        own, _, what = target.name.rpartition(".")
        value = motion.value(target, at)
        pair, _, which = own.rpartition(".")
        if own == "output":
            continue
        if own in stages:
            _write(stages[own], what, target, float(value[0]), float(motion.in_network(target, value)[0]))
        elif pair in stages and which in ("first", "second"):
            _write_in_pair(stages[pair], which, what, target, float(value[0]))
        elif own.startswith("source ") and own not in patch.controls:
            source = document["sources"][int(own.removeprefix("source ")) - 1]
            field = {"pitch": "pitch_hz", "level": "level_v"}.get(what, what)
            source[field] = float(motion.in_network(target, value)[0])
    document["path"] += _output(motion, at)
    return Patch.model_validate({**document, "controls": {}, "routes": []})


def _write(stage: dict[str, Any], what: str, target: Target, value: float, in_network: float) -> None:
    kind = stage["stage"]
    if what == "level":
        stage |= _as_gain(in_network)
    elif what == "resonance":
        stage["resonance_percent" if target.unit == "%" else "resonance_gain"] = value
    elif what == "morph" and kind == "filter":
        stage["parameters"] = {**stage.get("parameters", {}), "morph": value}
    else:
        stage[FIELDS.get(kind, {}).get(what, NAMES.get(what, what))] = value


def _write_in_pair(pair: dict[str, Any], which: str, what: str, target: Target, value: float) -> None:
    if what == "cutoff":
        separate = list(pair.get("separate", (0.0, 0.0)))
        separate[which == "second"] += float(np.log2(value / target.stands_at))
        pair["separate"] = separate
    elif what == "resonance":
        pair[which]["resonance_percent" if target.unit == "%" else "resonance_gain"] = value
    else:
        pair[which]["parameters"] = {**pair[which].get("parameters", {}), what: value}


def _output(motion: Motion, at: np.ndarray) -> list[dict[str, object]]:
    """The output's level and pan as stages."""
    found: list[dict[str, object]] = []
    level, pan = motion.target(OUTPUT_LEVEL), motion.target(OUTPUT_PAN)
    if level is not None:
        found.append({"stage": "gain", **_as_gain(float(motion.in_network(level, motion.value(level, at))[0]))})
    if pan is not None:
        sides = {side: [{"stage": "gain", **_as_gain(float(panned(motion.value(pan, at), side)[0]))}]
                 for side in (LEFT, RIGHT)}
        found.append({"stage": "stereo", **sides})
    return found


def _as_gain(factor: float) -> dict[str, object]:
    return {"db": max(20 * float(np.log10(max(abs(factor), 1e-12))), -200.0), "polarity": 1 if factor >= 0 else -1}


def _inner(path: list[dict[str, Any]]) -> Iterator[dict[str, Any]]:
    for stage in path:
        yield stage
        for inner in (stage.get("path"), stage.get("left"), stage.get("right"),
                      *(limb.get("path") for limb in stage.get("branches", ()))):
            yield from _inner(inner or [])
