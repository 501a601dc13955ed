"""A path cut into what is one network each and what stands between networks."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass

from jiyuu.patch.between_stages import Comb, Crush
from jiyuu.patch.document import LEFT, AnyStage, Chord, Parallel, Stereo
from jiyuu.patch.linear_stages import AllPass, Bank, Formants
from jiyuu.patch.shapes import Shapes

MORPHS = ("morph", "morph 2", "morph 3")  # targets of shapes


@dataclass(frozen=True, slots=True)
class Stretch:
    """Neighbouring stages that are one network: the first of them is number `first` of the path at `place`; is_last:
    nothing comes behind it in the patch."""

    path: tuple[AnyStage, ...]
    place: str = "path"
    first: int = 0
    is_last: bool = True


@dataclass(frozen=True, slots=True)
class Apart:
    """A stage that is no network, or holds one that is none."""

    stage: AnyStage
    place: str


def stands_apart(stage: AnyStage, side: str) -> bool:
    """Whether it is no part of a network on a side."""
    if stage.off:
        return False
    if isinstance(stage, Comb | Chord | Crush):
        return True
    if isinstance(stage, Bank):
        return stage.follow is not None
    if isinstance(stage, Parallel):
        return any(limb.sources or any(stands_apart(one, side) for one in limb.path) for limb in stage.branches)
    if isinstance(stage, Stereo):
        return any(stands_apart(one, side) for one in (stage.left if side == LEFT else stage.right))
    return False


def parted(
    path: tuple[AnyStage, ...], hand: int, side: str
) -> tuple[tuple[AnyStage, ...], tuple[AnyStage, ...], tuple[AnyStage, ...]]:
    """(what stands ahead, up to the last stage that is no part of a network; what can be one network with the stage
    number `hand`; what stands behind it, from the next such stage on)."""
    first = max((i + 1 for i in range(hand) if stands_apart(path[i], side)), default=0)
    last = next((i for i in range(hand + 1, len(path)) if stands_apart(path[i], side)), len(path))
    return path[:first], path[first:last], path[last:]


def morphs(stage: AnyStage, called: str, moving: Collection[str]) -> bool:
    """Whether it is shelves and peaks that move between their settings: played by themselves."""
    return isinstance(stage, Shapes) and not stage.bypass and any(f"{called}.{name}" in moving for name in MORPHS)


def by_response(stretch: Stretch, moving: Collection[str]) -> Iterator[Stretch]:
    """The same in parts, so that stages which are only their transfer function, and which nothing moves, are by
    themselves: these are played by their response, and a network need not carry their many capacitors. What morphs is
    by itself too."""
    run: list[AnyStage] = []
    first, kind = stretch.first, 0
    for i, stage in enumerate(stretch.path, start=stretch.first):
        called = stage.id or f"{stretch.place}[{i}]"
        own = 0
        if morphs(stage, called, moving):
            own = i + 2  # like no other
        elif isinstance(stage, Bank | Formants | Shapes | AllPass):
            own = int(not any(name.startswith(f"{called}.") for name in moving))
        if run and own != kind:
            yield Stretch(tuple(run), stretch.place, first, is_last=False)
            run, first = [], i
        run, kind = [*run, stage], own
    yield Stretch(tuple(run), stretch.place, first, is_last=stretch.is_last)


def stretches(path: Sequence[AnyStage], side: str, place: str = "path", *, outermost: bool = True
              ) -> Iterator[Stretch | Apart]:
    """In order; outermost: whether it is the patch's own path, whose end is the output."""
    run: list[AnyStage] = []
    first = 0
    for i, stage in enumerate(path):
        if not stands_apart(stage, side):
            run.append(stage)
            continue
        if run:
            yield Stretch(tuple(run), place, first, is_last=False)
        yield Apart(stage, f"{place}[{i}]")
        run, first = [], i + 1
    if run or outermost:  # the output's own level stands behind the last stage
        yield Stretch(tuple(run), place, first, is_last=outermost)
