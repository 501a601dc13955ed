"""How often something is tried: a few of every kind each time, all of them when the long run asks for it."""

import os
from collections.abc import Iterable

ALL = os.environ.get("JIYUU_TRIALS") == "all"


def some(cases: Iterable, keep: int) -> list:
    """So many of the cases, evenly from the first on; all in the long run."""
    cases = list(cases)
    return cases if ALL else [cases[i * len(cases) // keep] for i in range(keep)]
