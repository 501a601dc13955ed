"""Means, least values and medians over a window that runs along a row. SciPy has them as well, but takes as long to
load as a short measurement takes."""

from __future__ import annotations

from typing import Literal, TypeVar

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import FloatArray

Kind = TypeVar("Kind", bound=np.generic)
Beyond = Literal["symmetric", "edge", "constant"]  # its ends: turned round there, going on as they are, nothing
SUMMED_ANEW = 64  # widths up to which every window is summed for itself, and a loud one leaves nothing in the next


def running_mean(values: FloatArray, width: int, beyond: Beyond = "symmetric") -> FloatArray:
    """(n,) of `width` values each; an even window lies half a value ahead of its place."""
    padded = _padded(values, width, beyond)
    if width <= SUMMED_ANEW:
        return np.asarray(np.convolve(padded, np.ones(width), "valid") / width)
    sums = np.cumsum(padded)
    means = sums[width - 1 :].copy()
    means[1:] -= sums[:-width]
    means /= width
    return means


def running_least(values: NDArray[Kind], width: int) -> NDArray[Kind]:
    """(…, n) along the last axis, which goes on as it ends."""
    return np.asarray(_windows(values, width, "edge").min(axis=-1))


def running_most(values: NDArray[Kind], width: int) -> NDArray[Kind]:
    """(…, n) along the last axis, which goes on as it ends."""
    return np.asarray(_windows(values, width, "edge").max(axis=-1))


def running_median(values: FloatArray, width: int, beyond: Beyond = "symmetric") -> FloatArray:
    """(n,) of an even number the upper one of the two in the middle."""
    return np.asarray(np.partition(_windows(values, width, beyond), width // 2, axis=-1)[..., width // 2])


def _windows(values: NDArray[Kind], width: int, beyond: Beyond) -> NDArray[Kind]:
    return np.lib.stride_tricks.sliding_window_view(_padded(values, width, beyond), width, axis=-1)


def _padded(values: NDArray[Kind], width: int, beyond: Beyond) -> NDArray[Kind]:
    ends = [*[(0, 0)] * (values.ndim - 1), (width // 2, width - 1 - width // 2)]
    return np.pad(values, ends, mode=beyond)
