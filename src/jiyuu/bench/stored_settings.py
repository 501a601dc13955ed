"""How a filter stood, under a name: stored, called back, begun anew, told from how it stands, and all between some."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from jiyuu.bench.standing import Standing
from jiyuu.circuits.filter_file import Filter
from jiyuu.errors import JiyuuError
from jiyuu.wording.acts import STORED

# What a setting is made of; what steps are asked and what is wished is not.
CONTROLS = ("mode", "cutoff_hz", "resonance_percent", "parameters", "components", "resonance_taper", "trims", "setup")
LONGEST_NAME = 60
RATIOS = ("_hz", "_s", "_ms", "_ohm", "_f", "_a", "_headroom_v")  # endings of what is heard by ratios
RATIO_NAMES = frozenset({"q", "headroom_v"})


@dataclass(frozen=True, slots=True)
class Stored:
    """name; at: when it was stored, as books write times; values: of CONTROLS, those that were moved."""

    name: str
    at: str
    values: Mapping[str, object]


def stored(kept: Mapping[str, object]) -> list[Stored]:
    """Of a filter, oldest first; kept: its settings in the book. What cannot be read is left out."""
    found = []
    for key, value in kept.items():
        if key.startswith(STORED) and isinstance(value, dict) and isinstance(value.get("values"), dict):
            found.append(Stored(key.removeprefix(STORED), str(value.get("at", "")), value["values"]))
    return sorted(found, key=lambda one: (one.at, one.name))


def storing(kept: Mapping[str, object], name: str, at: str) -> dict[str, object]:
    """What is to be kept so that how the filter stands is stored. Raises JiyuuError for a name that is taken: what is
    stored is never overwritten."""
    wanted = " ".join(name.split())
    if not wanted:
        raise JiyuuError("Settings are stored under a name; type one, for example 'dusk'.")
    if len(wanted) > LONGEST_NAME:
        raise JiyuuError(f"That name has {len(wanted)} signs; give at most {LONGEST_NAME}.")
    if any(one.name.casefold() == wanted.casefold() for one in stored(kept)):
        raise JiyuuError(f"'{wanted}' is stored already and stays as it is; choose another name.")
    return {STORED + wanted: {"at": at, "values": {name: kept[name] for name in CONTROLS if name in kept}}}


def recalling(values: Mapping[str, object]) -> dict[str, object]:
    """What is to be changed so that a filter stands like that; of no values: as its file has it."""
    return {name: values.get(name) for name in CONTROLS}


def apart(
    document: Filter, first: Mapping[str, object], second: Mapping[str, object]
) -> list[tuple[str, object, object]]:
    """(place, there, here) of everything in which two settings differ."""
    one, other = (_flat(_whole(document, values)) for values in (first, second))
    return [(place, one.get(place), other.get(place)) for place in dict.fromkeys([*one, *other])
            if one.get(place) != other.get(place)]


def between(
    document: Filter, first: Mapping[str, object], second: Mapping[str, object], share: float
) -> dict[str, object]:
    """Values at a share of the way: frequencies, times and parts by their ratio, all else evenly; what is no number
    changes half way. Raises JiyuuError where the two stand in paths of other stages."""
    one, other = (_whole(document, values) for values in (first, second))
    found = {name: _mixed(name, one[name], other[name], share) for name in one}
    Standing.of(document, found)  # what a book could not read is not offered
    return found


def among(document: Filter, settings: Sequence[Mapping[str, object]], ways: Sequence[float]) -> dict[str, object]:
    """Values at places from 0 to 1 along each way: of one way along all settings in their order, of two on the sheet
    between four, of three in the block between eight; the first way turns fastest. Raises JiyuuError for other numbers
    of settings, and as between does."""
    if len(ways) == 1 and len(settings) > 1:
        leg = min(int(ways[0] * (len(settings) - 1)), len(settings) - 2)
        return between(document, settings[leg], settings[leg + 1], ways[0] * (len(settings) - 1) - leg)
    if len(settings) != 2 ** len(ways):
        raise JiyuuError(f"{len(ways)} ways lie between {2 ** len(ways)} settings; choose as many.")
    corners: list[Mapping[str, object]] = [*settings]
    for share in ways:
        corners = [between(document, *pair, share) for pair in zip(corners[::2], corners[1::2], strict=True)]
    return dict(corners[0])


def _whole(document: Filter, values: Mapping[str, object]) -> dict[str, object]:
    """With what stands in the filter's file written out."""
    standing = Standing.of(document, {name: value for name, value in values.items() if name in CONTROLS})
    whole: dict[str, object] = {
        "mode": standing.mode, "cutoff_hz": standing.cutoff_hz, "resonance_percent": standing.resonance_percent,
        "parameters": dict(standing.parameters), "trims": standing.trims.as_json(),
        "setup": standing.setup.model_dump(mode="json"),
    }
    known = document.entry.values(standing.parameters)
    whole["parameters"] = {name: known[name] for name in sorted(known)}
    if standing.components is not None:
        whole["components"] = standing.components.model_dump(mode="json")
    if "resonance_taper" in values:
        whole["resonance_taper"] = values["resonance_taper"]
    return whole


def _mixed(name: str, first: Any, second: Any, share: float) -> object:
    if isinstance(first, dict) and isinstance(second, dict):
        if first.keys() != second.keys():
            raise JiyuuError(f"The two do not have the same {_said(name)}, so there is nothing between them.")
        return {key: _mixed(key, first[key], second[key], share) for key in first}
    if isinstance(first, list) and isinstance(second, list):
        if len(first) != len(second) or [_kind(one) for one in first] != [_kind(one) for one in second]:
            raise JiyuuError(f"The two stand in other stages ({_said(name)}), so there is nothing between them.")
        return [_mixed(name, one, other, share) for one, other in zip(first, second, strict=True)]
    if _is_number(first) and _is_number(second) and (isinstance(first, float) or isinstance(second, float)):
        if share in (0.0, 1.0):  # the ends are met as they are
            return second if share else first
        if (name.endswith(RATIOS) or name in RATIO_NAMES) and first > 0 and second > 0:
            return math.exp((1 - share) * math.log(first) + share * math.log(second))
        return (1 - share) * first + share * second
    return first if share < 0.5 else second


def _kind(one: object) -> object:
    return (one.get("stage"), one.get("id"), one.get("kind")) if isinstance(one, dict) else None


def _is_number(value: object) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def _said(name: str) -> str:
    return name.replace("_", " ")


def _flat(value: object, place: str = "") -> dict[str, object]:
    if isinstance(value, dict):
        return {key: one for name, part in value.items()
                for key, one in _flat(part, f"{place}, {_said(name)}" if place else _said(name)).items()}
    if isinstance(value, list):
        return {key: one for i, part in enumerate(value) for key, one in _flat(part, f"{place} {i + 1}").items()}
    return {place: value}
