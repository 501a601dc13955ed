"""The loops of `factors`."""

import numpy as np

from jiyuu.compiled.entry import ComplexRow, Row
from jiyuu.compiled.loops import loop


@loop()
def roots_of(factors: Row) -> ComplexRow:
    """Of s² + a·s + b for every two (b, a), then of s + c."""
    found = np.empty(factors.size, dtype=np.complex128)
    for i in range(factors.size // 2):
        b, a = factors[2 * i], factors[2 * i + 1]
        root = np.sqrt(complex(a * a / 4 - b))
        # The larger first, the other from their product: no cancellation.
        one = -a / 2 - root if a > 0 else -a / 2 + root
        found[2 * i] = one
        found[2 * i + 1] = b / one if one != 0 else -one
    if factors.size % 2:
        found[-1] = -factors[-1]
    return found


@loop()
def expanded(factors: Row) -> Row:
    """(n,) their product's coefficients, lowest first and without the leading 1; factors as roots_of has them."""
    found = np.zeros(factors.size + 1)
    found[0], size = 1.0, 0
    for i in range(0, factors.size - 1, 2):
        b, a = factors[i], factors[i + 1]
        size += 2
        for k in range(size, -1, -1):
            found[k] = (found[k - 2] if k > 1 else 0.0) + a * (found[k - 1] if k else 0.0) + b * found[k]
    if factors.size % 2:
        for k in range(size + 1, -1, -1):
            found[k] = (found[k - 1] if k else 0.0) + factors[-1] * found[k]
    return found[:-1].copy()
