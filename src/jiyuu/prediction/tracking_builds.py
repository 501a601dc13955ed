"""What builds of a drawing do over control volts before anything is turned."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.network import Network
from jiyuu.circuits.unit import draw_numbers
from jiyuu.quantities import volts_of
from jiyuu.stopping import checkpoint

BUILDS, LIKELY, POINTS = 200, (2.5, 97.5), 41


@dataclass(frozen=True, slots=True, eq=False)
class Builds:
    """What 95 % of builds of the drawing do, in cents over volts (n,), before anything is turned."""

    volts: FloatArray
    low_cents: FloatArray
    high_cents: FloatArray


def converter_builds(
    document: Filter, network: Network, *, start_hz: float, volts: tuple[float, ...], reference_v: float | None
) -> Builds:
    """Converters of many builds over a range of volts, against exact 1 V/octave through reference_v (the first volts
    where None)."""
    grid = np.linspace(min(volts), max(volts), POINTS)
    reference = volts[0] if reference_v is None else reference_v
    cents = np.empty((BUILDS, grid.size))
    for seed in range(BUILDS):
        checkpoint()
        converter = draw_numbers(document.tolerances, network, seed).converter
        octaves = converter.octaves(np.append(grid, reference) + volts_of(start_hz))
        cents[seed] = 1200 * (octaves[:-1] - octaves[-1] - (grid - reference))
    low, high = np.percentile(cents, LIKELY, axis=0)
    return Builds(grid, low, high)
