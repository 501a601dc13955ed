"""What the strip shows of a path: a box for every place of it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from jiyuu.desktop.path.words import source_name
from jiyuu.patch.document import AnyStage, Parallel
from jiyuu.patch.editing import Path, Place

COMES_IN = "what comes in"  # instead of a kind of source
SOURCE, LEVEL, TRIM, NEXT = "source", "level", "trim", "next"  # what no stage of the path is
Item = str | Place


@dataclass(frozen=True, slots=True)
class Box:
    """What a place of the path shows: a name, and what stands there; bad: marked for attention."""

    item: Item
    name: str
    text: str
    bad: bool = False
    off: bool = False


@dataclass(frozen=True, slots=True)
class Shown:
    """Everything that the strip draws. boxes: by item, a branch's own source by the branch's place; path: the stages,
    () where the filter stands alone."""

    letter: str
    path: Path
    in_hand: Place
    boxes: dict[Item, Box]
    order: tuple[Item, ...]  # as the keys go through them

    @property
    def words(self) -> str:
        return "; ".join(f"{box.name}: {box.text}" for box in self.boxes.values())


def is_branch(item: Item) -> bool:
    """Whether it is no stage but a branch of one."""
    return isinstance(item, tuple) and len(item) % 2 == 0


def own_sources(place: Place, stage: AnyStage) -> Iterator[Box]:
    """Of the branches that take some instead of what comes in."""
    for k, limb in enumerate(stage.branches if isinstance(stage, Parallel) else ()):
        if limb.sources:
            names = ", ".join(source_name(one) for one in limb.sources)
            loudest_v = sum(one.level_v for one in limb.sources)
            yield Box((*place, k), f"own source, {names}", f"{loudest_v:g} V", off=stage.off)
