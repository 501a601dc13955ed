"""A build of a drawing: the numbers that make one unit differ from it, drawn from its tolerances by a seed."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ, CUTOFF_MINIMUM_HZ
from jiyuu.circuits.control import Converter
from jiyuu.circuits.filter_file import Filter, Tolerances
from jiyuu.circuits.network import Network
from jiyuu.circuits.trims import RANGES, Trim, Trims
from jiyuu.quantities import C4_HZ, volts_of

TRIM_SPREAD = 0.03  # resistors set what a turn is worth
TOP_HZ, BOTTOM_HZ = 10_000.0, 20.0  # where droop_cents and leak_cents of a filter's tolerances hold


@dataclass(frozen=True, slots=True)
class Unit:
    """What a simulated unit really is: its network, its numbers, its noise (RMS), its rails. The measuring code never
    sees it."""

    network: Network
    drawn: Drawn
    noise_v: float
    rail_v: float
    feedthrough: float  # volts at the output for a volt of control step

@dataclass(frozen=True, slots=True, eq=False)
class Drawn:
    """The numbers that make one build differ from its drawing: faster rates (n,), offsets (m,) in V, and the trims."""

    faster: FloatArray
    offsets_v: FloatArray
    gain_factor: float
    cutoff_offset_octaves: float
    converter: Converter
    level: float
    trim_factors: tuple[float, ...] = (1.0, 1.0, 1.0, 1.0)  # what a turn of each is worth, re the drawing
    temperature_cents_per_c: float = 0.0
    drift_cents_per_min: float = 0.0

    def at(self, trims: Trims, temperature_c: float) -> Drawn:
        """The build with its trims turned, at a temperature."""
        scale, offset, high, resonance = (
            trims[trim] * RANGES[trim].per_turn * factor
            for trim, factor in zip(Trim, self.trim_factors, strict=True)
        )
        warmer = self.temperature_cents_per_c * (temperature_c - 25.0)
        converter = replace(self.converter, scale_error=self.converter.scale_error + scale / 100,
                            hf_trim=self.converter.hf_trim + _per_reference(high))
        return replace(
            self, converter=converter, gain_factor=self.gain_factor * (1 + resonance / 100),
            cutoff_offset_octaves=self.cutoff_offset_octaves + (offset + warmer) / 1200,
        )

    def cutoff_hz(self, asked_hz: float) -> float:
        """The pole frequency that a cutoff control set to asked_hz gives."""
        octaves = float(self.converter.octaves(volts_of(asked_hz))) + self.cutoff_offset_octaves
        return float(np.clip(C4_HZ * 2**octaves, CUTOFF_MINIMUM_HZ, CUTOFF_MAXIMUM_HZ))


def _per_reference(cents: float) -> float:
    """Cents at 10 kHz as a converter's droop or trim, which are stated at its reference current."""
    return float(cents * np.log(2) / 1200 * C4_HZ / TOP_HZ)


def draw_numbers(allowed: Tolerances, network: Network, seed: int) -> Drawn:
    """A build's numbers from its tolerances; the same seed gives the same build."""
    generator = np.random.default_rng([seed, 7])
    mismatch = generator.normal(0, allowed.capacitor_percent / 100, len(network.capacitors))
    offsets = generator.normal(0, allowed.offset_mv / 1000, len(network.branches))
    # In the order in which the numbers joined, so that a seed goes on meaning the same build.
    travel = 1 + generator.normal(0, allowed.onset_travel_percent / 100)
    offset_octaves = generator.normal(0, allowed.cutoff_offset_cents / 1200)
    scale_error = generator.normal(0, allowed.cutoff_scale_percent / 100)
    level = 10 ** (generator.normal(0, allowed.gain_db) / 20) * (-1 if allowed.inverts else 1)
    flat_cents, sharp_cents = np.abs(generator.normal(0, (allowed.droop_cents, allowed.leak_cents)))
    factors = np.clip(1 + generator.normal(0, TRIM_SPREAD, len(Trim)), 0.5, 1.5)
    warm, drift = generator.normal(0, (allowed.temperature_cents_per_c, allowed.drift_cents_per_min))
    return Drawn(
        faster=np.clip(1 + mismatch, 0.3, 2.0),
        offsets_v=offsets,
        gain_factor=float(np.clip(travel, 0.6, 1.5)),
        cutoff_offset_octaves=float(offset_octaves),
        converter=Converter(
            scale_error=float(scale_error),
            droop=_per_reference(float(flat_cents)),
            leak=float((2 ** (sharp_cents / 1200) - 1) * BOTTOM_HZ / C4_HZ),
        ),
        level=float(level), trim_factors=tuple(float(f) for f in factors), temperature_cents_per_c=float(warm),
        drift_cents_per_min=float(drift),
    )


def draw_unit(document: Filter, seed: int) -> Unit:
    """A build of the filter: capacitors, offsets, converter and trims drawn from its tolerances."""
    allowed, network = document.tolerances, document.network()
    drawn = draw_numbers(allowed, network, seed)
    branches = tuple(
        replace(branch, offset_v=branch.offset_v + float(offset))
        for branch, offset in zip(network.branches, drawn.offsets_v, strict=True)
    )
    return Unit(
        network=replace(network, branches=branches, rate_ratio=network.rate_ratio * drawn.faster), drawn=drawn,
        noise_v=allowed.noise_uv * 1e-6, rail_v=allowed.rail_v,
        feedthrough=allowed.feedthrough_mv / 1000,
    )
