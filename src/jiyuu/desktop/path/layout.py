"""Where the stages of a path stand on the strip: beside each other, branches under each other, loops turning back
below."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from jiyuu.desktop.path.shown import LEVEL, NEXT, SOURCE, TRIM, Item, Shown, is_branch
from jiyuu.patch.document import AnyStage, Feedback, Stereo, inner_paths
from jiyuu.patch.editing import Path, Place

MARGIN = 16.0  # px, where a line splits or joins
EMPTY = 60.0  # px of a branch with nothing in it
RETURN_LANE = 0.4  # of a box's height, under a loop
WidthOf = Callable[[Item], float]


@dataclass(frozen=True, slots=True)
class Spot:
    """A place on the strip: x and widths in px, y and height in heights of a box. head: how much of it bears its words;
    the rest is a frame round what is inside."""

    item: Item
    x: float
    y: float
    width: float
    height: float
    head: float


@dataclass(frozen=True, slots=True)
class Line:
    """A run of the signal, through points; back: of a loop; tip: it ends in an arrow."""

    points: tuple[tuple[float, float], ...]
    back: bool = False
    label: str = ""
    tip: bool = True


@dataclass(frozen=True, slots=True)
class Drawn:
    spots: tuple[Spot, ...]
    lines: tuple[Line, ...]
    width: float
    height: float


def laid_out(shown: Shown, width_of: WidthOf) -> Drawn:
    """Everything between the source and the next module; width_of: px that the words of an item take."""
    making = _Making(width_of, frozenset(item for item in shown.boxes if is_branch(item)))
    x = making.box(SOURCE, 0.0, 0.0)
    x = making.box(LEVEL, x, 0.0)
    x = making.path(shown.path, (), x, 0.0, led=True)
    x = making.box(TRIM, x, 0.0)
    x = making.box(NEXT, x, 0.0)
    return Drawn(tuple(making.spots), tuple(making.lines), x, _height_of_path(shown.path))


def _height_of_path(path: Path) -> float:
    return max([1.0, *(_height(stage) for stage in path)])


def _height(stage: AnyStage) -> float:
    inner = sum(_height_of_path(path) for path in inner_paths(stage)) or 1.0
    return inner + (RETURN_LANE if isinstance(stage, Feedback) else 0.0)


@dataclass(slots=True)
class _Making:
    width_of: WidthOf
    fed: frozenset[Item]  # branches with sources of their own
    spots: list[Spot] = field(default_factory=list)
    lines: list[Line] = field(default_factory=list)

    def box(self, item: Item, x: float, y: float, *, led: bool = True) -> float:
        """led: an arrow leads to it."""
        width = self.width_of(item)
        self.spots.append(Spot(item, x, y, width, 1.0, width))
        if item != SOURCE and led:
            self.lines.append(Line(((x - 3, y + 0.5), (x + 4, y + 0.5))))
        return x + width

    def path(self, path: Path, before: Place, x: float, y: float, *, led: bool = False) -> float:
        for i, stage in enumerate(path):
            place = (*before, i)
            first = i == 0 and not led
            x = (self.holder(stage, place, x, y, led=not first) if inner_paths(stage) else
                 self.box(place, x, y, led=not first))
        return x

    def holder(self, stage: AnyStage, place: Place, x: float, y: float, *, led: bool) -> float:
        """A head that names it, then its paths under each other."""
        head = self.width_of(place)
        if led:
            self.lines.append(Line(((x - 3, y + 0.5), (x + 4, y + 0.5))))
        splits, begins = x + head + 0.35 * MARGIN, x + head + MARGIN
        reached: list[tuple[float, float]] = []
        lane = y
        under = len(self.spots)
        for k, inner in enumerate(inner_paths(stage)):
            middle, branch = lane + 0.5, (*place, k)
            if branch in self.fed:
                starts = self.box(branch, begins, lane, led=False)
                self.lines.append(Line(((starts - 3, middle), (starts + 4, middle)), tip=bool(inner)))
            else:
                starts = begins
                self.lines.append(Line(((x + head, y + 0.5), (splits, y + 0.5), (splits, middle), (begins + 4, middle)),
                                       tip=bool(inner)))
            reached.append((max(self.path(inner, branch, starts, lane), starts + (0 if inner else EMPTY)), middle))
            lane += _height_of_path(inner)
        joins = max(end for end, _ in reached) + 0.5 * MARGIN
        ends = joins + 0.5 * MARGIN
        for k, ((end, middle), inner) in enumerate(zip(reached, inner_paths(stage), strict=True)):
            own = (*place, k) in self.fed
            label = ("left", "right")[k] if isinstance(stage, Stereo) else "" if inner or own else "dry"
            begun = end if inner else end - EMPTY
            self.lines.append(Line(((begun, middle), (joins, middle), (joins, y + 0.5), (ends, y + 0.5)), label=label,
                                   tip=False))
        height = _height(stage)
        if isinstance(stage, Feedback):
            low = y + height - 0.5 * RETURN_LANE
            self.lines.append(Line(((joins, y + 0.5), (joins, low), (splits, low), (splits, y + 0.5)), back=True))
        self.spots.insert(under, Spot(place, x, y, ends - x, height, head))
        return ends
