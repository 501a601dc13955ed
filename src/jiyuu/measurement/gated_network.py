"""What the band of a sweep and the gate leave of a network, as a noiseless recording of it would show.

A wire measured in the same way divides out most of what they do, and `NetworkFit.as_cut` has the rings that the gate
ends; but a sweep's own lowest octave reaches beyond the gate as well, by as much of the filter's time as of the wire's:
parts in 10⁵ at its beginning. What is known so nearly can be sent through everything instead.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.alignment import Passages, impulse_response
from jiyuu.measurement.bin_groups import Cut
from jiyuu.measurement.network_fit import NetworkFit
from jiyuu.measurement.sent_through import Played
from jiyuu.measurement.smoothing import FineGrid


@dataclass(frozen=True, slots=True, eq=False)
class Missed:
    """Gains that `as_cut` leaves out: at the grid's bins (m,), and at its points (n,)."""

    at_bins: ComplexArray
    at_points: ComplexArray


def missed_of(
    network: NetworkFit, passages: Passages, grid: FineGrid, cut: Cut, wire: FloatArray, flat: ComplexArray
) -> Missed:
    """wire: impulse response of nothing behind the same gate; flat (n,): its gain at the grid's points."""
    impulse = _heard(network, passages, grid)
    once = replace(cut, count=1)
    return Missed(grid.bins(impulse) / grid.bins(wire) - network.as_cut(grid.bins_hz, once),
                  grid.sampled(impulse) / flat - grid.seen(network, once))


def _heard(network: NetworkFit, passages: Passages, grid: FineGrid) -> FloatArray:
    """The gated impulse response of one passage through the network, found as from a recording."""
    gate, length = grid.gate, passages.passage_v.size
    count = gate.before + (passages.period or length + gate.after)
    ahead = np.concatenate([np.zeros(gate.before), passages.passage_v])
    record = Played.of(ahead, grid.sample_rate_hz, followed=count).behind(network)[:count]
    return np.asarray(impulse_response(record, passages)[: gate.before + gate.after] * gate.window)
