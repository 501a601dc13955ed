"""Loops that only tests need."""

import math

import numpy as np

from jiyuu.compiled.entry import Row, Table
from jiyuu.compiled.loops import loop

AMOUNT = 3.0


@loop()
def stretched(values: Row) -> Row:
    found = np.empty(values.size)
    for i in range(values.size):
        found[i] = AMOUNT * values[i]
    return found


@loop()
def passed_on(values: Row, table: Table) -> tuple[Row, Table, Row, int, complex]:
    """Gives what it was given, and one array twice."""
    twice = stretched(values)
    return twice, table, twice, values.size, complex(1.0, 2.0)


@loop()
def under(places: Row) -> Row:
    """What a library finds that no code of ours is given."""
    found = np.empty(places.size)
    for i in range(places.size):
        found[i] = math.erf(places[i])
    return found


@loop()
def written(found: Row) -> None:
    for i in range(found.size):
        found[i] = i
