"""The loops of a patch, each by itself and closed: what stability is judged by before it is heard."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from jiyuu.circuits.network import Network
from jiyuu.patch.document import LEFT, AnyStage, Feedback, Parallel, Patch, Stereo
from jiyuu.patch.linear_stages import Bank, Group
from jiyuu.patch.lowering import UNIT_HZ, closed, group_network, path_network


@dataclass(frozen=True, slots=True)
class PlacedLoop:
    """A feedback stage of one side, or a group of a bank with feedback of its own: what it is called, its path as a
    network by itself, and closed."""

    stage: Feedback | Group
    called: str
    inside: Network
    whole: Network


def loops_of(patch: Patch, side: str) -> list[PlacedLoop]:
    """Every feedback stage that this side passes, outer ones first."""
    return loops_in(patch.path, side)


def loops_in(path: Sequence[AnyStage], side: str) -> list[PlacedLoop]:
    """The same of a path by itself."""
    return list(_loops(path, side, "path", 0.0))


def _loops(path: Sequence[AnyStage], side: str, place: str, octaves: float) -> Iterator[PlacedLoop]:
    for i, stage in enumerate(path):
        here = f"{place}[{i}]"
        if stage.off:
            continue
        if isinstance(stage, Feedback):
            inside = path_network(stage.path, side, f"{here}.path", octaves)
            yield PlacedLoop(stage, stage.id or here, inside, closed(inside, stage, stage.id or here))
            yield from _loops(stage.path, side, f"{here}.path", octaves)
        elif isinstance(stage, Bank):
            unit_hz = UNIT_HZ / 2.0**octaves
            for k, group in enumerate(stage.groups):
                if group.feedback and any(True for _ in stage.members(k)):
                    yield placed_group(stage, k, stage.id or here, unit_hz)
        elif isinstance(stage, Parallel):
            for j, limb in enumerate(stage.branches):
                yield from _loops(limb.path, side, f"{here}.branches[{j}].path", octaves)
        elif isinstance(stage, Stereo):
            half = 0.5 * stage.spacing_octaves * (-1 if side == LEFT else 1)
            inner = stage.left if side == LEFT else stage.right
            yield from _loops(inner, side, f"{here}.{side}", octaves + half)


def placed_group(bank: Bank, which: int, called: str, unit_hz: float) -> PlacedLoop:
    """A group of a bank and its feedback."""
    inside, whole = (group_network(bank, which, called, unit_hz, closed=shut) for shut in (False, True))
    return PlacedLoop(bank.groups[which], f"{called}.{which + 1}", inside, whole)
