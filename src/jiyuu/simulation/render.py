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

from jiyuu.arrays import FloatArray
from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ, CUTOFF_MINIMUM_HZ, checked_cutoff, checked_gain
from jiyuu.circuits.network import Network
from jiyuu.errors import SignalError
from jiyuu.signals.resampling import DECIMATION_HALF_LENGTH, decimated, interpolated
from jiyuu.simulation.kernels import integrate

SEGMENT = 16_384  # samples at a time, so that a long record needs little memory
HIGHEST_OVERSAMPLING = 128
AGREEMENT_DB = -96.0
BAND_LIMIT_HZ = 18_000.0


def oversampling_for(highest_hz: float) -> int:
    """For what is small and smooth, a sweep or a whistle: four steps a sample keep the error under −90 dB up to a few
    kilohertz of cutoff."""
    return 4 if highest_hz < 5000 else 8


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
    start = None if start_v is None else start_v[np.newaxis, :]
    job = _Job(network, input_v, sample_rate_hz, np.array([cutoff_hz]), np.array([gain]), cutoff_cv_v, gain_cv,
               tuple(modes), start)
    if oversampling is not None:
        return Rendered(_run(job, oversampling)[0], oversampling, None)
    factor = _first_guess(job)
    coarse = _run(job, factor)[0]
    while True:
        fine = _run(job, 2 * factor)[0]
        difference_db = _difference_db(coarse, fine, sample_rate_hz)
        if difference_db <= AGREEMENT_DB or 2 * factor >= HIGHEST_OVERSAMPLING:
            return Rendered(fine, 2 * factor, difference_db)
        factor, coarse = 2 * factor, fine


def render_each(
    network: Network, input_v: FloatArray, *, sample_rate_hz: float, cutoff_hz: FloatArray, gain: FloatArray,
    modes: Sequence[str], oversampling: int, start_v: FloatArray | None = None,
) -> FloatArray:
    """(p, r, n) volts: input_v (n,) through the network at p settings side by side, far quicker than one after
    another; cutoff_hz and gain (p,), start_v (p, capacitors) or None for rest. Raises as render does."""
    for hertz, amount in zip(cutoff_hz, gain, strict=True):
        checked_cutoff(float(hertz))
        checked_gain(float(amount))
    if not np.isfinite(input_v).all():
        raise SignalError("The input holds values that are not finite; render it again without them.")
    return _run(_Job(network, input_v, sample_rate_hz, cutoff_hz, gain, None, None, tuple(modes), start_v),
                oversampling)


@dataclass(frozen=True, slots=True, eq=False)
class _Job:
    """cutoff_hz and gain (p,), start_v (p, capacitors) or None: one row a setting; signals are shared."""

    network: Network
    input_v: FloatArray
    sample_rate_hz: float
    cutoff_hz: FloatArray
    gain: FloatArray
    cutoff_cv_v: FloatArray | None
    gain_cv: FloatArray | None
    modes: tuple[str, ...]
    start_v: FloatArray | None


def _first_guess(job: _Job) -> int:
    """Half a radian of the fastest stage a step, and at least four times 48 kHz."""
    octaves = 0.0 if job.cutoff_cv_v is None or job.cutoff_cv_v.size == 0 else float(job.cutoff_cv_v.max())
    fastest_hz = min(float(job.cutoff_hz.max()) * 2 ** min(octaves, 20.0), CUTOFF_MAXIMUM_HZ)
    fastest_hz *= max(1.0, float(job.network.rate_ratio.max(initial=1.0)))
    needed = max(4 * 48_000.0, 2 * np.pi * fastest_hz / 0.5) / job.sample_rate_hz
    return int(min(max(2, 2 ** np.ceil(np.log2(needed) - 1e-9)), HIGHEST_OVERSAMPLING // 2))


def _run(job: _Job, factor: int) -> FloatArray:
    """(p, r, n) outputs."""
    rows = [job.network.output_index(mode) for mode in job.modes]
    total, half, count_of_settings = job.input_v.size, DECIMATION_HALF_LENGTH, job.cutoff_hz.size
    channels = count_of_settings * len(rows)
    output = np.empty((channels, total))
    # Decimation looks `half` samples to both sides: before the record the filter is at rest, after it the input is 0.
    window = np.zeros((channels, 2 * half * factor))
    states = job.start_v
    done, position = 0, 0
    while done < total:
        stop = min(position + SEGMENT, total + half)
        fine, states = integrate(
            [job.network] * count_of_settings,
            u_v=interpolated(job.input_v, 2 * factor, position, stop)[:, np.newaxis],
            omega=_omega(job, factor, position, stop),
            gain=_gain(job, factor, position, stop),
            half_step_s=0.5 / (job.sample_rate_hz * factor),
            rows=rows,
            states=states,
        )
        window = np.concatenate([window, fine.transpose(2, 0, 1).reshape(channels, -1)], axis=1)
        lead = half if position == 0 else 0  # the first half window of output lies before the record
        ready = decimated(window, factor)[:, lead:]
        count = min(ready.shape[1], total - done)
        output[:, done : done + count] = ready[:, :count]
        done += count
        window = window[:, -2 * half * factor :]
        position = stop
    return output.reshape(count_of_settings, len(rows), total)


def _omega(job: _Job, factor: int, start: int, stop: int) -> FloatArray:
    """(half steps or 1, p) rad/s."""
    if job.cutoff_cv_v is None or job.cutoff_cv_v.size == 0:
        return np.asarray(2 * np.pi * job.cutoff_hz[np.newaxis, :])
    volts = interpolated(job.cutoff_cv_v, 2 * factor, start, stop, hold_end=True)[:, np.newaxis]
    low, high = np.log2(CUTOFF_MINIMUM_HZ / job.cutoff_hz), np.log2(CUTOFF_MAXIMUM_HZ / job.cutoff_hz)
    return np.asarray(2 * np.pi * job.cutoff_hz * np.exp2(np.clip(volts, low, high)))


def _gain(job: _Job, factor: int, start: int, stop: int) -> FloatArray:
    if job.gain_cv is None or job.gain_cv.size == 0:
        return job.gain[np.newaxis, :]
    added = interpolated(job.gain_cv, 2 * factor, start, stop, hold_end=True)[:, np.newaxis]
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
