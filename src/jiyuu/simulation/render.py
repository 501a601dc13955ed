"""A record through a network, at large signal: volts in, volts out, at the record's own rate.

The integrator runs `oversampling` times faster. When that is left open it is found by doing the work twice, at a rate
and at its double, until the two agree below the band limit by more than the quality asked for: the finer one is
returned, and since the scheme is of fourth order its own error is about 24 dB less than the difference seen.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from scipy.fft import irfft, rfft, rfftfreq

from jiyuu.arrays import FloatArray
from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ, checked_cutoff, checked_gain
from jiyuu.circuits.network import Network
from jiyuu.errors import SignalError
from jiyuu.simulation.renderer import Move, Renderer

LOOKED = 16  # every so many samples a move is asked how far it goes
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
    cutoff_hz: float | FloatArray,
    gain: float | FloatArray,
    modes: Sequence[str],
    cutoff_cv_v: FloatArray | None = None,
    gain_cv: FloatArray | None = None,
    moves: Mapping[str, Move] | None = None,
    oversampling: int | None = None,
    start_v: FloatArray | None = None,
    block: int = SEGMENT,
) -> Rendered:
    """Run the network on input_v (n,) volts, from rest or from start_v (one voltage a capacitor).

    cutoff_hz and gain: one for all that the network names, or (c,) and (g,) for each; moves: of single ones by name.
    cutoff_cv_v (any length) adds volts at 1 V/octave to the cutoff, gain_cv adds to the loop gain; a shorter one holds
    its last value. The cutoff in force stays inside the circuits' stated range and a resonance at 0 or above. block:
    samples pushed through at a time. Raises SignalError for records that are not finite, CircuitError for
    settings out of range, OverflowError where nothing keeps the output finite."""
    cutoffs, gains = np.atleast_2d(cutoff_hz), np.atleast_2d(gain)
    if np.ndim(cutoff_hz) == np.ndim(gain) == 0:
        checked_gain(float(gains[0, 0]))
    for hertz in cutoffs[0]:
        checked_cutoff(float(hertz))
    for name, record in (("input", input_v), ("cutoff CV", cutoff_cv_v), ("resonance CV", gain_cv)):
        if record is not None and not np.isfinite(record).all():
            raise SignalError(f"The {name} holds values that are not finite; render it again without them.")
    start = None if start_v is None else start_v[np.newaxis, :]
    cutoffs, gains = (value[0] if np.ndim(one) == 0 else value
                      for one, value in ((cutoff_hz, cutoffs), (gain, gains)))
    job = _Job(network, input_v, sample_rate_hz, cutoffs, gains, cutoff_cv_v, gain_cv, tuple(modes), start, block,
               dict(moves or {}))
    if oversampling is not None:
        return Rendered(_run(job, oversampling)[0], oversampling, None)
    factor = _first_guess(job)
    coarse = _run(job, factor)[0]
    while True:
        fine = _run(job, 2 * factor)[0]
        if not np.isfinite(fine).all():
            raise OverflowError("the network runs away")
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
    """cutoff_hz and gain (p,), or (p, c) and (p, g), start_v (p, capacitors) or None: one row a setting; signals are
    shared."""

    network: Network
    input_v: FloatArray
    sample_rate_hz: float
    cutoff_hz: FloatArray
    gain: FloatArray
    cutoff_cv_v: FloatArray | None
    gain_cv: FloatArray | None
    modes: tuple[str, ...]
    start_v: FloatArray | None
    block: int = SEGMENT
    moves: Mapping[str, Move] = field(default_factory=dict)


def _first_guess(job: _Job) -> int:
    """Half a radian of the fastest stage a step, and at least four times 48 kHz."""
    octaves = 0.0 if job.cutoff_cv_v is None or job.cutoff_cv_v.size == 0 else float(job.cutoff_cv_v.max())
    times_s = np.arange(0, job.input_v.size, LOOKED) / job.sample_rate_hz
    octaves += max((float(job.moves[name](times_s).max(initial=0.0)) for name in job.network.cutoffs
                    if name in job.moves), default=0.0)
    fastest_hz = min(float(job.cutoff_hz.max()) * 2 ** min(octaves, 20.0), CUTOFF_MAXIMUM_HZ)
    fastest_hz *= max(1.0, float(job.network.rate_ratio.max(initial=1.0)))
    needed = max(4 * 48_000.0, 2 * np.pi * fastest_hz / 0.5) / job.sample_rate_hz
    return int(min(max(2, 2 ** np.ceil(np.log2(needed) - 1e-9)), HIGHEST_OVERSAMPLING // 2))


def _run(job: _Job, factor: int) -> FloatArray:
    """(p, r, n) outputs."""
    total = job.input_v.size
    renderer = Renderer(
        job.network, sample_rate_hz=job.sample_rate_hz, cutoff_hz=job.cutoff_hz, gain=job.gain, modes=job.modes,
        factor=factor, start_v=job.start_v, moves=job.moves,
    )
    cutoff_cv_v, gain_cv = _as_long(job.cutoff_cv_v, total), _as_long(job.gain_cv, total)
    output = np.empty((job.cutoff_hz.shape[0], len(job.modes), total))
    done = 0
    for start in range(0, total, job.block):
        part = slice(start, start + job.block)
        ready = renderer.push(job.input_v[part], cutoff_cv_v=None if cutoff_cv_v is None else cutoff_cv_v[part],
                              gain_cv=None if gain_cv is None else gain_cv[part])
        output[..., done : done + ready.shape[-1]] = ready
        done += ready.shape[-1]
    output[..., done:] = renderer.finish()
    return output


def _as_long(control: FloatArray | None, total: int) -> FloatArray | None:
    """(total,) cut, or with its last value held."""
    if control is None or control.size == 0:
        return None
    return np.pad(control[:total], (0, max(total - control.size, 0)), mode="edge")


def _difference_db(coarse: FloatArray, fine: FloatArray, sample_rate_hz: float) -> float:
    """RMS of the difference re RMS of the output, both below the band limit, worst mode, in dB."""
    kept = rfftfreq(fine.shape[1], 1 / sample_rate_hz) <= min(BAND_LIMIT_HZ, 0.45 * sample_rate_hz)

    def rms(signal: FloatArray) -> FloatArray:
        filtered = irfft(rfft(signal, axis=1) * kept, fine.shape[1], axis=1)
        return np.asarray(np.sqrt(np.mean(filtered**2, axis=1)))

    output, difference = rms(fine), rms(fine - coarse)
    ratio = np.where(output > 0, difference / np.maximum(output, 1e-300), 0.0)
    return float(20 * np.log10(max(ratio.max(), 1e-20)))
