"""Compile ahead of time what the catalogue, sources and controls need: python -m jiyuu.simulation.warm"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from jiyuu.circuits.catalogue import circuits
from jiyuu.circuits.network import Network
from jiyuu.simulation.kernels import kernel_for


def networks() -> Iterator[Network]:
    """One of every structure that default use of the catalogue needs."""
    for entry in circuits().values():
        yield entry.network({})
        if any(parameter.name == "feedback_coupling_hz" for parameter in entry.parameters):
            yield entry.network({"feedback_coupling_hz": 10.0})


def sound() -> None:
    """What sources and controls need, compiled by making a little of it."""
    from jiyuu.signals.controls.segments import Segments
    from jiyuu.signals.sources import saw

    saw(55.0, level_v=1.0, duration_s=2.0, sample_rate_hz=48_000.0)
    piece = Segments()
    piece.add(0.0, 1.0)
    piece.at(np.zeros(1))


if __name__ == "__main__":
    sound()
    for network in networks():
        kernel_for(network)
