"""Values of something that may jump, on a grid that a stepwise integrator reads."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from jiyuu.arrays import FloatArray

ROUNDS, PARTS = 5, 32  # each into so many: a jump is found to 3·10⁻⁸ of a step
PIECE = 32_768  # instants looked at together: what is worked out for them stays near the processor
LEAST = 1e-5  # a change from point to point that may be a jump, re the largest value or one
ALONE = 0.2  # of the change: how far those before and after it are from it where it does jump
OFF_CENTRE = 0.25  # of the change: how far half-way lies from the middle then


def at_instants(values: Callable[[FloatArray], FloatArray], first: int, count: int, step_s: float) -> FloatArray:
    """(count,) at first·step_s, (first + 1)·step_s …; a jump between two points is spread over the nearest four, so
    that what is integrated with Simpson's weights over two steps sees it where it is. The same whatever part of the
    grid is asked for."""
    pieces = [_at_some(values, first + i, min(PIECE, count - i), step_s) for i in range(0, max(count, 1), PIECE)]
    return pieces[0] if len(pieces) == 1 else np.concatenate(pieces)


def _at_some(values: Callable[[FloatArray], FloatArray], first: int, count: int, step_s: float) -> FloatArray:
    times = np.maximum(np.arange(first - 2, first + count + 2), 0) * step_s  # nothing happens before it begins
    found = np.array(values(times), dtype=float)
    change = np.diff(found)
    size = np.abs(change)
    least = np.maximum(LEAST * max(float(np.abs(found).max(initial=0.0)), 1.0), ALONE * size)
    # What only runs steeply changes as much before and after.
    apart = np.abs(np.convolve(change, (-0.5, 1.0, -0.5), mode="same"))
    places = np.flatnonzero((apart > least) & (size > least))
    if places.size:
        between = values(0.5 * (times[places] + times[places + 1]))
        apart = np.abs(between - 0.5 * (found[places] + found[places + 1]))
        places = places[apart > OFF_CENTRE * np.abs(change[places])]
    if places.size:
        low, high = times[places].copy(), times[places + 1].copy()
        before, after = found[places].copy(), found[places + 1].copy()
        inner = np.arange(1, PARTS) / PARTS
        for _ in range(ROUNDS):
            tried = low[:, np.newaxis] + (high - low)[:, np.newaxis] * inner
            there = values(tried.ravel()).reshape(tried.shape)
            gone = np.abs(there - before[:, np.newaxis]) >= np.abs(there - after[:, np.newaxis])
            still = np.where(gone.any(axis=1), gone.argmax(axis=1), PARTS - 1)
            low = low + (high - low) * still / PARTS
            high = low + (high - low) / (PARTS - still)
        share = (high - times[places]) / step_s
        # The mean over a step around each point leaves a part of the jump at one; ¼, ½, ¼ of its neighbours take out
        # what alternates from point to point, which Simpson's weights would count as more or less.
        early = share < 0.5
        point, part = np.where(early, places, places + 1), np.where(early, 0.5 - share, 1.5 - share)
        jump = after - before
        held = np.where(early, 0.0, 1.0)  # share of the jump that stands at the point already
        for offset, moved in ((-1, 0.25 * part), (0, 0.5 * part + 0.25 - held), (1, 0.25 * part - 0.25)):
            kept = (point + offset >= 0) & (point + offset < found.size)
            np.add.at(found, (point + offset)[kept], (jump * moved)[kept])
    return found[2:-2]
