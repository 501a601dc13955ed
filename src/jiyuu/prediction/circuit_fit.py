"""A circuit's own response fitted to a measured curve: the pole frequency, loop gain and level that explain it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from jiyuu.arrays import FloatArray
from jiyuu.circuits.linear import complex_gain, onset
from jiyuu.circuits.network import Network
from jiyuu.measurement.response import MeasuredResponse
from jiyuu.measurement.uncertain import COVERAGE, Uncertain

NOTCH_DB = 12.0
BESIDE_OCTAVES = (-0.003, 0.0, 0.003)  # about a notch's lowest point
MOST_MISFIT_DB = 1.0


@dataclass(frozen=True, slots=True)
class CircuitFit:
    """Pole frequency (Hz), loop gain and level (dB) of the circuit; misfit_db: RMS of what it leaves unexplained."""

    pole_hz: Uncertain
    gain: Uncertain
    level_db: Uncertain
    misfit_db: float


def fit_circuit(
    response: MeasuredResponse, network: Network, mode: str, *, cutoff_hz: float, gain: float
) -> CircuitFit | None:
    """Fit from the settings given; None when the curve has too little above the noise or the fit does not hold."""
    step = 6
    usable = np.flatnonzero((response.snr_db > 15) & (response.level_db > response.level_db.max() - 60))[::step]
    if usable.size < 20:
        return None
    f = response.frequency_hz[usable]
    measured = response.level_db[usable]
    weight = 1 / np.maximum(response.level_uncertainty_db[usable] / COVERAGE, 0.01)
    limit = onset(network, cutoff_hz=cutoff_hz)
    highest = 0.9999 * limit.gain if limit else 100.0

    def residual(x: FloatArray) -> FloatArray:
        predicted = complex_gain(network, f, cutoff_hz=float(np.exp(x[0])), gain=float(x[1]), modes=[mode])[0]
        return np.asarray((20 * np.log10(np.maximum(np.abs(predicted), 1e-20)) + x[2] - measured) * weight)

    def fitted_from(octaves: float) -> scipy.optimize.OptimizeResult:
        start = np.array([np.log(cutoff_hz) + octaves * np.log(2), min(max(gain, 0.0), 0.95 * highest), 0.0])
        start[2] = float(np.median(-residual(start) / weight))
        return scipy.optimize.least_squares(
            residual, start, x_scale=[0.1, 0.1, 1.0],
            bounds=([np.log(cutoff_hz) - 3, -0.2, -80.0], [np.log(cutoff_hz) + 3, highest, 80.0]),
        )

    # A notch is too narrow to be felt from beside it: from one start alone the knob would be read back.
    found = [fitted_from(0.0)]
    inside = slice(int(usable[0]), int(usable[-1]) + 1)
    level, hertz = response.level_db[inside], response.frequency_hz[inside]
    lowest = int(np.argmin(level))
    deep = min(level[:lowest].max(initial=-np.inf), level[lowest:].max()) - level[lowest]
    if deep > NOTCH_DB and abs(np.log2(hertz[lowest] / cutoff_hz)) < 3:
        found += [fitted_from(float(np.log2(hertz[lowest] / cutoff_hz)) + beside) for beside in BESIDE_OCTAVES]
    result = min(found, key=lambda one: float(one.cost))
    misfit = residual(result.x)
    misfit_db = float(np.sqrt(np.mean((misfit / weight) ** 2)))
    if misfit_db > MOST_MISFIT_DB:
        return None
    # What the circuit cannot explain is smooth, so it counts in full and not as so many independent points.
    scale = max(float(misfit @ misfit) / max(misfit.size - 3, 1), 1.0)
    try:
        jacobian = np.asarray(result.jac)
        covariance = np.linalg.inv(jacobian.T @ jacobian) * scale
    except np.linalg.LinAlgError:
        return None
    deviation = COVERAGE * np.sqrt(np.maximum(np.diag(covariance), 0.0))
    pole = float(np.exp(result.x[0]))
    return CircuitFit(
        Uncertain(pole, pole * float(deviation[0])),
        Uncertain(float(result.x[1]), float(deviation[1])),
        Uncertain(float(result.x[2]), float(deviation[2])),
        misfit_db,
    )
