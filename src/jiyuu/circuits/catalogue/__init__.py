"""The catalogue of circuits: one file each, found by looking into this package."""

from __future__ import annotations

from functools import cache
from importlib import import_module
from pkgutil import iter_modules

from jiyuu.circuits.circuit import Circuit
from jiyuu.errors import CircuitError


@cache
def circuits() -> dict[str, Circuit]:
    """Catalogue id -> circuit, in the order in which one would teach them."""
    found = [import_module(f"{__name__}.{module.name}") for module in iter_modules(__path__)]
    ordered = sorted(found, key=lambda module: module.TEACHING_ORDER)
    return {module.CIRCUIT.id: module.CIRCUIT for module in ordered}


def circuit(id: str) -> Circuit:
    """The circuit of that id. Raises CircuitError listing the ids there are."""
    if id not in circuits():
        raise CircuitError(f"there is no circuit '{id}'; choose one of: {', '.join(circuits())}.")
    return circuits()[id]
