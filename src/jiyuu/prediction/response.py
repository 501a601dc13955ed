"""What the drawing of a filter predicts: curves of every mode, poles, and the findings read from them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.circuits.linear import (
    complex_gain,
    continuous_deg,
    gains_of,
    growth_of,
    growth_rate,
    level_db,
    poles,
    poles_of,
    state_space,
    zeros,
)
from jiyuu.circuits.many_units import exact_levels
from jiyuu.circuits.network import Network
from jiyuu.errors import MeasurementError
from jiyuu.measurement.curve_reading import CurveReading, read_curve
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.findings import READ_FROM_CURVE

GRID_HZ = np.geomspace(16.0, 21_000.0, 481)
READING_HZ = 10.0 * 2 ** (np.arange(192 * 11 + 1) / 192)


@dataclass(frozen=True, slots=True, eq=False)
class Predicted:
    """Over GRID_HZ: gain (r, n) and level (r, n) in dB of every mode; phase (n,) in degrees, local slope and group
    delay (n,) of the chosen one; the poles in units of the cutoff."""

    modes: tuple[str, ...]
    gain: ComplexArray
    level_db: FloatArray
    phase_deg: FloatArray
    slope_db_per_octave: FloatArray
    group_delay_ms: FloatArray
    poles: ComplexArray
    chosen: int
    oscillates: bool  # the rest state is unstable: the curves hold only for what is too small to notice


@dataclass(frozen=True, slots=True, eq=False)
class PoleMap:
    """poles (n,), zeros (z,), locus (steps, n) in units of the cutoff's angular rate; gains (steps,) of the locus."""

    poles: ComplexArray
    zeros: ComplexArray
    locus: ComplexArray
    gains: FloatArray
    cutoff_hz: float


def predicted(network: Network, mode: str, *, cutoff_hz: float, gain: float) -> Predicted:
    """Every mode's level, and what more is shown of the chosen one."""
    system = state_space(network, cutoff_hz=cutoff_hz, gain=gain)  # once: this is what a drag waits for
    gains = gains_of(system, GRID_HZ)
    level, chosen = level_db(gains), network.outputs.index(mode)
    phase = continuous_deg(system, chosen, GRID_HZ, gains[chosen])
    return Predicted(
        modes=network.outputs, gain=gains, level_db=level, phase_deg=phase,
        slope_db_per_octave=np.gradient(level[chosen], np.log2(GRID_HZ)),
        group_delay_ms=1e3 * -np.gradient(np.deg2rad(phase), 2 * np.pi * GRID_HZ),
        poles=poles_of(system) / (2 * np.pi * cutoff_hz), chosen=chosen,
        oscillates=growth_of(system, network.rates(cutoff_hz) > 0) >= 0,
    )


def pole_map(network: Network, mode: str, *, cutoff_hz: float, gain: float, full_gain: float) -> PoleMap:
    """Zeros of a mode and the path of the poles from no resonance to the end of the control."""
    unit = 2 * np.pi * cutoff_hz
    gains = np.linspace(0.0, full_gain, 120)
    turns = [poles(network, cutoff_hz=cutoff_hz, gain=float(k)) for k in gains]
    locus = np.asarray(np.stack(turns) / unit, dtype=np.complex128)
    here = poles(network, cutoff_hz=cutoff_hz, gain=gain) / unit
    return PoleMap(here, zeros(network, mode, cutoff_hz=cutoff_hz, gain=gain) / unit, locus, gains, cutoff_hz)


def read_prediction(
    network: Network, mode: str, *, cutoff_hz: float, gain: float
) -> tuple[Finding, ...]:
    """The findings of the drawing; none where the rest state is unstable and a curve would say nothing."""
    if growth_rate(network, cutoff_hz=cutoff_hz, gain=gain) >= 0:
        return ()
    gains = complex_gain(network, READING_HZ, cutoff_hz=cutoff_hz, gain=gain, modes=[mode])[0]
    try:
        exact = exact_levels(network, mode, cutoff_hz=cutoff_hz, gains=np.array([gain]))[0]
        return tuple(predicted_findings(read_curve(READING_HZ, level_db(gains), exact=exact), cutoff_hz))
    except MeasurementError:
        return ()


def predicted_findings(reading: CurveReading, cutoff_hz: float) -> list[Finding]:
    """The same findings as a measurement's, from the curve of the drawing."""
    found = [Finding("pole_hz", cutoff_hz, "Hz", measured=False)]
    edge = reading.cutoff_3db_hz is not None
    for name, unit in READ_FROM_CURVE:
        value = getattr(reading, name)
        if value is not None and not (edge and name in ("low_3db_hz", "high_3db_hz")):
            found.append(Finding(name, value, unit, measured=False))
    return found
