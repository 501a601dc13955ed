"""What may be left of mains hum that was taken out of a recording of sweeps, and hum found once more where the filter
still rang in the silences that told it.

Hum is known from silences, a tenth of the time, and so ten times less well than the noise around it lets a passage be
known: at its lines that counts for more than all the noise there. A filter that rings at their pitch looks like a line
itself, until it is known how it rings."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.alignment import Passages
from jiyuu.measurement.made_ready import Ready
from jiyuu.measurement.mains_hum import Hum, Quiet, hum_in
from jiyuu.measurement.network_fit import NetworkFit
from jiyuu.measurement.sent_through import Played
from jiyuu.measurement.smoothing import FineGrid

UNFELT = 0.3  # of a line's own doubt, by which a ring may move it


@dataclass(frozen=True, slots=True, eq=False)
class HumLeft:
    """power (m,): of gains at a grid's bins, mean square; ways (1 + h, n): gains at its points that are left by a pitch
    off by its standard uncertainty, and by each harmonic off by its own."""

    power: FloatArray
    ways: ComplexArray

    @classmethod
    def of(
        cls, hum: Hum, count: int, gated: Callable[[FloatArray], FloatArray], grid: FineGrid, wire: FloatArray,
        flat: ComplexArray,
    ) -> HumLeft:
        """gated: makes the mean impulse response of the passages out of a recording (count,); wire, flat: as of a
        sweep that was heard."""
        of_lines, of_pitch = (gated(one) for one in hum.unsure_v(count, grid.sample_rate_hz))
        own = grid.bins(wire)
        power = sum(np.abs(grid.bins(one) / own) ** 2 for one in (of_lines, of_pitch))
        lines, pitch = grid.sampled(of_lines) / flat, grid.sampled(of_pitch) / flat
        harmonic = np.array([line[0] for line in hum.lines])
        nearest = np.argmin(np.abs(grid.frequency_hz - hum.mains_hz * harmonic[:, np.newaxis]), axis=0)
        each = np.where(nearest == np.arange(harmonic.size)[:, np.newaxis], lines, 0.0)
        return cls(np.asarray(power), np.concatenate([pitch[np.newaxis], each]))

    def shares(self, draws: int, generator: np.random.Generator) -> ComplexArray:
        """(draws, 1 + h) of its ways, as it might as well be: a line may be off by any angle."""
        turned = generator.standard_normal((2, draws, self.ways.shape[0] - 1)) / np.sqrt(2)
        pitch = generator.standard_normal((draws, 1)).astype(complex)
        return np.concatenate([pitch, turned[0] + 1j * turned[1]], axis=1)


def less_rings(
    ready: Ready, network: NetworkFit, passages: Passages, place: int, sample_rate_hz: float
) -> Ready | None:
    """With its hum found where the network, heard from `place` on, does not ring, or less what it rings; None where
    that moves nothing."""
    if ready.hum is None:
        return None
    rings_v, count = np.zeros(ready.record_v.size), ready.record_v.size - max(place, 0)
    once_v = Played.of(passages.passage_v, sample_rate_hz, followed=count).behind(network)
    for i in range(passages.count):
        begin = place + i * passages.period
        if 0 <= begin < rings_v.size:
            rings_v[begin:] += once_v[: rings_v.size - begin]
    rung = Quiet.of(rings_v, ready.silences, sample_rate_hz)
    if rung is None or float(np.abs(rung.lines(ready.hum.mains_hz)[0]).max()) < UNFELT * ready.hum.doubt_v:
        return None
    heard_v = ready.record_v + ready.hum.wave_v(rings_v.size, sample_rate_hz)
    again = hum_in(heard_v - rings_v, ready.silences, sample_rate_hz, wholly=True)
    if again is None:
        return None
    less_v = heard_v - again.wave_v(rings_v.size, sample_rate_hz)
    if float(np.std(less_v - ready.record_v)) < UNFELT * again.doubt_v:
        return None
    return replace(ready, record_v=less_v, hum=again)
