"""How loud a source comes out of a filter at many positions of its resonance, by simulation: saturation and whistle
included."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.network import Network
from jiyuu.simulation.render import oversampling_for, render


@dataclass(frozen=True, slots=True)
class SourceLevel:
    """At one loop gain: the highest volts and the RMS over the second half of the record."""

    gain: float
    peak_v: float
    rms_v: float


def source_levels(
    network: Network, source_v: FloatArray, sample_rate_hz: float, mode: str, *, cutoff_hz: float, gains: FloatArray,
    rail_v: float | None = None,
) -> Iterator[SourceLevel]:
    """One SourceLevel for every gain (m,), from source_v (n,) volts; clipped at ±rail_v where there is one.

    Four steps a sample are enough for a level: at cutoffs of 5 kHz and more, eight."""
    for gain in gains:
        output = render(
            network, source_v, sample_rate_hz=sample_rate_hz, cutoff_hz=cutoff_hz, gain=float(gain), modes=[mode],
            oversampling=oversampling_for(cutoff_hz),
        ).output_v[0]
        if rail_v is not None:
            output = np.clip(output, -rail_v, rail_v)
        settled = output[output.size // 2 :]
        yield SourceLevel(float(gain), float(np.abs(settled).max()), float(np.sqrt(np.mean(settled**2))))
