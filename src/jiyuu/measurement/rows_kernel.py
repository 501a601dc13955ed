"""Loops over rows that least squares are made of."""

import numpy as np

from jiyuu.compiled.entry import Row, Table
from jiyuu.compiled.loops import loop


@loop("reassoc", "contract")
def inner(one: Row, other: Row) -> float:
    total = 0.0
    for v in range(one.size):
        total += one[v] * other[v]
    return total


@loop()
def solved(normal: Table, damping: float, pull: Row) -> Row:
    """(v,) where (normal + damping)·step = pull, normal (v, v) with ones on its diagonal and only its lower half read:
    by Cholesky. Where rounding has left nothing of a value's own share, it stays where it is."""
    count = pull.size
    root, step = np.zeros((count, count)), np.zeros(count)
    for v in range(count):
        for other in range(v + 1):
            rest = normal[v, other] + (damping if other == v else 0.0)
            for i in range(other):
                rest -= root[v, i] * root[other, i]
            if other < v:
                root[v, other] = rest / root[other, other] if root[other, other] > 0 else 0.0
            elif rest > 0:
                root[v, v] = np.sqrt(rest)
    for v in range(count):
        rest = pull[v]
        for i in range(v):
            rest -= root[v, i] * step[i]
        step[v] = rest / root[v, v] if root[v, v] > 0 else 0.0
    for v in range(count - 1, -1, -1):
        rest = step[v]
        for i in range(v + 1, count):
            rest -= root[i, v] * step[i]
        step[v] = rest / root[v, v] if root[v, v] > 0 else 0.0
    return step
