"""A path with one of its stages changed, moved, added, taken out, or put into a branch or a loop.

A place is a tuple of numbers: which stage, and where that holds paths of its own, which of these and which stage there,
and so on: (1, 0, 2) is the third stage of the first inner path of the second stage."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Literal

from jiyuu.errors import CircuitError
from jiyuu.patch.document import AnyStage, Feedback, Limb, Parallel, Stereo, inner_paths

Path = tuple[AnyStage, ...]
Place = tuple[int, ...]


def places(path: Path, before: Place = ()) -> Iterator[tuple[Place, AnyStage]]:
    """Every stage with its place, inner ones behind the one that holds them."""
    for i, stage in enumerate(path):
        yield (*before, i), stage
        for k, inner in enumerate(inner_paths(stage)):
            yield from places(inner, (*before, i, k))


def place_of(path: Path, own_id: str) -> Place | None:
    """Where the stage of that id stands."""
    return next((place for place, stage in places(path) if stage.id == own_id), None)


def path_at(path: Path, place: Place) -> Path:
    """The path that holds a stage's place."""
    for stage, inner in zip(place[:-1:2], place[1::2], strict=True):
        path = inner_paths(path[stage])[inner]
    return path


def stage_at(path: Path, place: Place) -> AnyStage:
    return path_at(path, place)[place[-1]]


def with_inner(stage: AnyStage, which: int, inner: Path) -> AnyStage:
    """With another one for one of its paths."""
    if isinstance(stage, Parallel):
        limbs = list(stage.branches)
        limbs[which] = limbs[which].model_copy(update={"path": inner})
        return stage.model_copy(update={"branches": tuple(limbs)})
    if isinstance(stage, Stereo):
        return stage.model_copy(update={("left", "right")[which]: inner})
    return stage.model_copy(update={"path": inner})


def replaced(path: Path, place: Place, stage: AnyStage) -> Path:
    """Another stage in place of one."""
    return _within(path, place, lambda own, i: (*own[:i], stage, *own[i + 1 :]))


def inserted(path: Path, place: Place, stage: AnyStage) -> Path:
    """One more, so that it stands at that place."""
    return _within(path, place, lambda own, i: (*own[:i], stage, *own[i:]))


def removed(path: Path, place: Place) -> Path:
    return _within(path, place, lambda own, i: (*own[:i], *own[i + 1 :]))


def moved(path: Path, place: Place, by: Literal[-1, 1]) -> tuple[Path, Place]:
    """One to the left or right; past the end of an inner path it comes out beside what held it. Also its new place."""
    stage, own = stage_at(path, place), path_at(path, place)
    to = place[-1] + by
    if 0 <= to < len(own):
        there = (*place[:-1], to)
        return inserted(removed(path, place), there, stage), there
    if len(place) == 1:
        return path, place
    outer = place[:-2]
    there = (*outer[:-1], outer[-1] + (by > 0))
    return inserted(_emptied(removed(path, place), outer), there, stage), there


def _emptied(path: Path, place: Place) -> Path:
    """Raises CircuitError where what is left of a stage cannot be."""
    stage = stage_at(path, place)
    if isinstance(stage, Feedback) and not stage.path:
        raise CircuitError("A feedback needs something that it goes round: take the feedback itself out instead.")
    return path


def put_beside_dry(path: Path, place: Place) -> Path:
    """The stage as one branch, what comes in as the other, both 6 dB down."""
    stage = stage_at(path, place)
    dry = Limb(level_db=-6.0)
    return replaced(path, place, Parallel(stage="parallel", branches=(Limb(path=(stage,), level_db=-6.0), dry)))


def put_into_loop(path: Path, place: Place) -> Path:
    """The stage with its output fed back, by nothing yet."""
    return replaced(path, place, Feedback(stage="feedback", path=(stage_at(path, place),), amount=0.0))


def opened(path: Path, place: Place) -> Path:
    """What holds paths is taken away, its first path stays. Raises CircuitError where it holds none."""
    inner = inner_paths(stage_at(path, place))
    if not inner:
        raise CircuitError("Only a branch, a loop or a stereo stage can be taken away round what it holds.")
    return _within(path, place, lambda own, i: (*own[:i], *inner[0], *own[i + 1 :]))


def _within(path: Path, place: Place, change: Callable[[Path, int], Path]) -> Path:
    if len(place) == 1:
        return change(path, place[0])
    i, which, rest = place[0], place[1], place[2:]
    inner = _within(inner_paths(path[i])[which], rest, change)
    return (*path[:i], with_inner(path[i], which, inner), *path[i + 1 :])
