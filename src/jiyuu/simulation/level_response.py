"""Response at level: the first harmonic's gain when a filter is driven by a sine of a given peak voltage.

Every frequency is settled by simulation, in batches of those that need a like number of steps a period.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.circuits.linear import growth_rate
from jiyuu.circuits.network import Network
from jiyuu.circuits.operating_point import operating_point
from jiyuu.errors import CircuitError
from jiyuu.simulation.periodic import Orbits, settled_periods, steps_of

FEWEST_STEPS = 128  # a period: also what the first harmonic is taken from
TOGETHER = 64  # frequencies at most


@dataclass(frozen=True, slots=True, eq=False)
class LevelResponse:
    """First-harmonic gain (r, n) in V/V at level_v peak; settled (n,) where it came to rest; batches: the orbits of
    places (k,) each, from which those of a filter that hardly differs may be looked for."""

    frequency_hz: FloatArray
    modes: tuple[str, ...]
    level_v: float
    gain: ComplexArray
    settled: np.ndarray
    batches: tuple[tuple[NDArray[np.intp], Orbits], ...] = field(repr=False, default=())


def level_response(
    network: Network, frequency_hz: FloatArray, *, cutoff_hz: float, gain: float, level_v: float, modes: Sequence[str],
    near: LevelResponse | None = None,
) -> LevelResponse:
    """All frequencies (n,) at once; see `level_response_steps`."""
    result: LevelResponse | None = None
    for step in level_response_steps(
        network, frequency_hz, cutoff_hz=cutoff_hz, gain=gain, level_v=level_v, modes=modes, near=near
    ):
        if isinstance(step, LevelResponse):
            result = step
    assert result is not None
    return result


def level_response_steps(
    network: Network, frequency_hz: FloatArray, *, cutoff_hz: float, gain: float, level_v: float, modes: Sequence[str],
    near: LevelResponse | None = None,
) -> Iterator[float | LevelResponse]:
    """Yields the share done after every batch, at last the response. near: that of a filter that hardly differs, at the
    same frequencies, from which this one is found several times sooner. Raises CircuitError for a level that is not
    above 0 V, or a gain at which the filter oscillates by itself: then what comes out is not of the drive alone."""
    if not (np.isfinite(level_v) and 0 < level_v <= 1000):
        raise CircuitError(f"a level of {level_v:g} V is out of range; give more than 0 and at most 1000 V.")
    if growth_rate(network, cutoff_hz=cutoff_hz, gain=gain) >= 0:
        raise CircuitError(
            f"at k = {gain:g} the filter oscillates by itself, so its response at a level is not defined; "
            "lower the resonance."
        )
    hz = np.asarray(frequency_hz, dtype=float)
    steps = steps_of(network, hz, cutoff_hz=cutoff_hz, gain=gain, fewest=FEWEST_STEPS)
    found = np.zeros((len(modes), hz.size), dtype=complex)
    settled = np.zeros(hz.size, dtype=bool)
    rest = operating_point(network, gain=gain).state_v
    batches: list[tuple[NDArray[np.intp], Orbits]] = []
    known = near.batches if near is not None else ()
    for count in np.unique(steps):
        members = np.flatnonzero(steps == count)
        for start in range(0, members.size, TOGETHER):
            batch = members[start : start + TOGETHER]
            alike = next((orbits for which, orbits in known if np.array_equal(which, batch)), None)
            orbits = settled_periods(
                network, hz[batch], int(count), cutoff_hz=cutoff_hz, gain=gain, level_v=np.full(batch.size, level_v),
                modes=modes, rest=rest, near=alike,
            )
            batches.append((batch, orbits))
            settled[batch] = orbits.settled
            analyser = 2j * np.exp(-2j * np.pi * np.arange(count) / count) / (level_v * count)
            found[:, batch] = np.einsum("rtb,t->rb", orbits.outputs_v, analyser)
            yield sum(which.size for which, _ in batches) / hz.size
    yield LevelResponse(hz, tuple(modes), level_v, found, settled, tuple(batches))
