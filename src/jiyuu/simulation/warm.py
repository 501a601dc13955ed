"""Compile kernels ahead of time: all of the catalogue, or one that lies written in the cache folder.

    python -m jiyuu.simulation.warm                  everything in the catalogue
    python -m jiyuu.simulation.warm KERNEL SIZE …    one kernel, by what its tables measure (as compile_written asks)
"""

from __future__ import annotations

import sys
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context

import numpy as np

from jiyuu.circuits.catalogue import circuit, circuits
from jiyuu.simulation.kernels import compile_now, compile_written

Job = tuple[str, dict[str, float]]


def jobs() -> list[Job]:
    """Every structure that default use of the catalogue needs."""
    wanted: list[Job] = []
    for entry in circuits().values():
        wanted.append((entry.id, {}))
        if any(parameter.name == "feedback_coupling_hz" for parameter in entry.parameters):
            wanted.append((entry.id, {"feedback_coupling_hz": 10.0}))
    return wanted


def _compile(job: Job) -> str:
    circuit_id, parameters = job
    compile_now(circuit(circuit_id).network(parameters))
    return circuit_id


def sound() -> None:
    """What sources and controls need, compiled by making a little of it."""
    from jiyuu.signals.controls.segments import Segments
    from jiyuu.signals.sources import saw

    saw(440.0, level_v=1.0, duration_s=0.01, sample_rate_hz=48_000.0)
    piece = Segments()
    piece.add(0.0, 1.0)
    piece.at(np.zeros(1))


def main(arguments: list[str]) -> None:
    if arguments:
        name, *sizes = arguments
        compile_written(name, *(int(size) for size in sizes))
        return
    sound()
    with ProcessPoolExecutor(2, mp_context=get_context("spawn")) as pool:
        list(pool.map(_compile, jobs()))


if __name__ == "__main__":
    main(sys.argv[1:])
