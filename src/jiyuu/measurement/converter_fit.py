"""What bends a tracking curve: scale error, bulk resistance and leakage told apart by least squares.

A tone of frequency f is I + l for a converter whose current is worth I hertz and whose leakage l hertz:

    ln(f − l) + c·(f − l) = a + ln2·(1 + ε)·V

c, in 1/Hz, is the bulk resistance less the high-frequency trim. The left side is exact, so no inverse is needed; it is
linear in a, ε and c, and l is found by Gauss–Newton.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.measurement.tracking import STEP_FLOOR_CENTS, Readings
from jiyuu.measurement.uncertain import COVERAGE, Uncertain

LN2 = float(np.log(2))
TOP_HZ, BOTTOM_HZ = 10_000.0, 20.0  # where droop and leakage are stated
FOR_DROOP, FOR_LEAK = 4, 5  # readings from which on they can be told apart


@dataclass(frozen=True, slots=True, eq=False)
class ConverterFit:
    """scale_error: ε, as a share. droop_cents: flat at 10 kHz (negative: the trim adds too much); leak_cents: sharp at
    20 Hz; None where the steps are too few to tell. left_cents (m,): what the model does not explain.

    pitch_ratio: hertz of tone per hertz of the converter, which is what droop and leakage are stated in."""

    scale_error: Uncertain
    droop_cents: Uncertain | None
    leak_cents: Uncertain | None
    left_cents: FloatArray
    start: float
    droop_per_hz: float
    leak_hz: float

    def cents(self, volts: FloatArray, *, scale_error: float | None = None, droop_per_hz: float | None = None,
              moved_cents: float = 0.0) -> FloatArray:
        """Pitch in cents re 1 Hz at volts (m,), with what a trim would change put in its place."""
        scale = self.scale_error.value if scale_error is None else scale_error
        droop = self.droop_per_hz if droop_per_hz is None else droop_per_hz
        ideal = self.start + moved_cents * LN2 / 1200 + LN2 * (1 + scale) * np.asarray(volts, dtype=float)
        current = _current(ideal, droop)
        return np.asarray(1200 / LN2 * np.log(np.maximum(current + self.leak_hz, 1e-6)))


def fit_converter(readings: Readings, *, pitch_ratio: float = 1.0) -> ConverterFit:
    """The model fitted to a table of at least two steps; droop with four, leakage with five or more of them."""
    volts, hertz = readings.volts, readings.frequency_hz
    deviation = np.hypot(readings.uncertainty_cents / COVERAGE, STEP_FLOOR_CENTS) * LN2 / 1200
    different = np.unique(volts).size
    with_droop, with_leak = different >= FOR_DROOP, different >= FOR_LEAK
    droop = leak = 0.0
    columns = [np.ones(volts.size), LN2 * volts]
    covariance = np.zeros((2, 2))
    left = np.zeros(volts.size)
    for _ in range(12):
        current = np.maximum(hertz - leak, 1e-3 * hertz)
        # ln f is what was read: weigh every line by what its left side makes of a cent.
        weight = 1 / (deviation * hertz * (1 / current + droop))
        used = [*columns, *([-current] if with_droop else []), *([1 / current + droop] if with_leak else [])]
        basis = np.stack(used, axis=1) * weight[:, None]
        scale = np.linalg.norm(basis, axis=0)
        wanted = np.log(current) * weight
        found, *_ = np.linalg.lstsq(basis / scale, wanted, rcond=1e-13)
        # A leakage that is wrong by δ moves the left side by −(1/I + c)·δ.
        values = found / scale
        left = (wanted - basis @ values) * deviation  # back in ln f
        covariance = np.linalg.pinv((basis / scale).T @ (basis / scale)) / np.outer(scale, scale)
        droop = float(values[2]) if with_droop else 0.0
        step = -float(values[-1]) if with_leak else 0.0
        leak = float(np.clip(leak - step, -0.3 * hertz.min(), 0.5 * hertz.min()))
        if abs(step) < 1e-10 * hertz.min():
            break
    freedom = max(volts.size - len(used), 1)
    excess = max(1.0, float(np.sum((left / deviation) ** 2)) / freedom)
    doubts = COVERAGE * np.sqrt(np.maximum(np.diag(covariance), 0.0) * excess)
    per_top = 1200 / LN2 * TOP_HZ * pitch_ratio
    per_bottom = 1200 / LN2 / (BOTTOM_HZ * pitch_ratio)
    return ConverterFit(
        Uncertain(float(values[1]) - 1, float(doubts[1])),
        Uncertain(droop * per_top, float(doubts[2]) * per_top) if with_droop else None,
        Uncertain(float(1200 * np.log2(max(1 + leak / (BOTTOM_HZ * pitch_ratio), 1e-6))),
                  float(doubts[-1]) * per_bottom) if with_leak else None,
        np.asarray(1200 / LN2 * left), float(values[0]), droop, leak,
    )


def _current(ideal: FloatArray, droop_per_hz: float) -> FloatArray:
    """I with ln I + c·I = ideal, by Newton on ln I; for c < 0 past where it runs away, the place where it does."""
    log_i = np.minimum(ideal, np.log(1 / abs(droop_per_hz)) if droop_per_hz < 0 else np.inf).astype(float)
    for _ in range(60):
        bent = droop_per_hz * np.exp(np.minimum(log_i, 30.0))
        change = (ideal - log_i - bent) / np.maximum(1 + bent, 1e-3)
        log_i = log_i + np.clip(change, -1.0, 1.0)
        if np.abs(change).max() < 1e-13:
            break
    return np.exp(np.minimum(log_i, 30.0))
