"""A record through a network, at large signal: volts in, volts out, at the record's own rate.

The integrator runs `oversampling` times faster. When that is left open it is found by doing the work twice, at a rate
and at its double, until the two agree below the band limit by more than the quality asked for: the finer one is
returned, and since the scheme is of fourth order its own error is about 24 dB less than the difference seen.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.fft import irfft, rfft, rfftfreq

from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ, CUTOFF_MINIMUM_HZ, checked_cutoff, checked_gain
from jiyuu.circuits.network import FloatArray, Network
from jiyuu.errors import SignalError
from jiyuu.simulation.kernels import integrate
from jiyuu.simulation.resampling import DECIMATION_HALF_LENGTH, decimated, interpolated

SEGMENT = 16_384  # samples at a time, so that a long record needs little memory
HIGHEST_OVERSAMPLING = 128
AGREEMENT_DB = -96.0
BAND_LIMIT_HZ = 18_000.0


@dataclass(frozen=True, slots=True, eq=False)
class Rendered:
    """output_v (r, n) volts; the oversampling used; how far the coarser trial differed, in dB re the output (None
    when the oversampling was given)."""

    output_v: FloatArray
    oversampling: int
    difference_db: float | None


def render(
    network: Network,
    input_v: FloatArray,
    *,
    sample_rate_hz: float,
    cutoff_hz: float,
    gain: float,
    modes: Sequence[str],
    cutoff_cv_v: FloatArray | None = None,
    gain_cv: FloatArray | None = None,
    oversampling: int | None = None,
    start_v: FloatArray | None = None,
) -> Rendered:
    """Run the network on input_v (n,) volts, from rest or from start_v (one voltage a capacitor).

    cutoff_cv_v (any length) adds volts at 1 V/octave to the cutoff, gain_cv adds to the loop gain; a shorter one
    holds its last value. The cutoff in force stays inside the circuits' stated range and the gain at 0 or above.
    Raises SignalError for records that are not finite, CircuitError for settings out of range."""
    checked_cutoff(cutoff_hz)
    checked_gain(gain)
    for name, record in (("input", input_v), ("cutoff CV", cutoff_cv_v), ("resonance CV", gain_cv)):
        if record is not None and not np.isfinite(record).all():
            raise SignalError(f"The {name} holds values that are not finite; render it again without them.")
    job = _Job(network, input_v, sample_rate_hz, cutoff_hz, gain, cutoff_cv_v, gain_cv, tuple(modes), start_v)
    if oversampling is not None:
        return Rendered(_run(job, oversampling), oversampling, None)
    factor = _first_guess(job)
    coarse = _run(job, factor)
    while True:
        fine = _run(job, 2 * factor)
        difference_db = _difference_db(coarse, fine, sample_rate_hz)
        if difference_db <= AGREEMENT_DB or 2 * factor >= HIGHEST_OVERSAMPLING:
            return Rendered(fine, 2 * factor, difference_db)
        factor, coarse = 2 * factor, fine


@dataclass(frozen=True, slots=True, eq=False)
class _Job:
    network: Network
    input_v: FloatArray
    sample_rate_hz: float
    cutoff_hz: float
    gain: float
    cutoff_cv_v: FloatArray | None
    gain_cv: FloatArray | None
    modes: tuple[str, ...]
    start_v: FloatArray | None


def _first_guess(job: _Job) -> int:
    """Half a radian of the fastest stage a step, and at least four times 48 kHz."""
    octaves = 0.0 if job.cutoff_cv_v is None or job.cutoff_cv_v.size == 0 else float(job.cutoff_cv_v.max())
    fastest_hz = min(job.cutoff_hz * 2 ** min(octaves, 20.0), CUTOFF_MAXIMUM_HZ)
    fastest_hz *= max(1.0, float(job.network.rate_ratio.max(initial=1.0)))
    needed = max(4 * 48_000.0, 2 * np.pi * fastest_hz / 0.5) / job.sample_rate_hz
    return int(min(max(2, 2 ** np.ceil(np.log2(needed) - 1e-9)), HIGHEST_OVERSAMPLING // 2))


def _run(job: _Job, factor: int) -> FloatArray:
    rows = [job.network.output_index(mode) for mode in job.modes]
    total, half = job.input_v.size, DECIMATION_HALF_LENGTH
    output = np.empty((len(rows), total))
    # Decimation looks `half` samples to both sides: before the record the filter is at rest, after it the input is 0.
    window = np.zeros((len(rows), 2 * half * factor))
    states = None if job.start_v is None else job.start_v[np.newaxis, :]
    done, position = 0, 0
    while done < total:
        stop = min(position + SEGMENT, total + half)
        fine, states = integrate(
            [job.network],
            u_v=interpolated(job.input_v, 2 * factor, position, stop)[:, np.newaxis],
            omega=_omega(job, factor, position, stop)[:, np.newaxis],
            gain=_gain(job, factor, position, stop)[:, np.newaxis],
            half_step_s=0.5 / (job.sample_rate_hz * factor),
            rows=rows,
            states=states,
        )
        window = np.concatenate([window, fine[:, :, 0]], axis=1)
        lead = half if position == 0 else 0  # the first half window of output lies before the record
        ready = decimated(window, factor)[:, lead:]
        count = min(ready.shape[1], total - done)
        output[:, done : done + count] = ready[:, :count]
        done += count
        window = window[:, -2 * half * factor :]
        position = stop
    return output


def _omega(job: _Job, factor: int, start: int, stop: int) -> FloatArray:
    if job.cutoff_cv_v is None or job.cutoff_cv_v.size == 0:
        return np.array([2 * np.pi * job.cutoff_hz])
    volts = interpolated(job.cutoff_cv_v, 2 * factor, start, stop, hold_end=True)
    low, high = np.log2(CUTOFF_MINIMUM_HZ / job.cutoff_hz), np.log2(CUTOFF_MAXIMUM_HZ / job.cutoff_hz)
    return np.asarray(2 * np.pi * job.cutoff_hz * np.exp2(np.clip(volts, low, high)))


def _gain(job: _Job, factor: int, start: int, stop: int) -> FloatArray:
    if job.gain_cv is None or job.gain_cv.size == 0:
        return np.array([job.gain])
    added = interpolated(job.gain_cv, 2 * factor, start, stop, hold_end=True)
    return np.clip(job.gain + added, 0.0, 1000.0)


def _difference_db(coarse: FloatArray, fine: FloatArray, sample_rate_hz: float) -> float:
    """RMS of the difference re RMS of the output, both below the band limit, worst mode, in dB."""
    kept = rfftfreq(fine.shape[1], 1 / sample_rate_hz) <= min(BAND_LIMIT_HZ, 0.45 * sample_rate_hz)

    def rms(signal: FloatArray) -> FloatArray:
        filtered = irfft(rfft(signal, axis=1) * kept, fine.shape[1], axis=1)
        return np.asarray(np.sqrt(np.mean(filtered**2, axis=1)))

    output, difference = rms(fine), rms(fine - coarse)
    ratio = np.where(output > 0, difference / np.maximum(output, 1e-300), 0.0)
    return float(20 * np.log10(max(ratio.max(), 1e-20)))
