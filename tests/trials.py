"""How often something is tried: a few of every kind each time, more of them in the long run, all when asked for."""

import os
from collections.abc import Iterable

import pytest

ALL = os.environ.get("JIYUU_TRIALS") == "all"


def some(cases: Iterable, keep: int, *, long: int | None = None) -> list:
    """So many of the cases, evenly from the first on; `long` of them in the long run; all where all are asked for."""
    cases = list(cases)
    more = len(cases) if ALL else long or keep
    tried = [cases[i * len(cases) // more] for i in range(more)]
    if long is None:
        return tried
    short = {i * more // keep for i in range(keep)}
    return [case if i in short else _later(case) for i, case in enumerate(tried)]


def _later(case: object) -> object:
    values = case if isinstance(case, tuple) else (case,)
    return pytest.param(*values, marks=pytest.mark.long)
