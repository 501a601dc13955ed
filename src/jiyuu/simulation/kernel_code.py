"""From the text of a kernel to functions that can be called with arrays."""

from __future__ import annotations

import ctypes
from collections.abc import Callable
from dataclasses import dataclass

from jiyuu.arrays import FloatArray
from jiyuu.compiled.kept_code import code_of, linked, place_of
from jiyuu.simulation.kernel_source import COUNTS, TABLES

Run = Callable[..., None]
FORMS = ("single", "side_by_side")


@dataclass(frozen=True, slots=True, eq=False)
class Kernel:
    """Both forms of one network structure's integrator; see kernel_source for their arguments."""

    single: Run
    side_by_side: Run


def kernel(source: str) -> Kernel:
    """The functions of a text; compiled where that has not been done on this machine."""
    place = place_of(source)
    kind = ctypes.CFUNCTYPE(None, *[ctypes.c_void_p] * len(TABLES), ctypes.c_double, *[ctypes.c_int64] * len(COUNTS))
    return Kernel(*(_run(kind(start)) for start in linked(code_of(place, lambda: source), place.stem, FORMS)))


def _run(function: Callable[..., None]) -> Run:
    def run(tables: tuple[FloatArray, ...], half_step_s: float, counts: tuple[int, ...]) -> None:
        """tables, as TABLES: contiguous; counts, as COUNTS."""
        function(*(table.ctypes.data for table in tables), half_step_s, *counts)

    return run
