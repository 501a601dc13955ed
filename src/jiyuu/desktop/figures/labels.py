"""Where the names of curves stand: on their own curve, apart from other curves, from marks and from each other; close
over or under it where they would hide what the eye looks for."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from PyQt6.QtCore import QPointF
from PyQt6.QtGui import QFontMetrics

from jiyuu.arrays import FloatArray
from jiyuu.desktop.figures.layer import Label
from jiyuu.desktop.theme.style import SMALL_PX, THEME

PLACES = 41
ACROSS = np.linspace(-1, 1, 5)[:, np.newaxis]
ALL_ACROSS = np.linspace(-1, 1, 61)[:, np.newaxis]  # a narrow peak must not stand in a name
HIGHEST_PX, LOWEST_PX = 34, 16  # kept free above for captions, in type of usual size; below for the ruler
LEAST_GAP_PX = 6
ON_NAMELESS = 0.4  # what a place is worth where the ground of a name would cut into a curve that has none
TURN_SHARE = 0.1  # of the height between its ends, that a turn may be lower than the highest one
BESIDE_PX, FURTHEST_PX = 5, 28  # between a name and what it stands beside; from its middle to its own curve
NEARER_PX = 2  # and so much nearer to that than to any other
TURN_PX = 12  # a name keeps so far from a highest or lowest point: the eye looks for it there


def place_labels(
    labels: Mapping[str, Label], curves: Mapping[str, tuple[FloatArray, FloatArray]],
    ranges: Sequence[Sequence[float]], size_px: tuple[float, float], marks_px: Sequence[float],
    captions_px: Sequence[tuple[float, float, float]] = (),
) -> None:
    """Moves the labels. curves: x (n,) and heights (n,) by name, also of those without one; ranges: of the view;
    marks_px: x of marks from the left; captions_px: x and y of the middle and half the width of what is written there
    already. A label for which there is no room is not shown, but one that only a nameless curve leaves no room stands
    on that."""
    curves = {name: (x, y) for name, (x, y) in curves.items() if x.size}
    named = [name for name in labels if name in curves]
    found = _in_order(named, labels, curves, ranges, size_px, marks_px, captions_px)
    left = [name for name in named if name not in found]
    if left and found:  # who comes first has the choice, and may have taken the only place of another
        again = _in_order([*left, *found], labels, curves, ranges, size_px, marks_px, captions_px)
        found = again if len(again) > len(found) else found
    (x0, x1), (y0, y1) = ranges
    for name in named:
        if name not in found and len(curves) > 1:
            taken = [*captions_px, *(((at.x() - x0) / (x1 - x0) * size_px[0],
                                      (y1 - at.y()) / (y1 - y0) * size_px[1] + under_px, _half_px(labels[one]))
                                     for one, (at, under_px) in found.items())]
            off = _off_the_curve(name, labels[name], curves, ranges, size_px, marks_px, taken)
            if off is not None:
                found[name] = off[0]
    for name, label in labels.items():
        label.shown = name in found
        if name in found:
            label.place, label.under_px = found[name]


def _half_px(label: Label) -> float:
    """Half the room a name takes beside others."""
    return 0.5 * QFontMetrics(THEME.font(px=SMALL_PX)).horizontalAdvance(label.text) + 6


def _in_order(
    names: Sequence[str], labels: Mapping[str, Label], curves: Mapping[str, tuple[FloatArray, FloatArray]],
    ranges: Sequence[Sequence[float]], size_px: tuple[float, float], marks_px: Sequence[float],
    captions_px: Sequence[tuple[float, float, float]],
) -> dict[str, tuple[QPointF, float]]:
    """Places of names, each beside those before it, and how far under them they stand; arguments as place_labels has
    them."""
    (x0, x1), (y0, y1) = ranges
    width, height = max(size_px[0], 1.0), max(size_px[1], 1.0)
    places = np.linspace(x0 + 0.05 * (x1 - x0), x1 - 0.05 * (x1 - x0), PLACES)
    heights = {name: np.interp(places, x, y) for name, (x, y) in curves.items()}
    x_px = (places - x0) / (x1 - x0) * width
    metrics = QFontMetrics(THEME.font(px=SMALL_PX))
    taken, found, highest_px = list(captions_px), dict[str, tuple[QPointF, float]](), HIGHEST_PX * THEME.scale
    for name in names:
        own = heights[name]
        y_px = (y1 - own) / (y1 - y0) * height
        half = _half_px(labels[name])
        gap, nameless = np.full((2, places.size), float(height))
        across = places + half / width * (x1 - x0) * ACROSS  # where a name begins, has its middle, and ends
        for other, (x, y) in curves.items():
            apart = np.abs(heights[other] - own) / (y1 - y0) * height
            if other == name or apart.max() <= 3:  # a curve that coincides leaves room for both names
                continue
            if other in labels:
                gap = np.minimum(gap, apart)
                continue
            over = np.interp(across, x, y) - own
            crossed = (over.min(axis=0) < 0) & (over.max(axis=0) > 0)
            nameless = np.minimum(nameless, np.where(crossed, 0.0, np.abs(over).min(axis=0) / (y1 - y0) * height))
        for tx, ty, other_half in taken:
            beside = np.maximum(np.abs(x_px - tx) - half - other_half, 0.0)
            gap = np.minimum(gap, np.hypot(beside, np.maximum(np.abs(y_px - ty) - metrics.height(), 0.0)))
        x, y = curves[name]
        free = np.ones(places.size)  # a name on a mark would hide what it says, as on a turn
        for at_px, reach in (*((mark, half) for mark in marks_px),
                             *(((turn - x0) / (x1 - x0) * width, half + TURN_PX) for turn in turns_of(x, y))):
            free = np.minimum(free, np.abs(x_px - at_px) / reach)
        ends = x[[0, -1]]
        inside = ((y_px > highest_px) & (y_px < height - LOWEST_PX) & (x_px > half) & (x_px < width - half)
                  & (places >= ends.min()) & (places <= ends.max()))
        if (inside & (free == 1) & (gap > LEAST_GAP_PX)).any():
            inside &= free == 1
        score = np.where(inside, np.minimum(gap, 40) * (0.4 + 0.6 * free), -1)
        cut = (score > LEAST_GAP_PX) & (nameless < metrics.height() / 2 + 1)  # moves a name, and takes none away
        score[cut] = np.maximum(ON_NAMELESS * score, LEAST_GAP_PX + 1e-6 * score)[cut]
        best = int(np.argmax(score))
        if score[best] > LEAST_GAP_PX and free[best] < 1 and len(curves) > 1:  # it would hide what is looked for
            off = _off_the_curve(name, labels[name], curves, ranges, (width, height), marks_px, taken)
            if off is not None:
                found[name], box = off
                taken.append(box)
                continue
        if score[best] > LEAST_GAP_PX:
            found[name] = QPointF(float(places[best]), float(own[best])), 0.0
            taken.append((float(x_px[best]), float(y_px[best]), half))
    return found


def _off_the_curve(
    name: str, label: Label, curves: Mapping[str, tuple[FloatArray, FloatArray]], ranges: Sequence[Sequence[float]],
    size_px: tuple[float, float], marks_px: Sequence[float], taken: Sequence[tuple[float, float, float]],
) -> tuple[tuple[QPointF, float], tuple[float, float, float]] | None:
    """A place on the curve, how far under it there is room for a name that is nearer to its own curve than to any other
    and hides none, and that as captions_px has it; None where there is none."""
    (x0, x1), (y0, y1) = ranges
    width, height = size_px
    metrics = QFontMetrics(THEME.font(px=SMALL_PX))
    half, tall = _half_px(label), 0.5 * metrics.height() + BESIDE_PX
    places = np.linspace(x0 + 0.05 * (x1 - x0), x1 - 0.05 * (x1 - x0), PLACES)
    x_px = (places - x0) / (x1 - x0) * width
    across = places + half / width * (x1 - x0) * ALL_ACROSS
    heights_px = {one: (y1 - np.interp(across, x, y)) / (y1 - y0) * height for one, (x, y) in curves.items()}
    own, ends = heights_px.pop(name), curves[name][0][[0, -1]]
    middle = own[len(own) // 2]
    best: tuple[float, int, float] | None = None
    for centre in (own.min(axis=0) - tall, own.max(axis=0) + tall):
        away, others = np.abs(centre - middle), np.full(places.size, height)
        for other in heights_px.values():
            others = np.minimum(others, np.abs(other - centre).min(axis=0))
        room = ((centre > HIGHEST_PX * THEME.scale)
                & (centre < height - LOWEST_PX - tall) & (x_px > half) & (x_px < width - half)
                & (places >= ends.min()) & (places <= ends.max()) & (away < FURTHEST_PX)
                & (others > np.maximum(away, tall) + NEARER_PX))
        for mark in marks_px:
            room &= np.abs(x_px - mark) > half
        for tx, ty, other_half in taken:
            room &= (np.abs(x_px - tx) > half + other_half) | (np.abs(centre - ty) > 2 * tall)
        score = np.where(room, np.minimum(others, 40) - away, -np.inf)
        at = int(np.argmax(score))
        if room[at] and (best is None or score[at] > best[0]):
            best = float(score[at]), at, float(centre[at])
    if best is None:
        return None
    _, at, at_px = best
    own_y = y1 - float(middle[at]) / height * (y1 - y0)
    return (QPointF(float(places[at]), own_y), at_px - float(middle[at])), (float(x_px[at]), at_px, half)


def turns_of(x: FloatArray, y: FloatArray) -> FloatArray:
    """(k,) x at which a curve (n,) turns at about its greatest height, or at about its least."""
    if y.size < 3 or not np.isfinite(y).all():
        return np.zeros(0)
    steps = np.diff(y)
    low, high = float(y.min()), float(y.max())
    room, inner = TURN_SHARE * (high - low), y[1:-1]
    tops = (steps[:-1] > 0) & (steps[1:] <= 0) & (inner > high - room)
    feet = (steps[:-1] < 0) & (steps[1:] >= 0) & (inner < low + room)
    return np.asarray(x[1:-1][tops | feet])
