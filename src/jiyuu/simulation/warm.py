"""Compile ahead of time what the catalogue needs: python -m jiyuu.simulation.warm"""

from __future__ import annotations

from collections.abc import Iterator

from jiyuu.circuits.catalogue import circuits
from jiyuu.circuits.network import Network
from jiyuu.simulation.kernels import kernel_for


def networks() -> Iterator[Network]:
    """One of every structure that default use of the catalogue needs."""
    for entry in circuits().values():
        yield entry.network({})
        if any(parameter.name == "feedback_coupling_hz" for parameter in entry.parameters):
            yield entry.network({"feedback_coupling_hz": 10.0})


if __name__ == "__main__":
    for network in networks():
        kernel_for(network)
