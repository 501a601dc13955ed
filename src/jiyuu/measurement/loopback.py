"""An interface recorded alone, divided out of what was recorded through it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jiyuu.errors import MeasurementError
from jiyuu.measurement.bin_groups import Spectrum
from jiyuu.measurement.estimate import FittedNetwork, network_of
from jiyuu.measurement.response import MeasuredResponse
from jiyuu.measurement.uncertain import Uncertain

SHARED_BY = 9.0


def less_interface(unit: MeasuredResponse, alone: MeasuredResponse) -> MeasuredResponse:
    """Both by the same stimulus; the uncertainties of both remain, latency is what the unit adds. Raises
    MeasurementError where their bands differ."""
    if unit.frequency_hz.size != alone.frequency_hz.size or not np.allclose(unit.frequency_hz, alone.frequency_hz):
        raise MeasurementError("The loopback was recorded with another stimulus; play the same one through both.")
    wire = np.where(np.abs(alone.gain) > 0, alone.gain, 1e-12)
    share = np.hypot(unit.deviation / np.maximum(np.abs(unit.gain), 1e-20), alone.deviation / np.abs(wire))
    gain = unit.gain / wire
    other = np.roll(alone.draws, 1, axis=0)  # their noise is not the unit's
    latency = Uncertain(unit.latency_s.value - alone.latency_s.value,
                        float(np.hypot(unit.latency_s.uncertainty, alone.latency_s.uncertainty)))
    signs = (unit.polarity, alone.polarity)
    return replace(
        unit, gain=gain, deviation=np.asarray(share * np.abs(gain)), draws=unit.draws / other, latency_s=latency,
        polarity=None if None in signs else 1 if signs[0] == signs[1] else -1, network=_divided(unit, alone),
        unloaded=None, nearest=None,
        delay_doubt_s=float(np.hypot(unit.delay_doubt_s, alone.delay_doubt_s)),
        notices=(*unit.notices, *(one for one in alone.notices if one not in unit.notices)),
        compression=None, steady=False,
    )


def _divided(unit: MeasuredResponse, alone: MeasuredResponse) -> FittedNetwork | None:
    """The network of the quotient, fitted to it as to any curve."""
    hertz = unit.frequency_hz
    wire = np.where(np.abs(alone.gain) > 0, alone.gain, 1e-12)
    gain = unit.gain / wire
    share = np.hypot(unit.deviation / np.maximum(np.abs(unit.gain), 1e-20), alone.deviation / np.abs(wire))
    # Neighbouring points of a smoothed curve share their noise: each tells less than one alone would.
    variance = (share * np.abs(gain)) ** 2 * SHARED_BY
    fit = network_of(Spectrum(hertz, gain, np.ones(hertz.size), variance))
    return None if fit is None else FittedNetwork(fit, fit.drawn(unit.draws.shape[0], np.random.default_rng(25)))

