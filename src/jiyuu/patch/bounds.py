"""Two bounds between which a target is to move, turned into where its knob stands and how large its amounts are."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import CircuitError
from jiyuu.patch.document import Patch
from jiyuu.patch.motion import Motion
from jiyuu.patch.targets import Target

STILL = 1e-9  # in the unit of the amounts: routes that move less do not move it
ROWS_HZ = 2000.0


@dataclass(frozen=True, slots=True)
class Bounded:
    """stands_at: where the target's own knob must stand, in its unit; amounts: of its routes, in their order."""

    stands_at: float
    amounts: tuple[float, ...]


def instants(until_s: float) -> FloatArray:
    """(n,) s at which a span is read."""
    return np.arange(max(round(until_s * ROWS_HZ), 2)) / ROWS_HZ


def reached(patch: Patch, name: str, until_s: float) -> tuple[float, float]:
    """(least, greatest) that the routes ask of a target, in its unit, before any stop."""
    motion = Motion(patch, until_s)
    target = _target(motion, name)
    wanted = motion.wanted(target, instants(until_s))
    return float(wanted.min()), float(wanted.max())


def bounded(patch: Patch, name: str, low: float, high: float, until_s: float) -> Bounded:
    """All amounts grow or shrink alike, the knob moves along, so that the routes ask for exactly `low` at the least and
    `high` at the most within until_s. Raises CircuitError where nothing moves the target, or the bounds cannot be."""
    motion = Motion(patch, until_s)
    target = _target(motion, name)
    for value in (low, high):
        if not np.isfinite(value) or (target.low is not None and value < target.low * (1 - 1e-9) - 1e-12) or (
            target.high is not None and value > target.high * (1 + 1e-9)):
            raise CircuitError(f"{name}: {value:g} {target.unit} lies beyond where it can go; give {target.low:g} to "
                               f"{target.high:g} {target.unit}.")
    if high < low:
        raise CircuitError(f"{name}: the upper bound {high:g} lies under the lower one, {low:g}; swap them.")
    wanted = motion.wanted(target, instants(until_s))
    # Octaves add up where amounts are octaves: the sum is read where it is a sum.
    place = np.log2 if target.octaves else np.asarray
    least, most = float(place(wanted.min())), float(place(wanted.max()))
    stands, span = float(place(target.stands_at)), most - least
    if span < STILL:
        raise CircuitError(f"{name}: its routes do not move it in this time; give one an amount, or a control that "
                           "moves.")
    ends = float(place(low)), float(place(high))
    factor = (ends[1] - ends[0]) / span
    at = ends[0] - factor * (least - stands)
    amounts = tuple(factor * route.amount for route in patch.routes if route.target == name)
    return Bounded(float(2.0**at if target.octaves else at), amounts)


def with_amounts(patch: Patch, name: str, amounts: tuple[float, ...]) -> Patch:
    """Other amounts of one target's routes."""
    given = iter(amounts)
    routes = tuple(route.model_copy(update={"amount": next(given)}) if route.target == name else route
                   for route in patch.routes)
    return patch.model_copy(update={"routes": routes})


def _target(motion: Motion, name: str) -> Target:
    """Raises CircuitError where no route moves it."""
    for target in motion.targets:
        if target.name == name:
            return target
    raise CircuitError(f"{name}: no route moves it; add one first.")
