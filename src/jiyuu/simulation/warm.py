"""Compile kernels ahead of time: all of the catalogue, or one circuit with the parameters given.

    python -m jiyuu.simulation.warm                    everything in the catalogue
    python -m jiyuu.simulation.warm CIRCUIT [name=value …]
"""

from __future__ import annotations

import sys
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context

from jiyuu.circuits.catalogue import circuit, circuits
from jiyuu.simulation.kernels import compile_now

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


def main(arguments: list[str]) -> None:
    if arguments:
        given = dict(argument.split("=", 1) for argument in arguments[1:])
        _compile((arguments[0], {name: float(value) for name, value in given.items()}))
        return
    with ProcessPoolExecutor(2, mp_context=get_context("spawn")) as pool:
        list(pool.map(_compile, jobs()))


if __name__ == "__main__":
    main(sys.argv[1:])
