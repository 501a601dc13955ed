"""A record through a network, at large signal: volts in, volts out, at the record's own rate.

The integrator runs `oversampling` times faster. When that is left open it is found by doing the work twice, at a rate
and at its double, until the two agree below the band limit by more than the quality asked for: the finer one is
returned, and since the scheme is of fourth order its own error is about 24 dB less than the difference seen.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ, checked_cutoff, checked_gain
from jiyuu.circuits.network import Network
from jiyuu.errors import SignalError
from jiyuu.signals.long_record import Record
from jiyuu.signals.transforms import rfft
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


@dataclass(frozen=True, slots=True, eq=False)
class RenderedRecords:
    """The same of a record of any length: outputs, a record for each mode."""

    outputs: list[Record]
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
    records = (None if one is None else Record.of(one) for one in (input_v, cutoff_cv_v, gain_cv))
    played, cutoff_cv, resonance_cv = records
    assert played is not None
    found = render_record(
        network, played, sample_rate_hz=sample_rate_hz, cutoff_hz=cutoff_hz, gain=gain, modes=modes,
        cutoff_cv=cutoff_cv, gain_cv=resonance_cv, moves=moves, oversampling=oversampling, start_v=start_v, block=block)
    return Rendered(np.stack([one.whole() for one in found.outputs]), found.oversampling, found.difference_db)


def render_record(
    network: Network,
    played: Record,
    *,
    sample_rate_hz: float,
    cutoff_hz: float | FloatArray,
    gain: float | FloatArray,
    modes: Sequence[str],
    cutoff_cv: Record | None = None,
    gain_cv: Record | None = None,
    moves: Mapping[str, Move] | None = None,
    oversampling: int | None = None,
    start_v: FloatArray | None = None,
    block: int = SEGMENT,
    checked: bool = True,
) -> RenderedRecords:
    """What render does, for records of any length: played and the control voltages are read as they are needed.
    checked: whether it is played twice to know that it steps finely enough; otherwise as finely as it nearly always
    must. Raises as render does."""
    cutoffs, gains = np.atleast_2d(cutoff_hz), np.atleast_2d(gain)
    if np.ndim(cutoff_hz) == np.ndim(gain) == 0:
        checked_gain(float(gains[0, 0]))
    for hertz in cutoffs[0]:
        checked_cutoff(float(hertz))
    for name, record in (("input", played), ("cutoff CV", cutoff_cv), ("resonance CV", gain_cv)):
        if record is not None and not all(np.isfinite(part).all() for part in record.blocks()):
            raise SignalError(f"The {name} holds values that are not finite; render it again without them.")
    start = None if start_v is None else start_v[np.newaxis, :]
    cutoffs, gains = (value[0] if np.ndim(one) == 0 else value
                      for one, value in ((cutoff_hz, cutoffs), (gain, gains)))
    job = _Job(network, played, sample_rate_hz, cutoffs, gains, cutoff_cv, gain_cv, tuple(modes), start, block,
               dict(moves or {}))
    if oversampling is not None:
        return RenderedRecords(_kept(job, oversampling, limited=False), oversampling, None)
    factor = _first_guess(job)
    if not checked:
        return RenderedRecords(_kept(job, 2 * factor, limited=True), 2 * factor, None)
    coarse = _kept(job, factor, limited=False)
    while True:
        fine = _kept(job, 2 * factor, limited=True)
        difference_db = _difference_db(coarse, fine, sample_rate_hz)
        if difference_db <= AGREEMENT_DB or 2 * factor >= HIGHEST_OVERSAMPLING:
            return RenderedRecords(fine, 2 * factor, difference_db)
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
    job = _Job(network, Record.of(input_v), sample_rate_hz, cutoff_hz, gain, None, None, tuple(modes), start_v)
    return np.concatenate(list(_run(job, oversampling)), axis=-1)


@dataclass(frozen=True, slots=True, eq=False)
class _Job:
    """cutoff_hz and gain (p,), or (p, c) and (p, g), start_v (p, capacitors) or None: one row a setting; signals are
    shared."""

    network: Network
    played: Record
    sample_rate_hz: float
    cutoff_hz: FloatArray
    gain: FloatArray
    cutoff_cv: Record | None
    gain_cv: Record | None
    modes: tuple[str, ...]
    start_v: FloatArray | None
    block: int = SEGMENT
    moves: Mapping[str, Move] = field(default_factory=dict)


def _first_guess(job: _Job) -> int:
    """Half a radian of the fastest stage a step, and at least four times 48 kHz."""
    octaves = 0.0 if job.cutoff_cv is None or not job.cutoff_cv.size else max(
        float(part.max()) for part in job.cutoff_cv.blocks())
    moved = [job.moves[name] for name in job.network.cutoffs if name in job.moves]
    if moved:
        octaves += max(float(move(times_s).max(initial=0.0)) for times_s in _looked_at(job) for move in moved)
    fastest_hz = min(float(job.cutoff_hz.max()) * 2 ** min(octaves, 20.0), CUTOFF_MAXIMUM_HZ)
    fastest_hz *= max(1.0, float(job.network.rate_ratio.max(initial=1.0)))
    needed = max(4 * 48_000.0, 2 * np.pi * fastest_hz / 0.5) / job.sample_rate_hz
    return int(min(max(2, 2 ** np.ceil(np.log2(needed) - 1e-9)), HIGHEST_OVERSAMPLING // 2))


def _looked_at(job: _Job) -> Iterator[FloatArray]:
    """Times in s, some at once."""
    for start in range(0, max(job.played.size, 1), LOOKED * SEGMENT):
        yield np.arange(start, min(start + LOOKED * SEGMENT, job.played.size), LOOKED) / job.sample_rate_hz


def _run(job: _Job, factor: int) -> Iterator[FloatArray]:
    """(p, r, k) outputs, block by block."""
    total = job.played.size
    renderer = Renderer(
        job.network, sample_rate_hz=job.sample_rate_hz, cutoff_hz=job.cutoff_hz, gain=job.gain, modes=job.modes,
        factor=factor, start_v=job.start_v, moves=job.moves,
    )
    for start in range(0, total, job.block):
        stop = min(start + job.block, total)
        yield renderer.push(job.played.read(start, stop), cutoff_cv_v=_stretch(job.cutoff_cv, start, stop),
                            gain_cv=_stretch(job.gain_cv, start, stop))
    yield renderer.finish()


def _kept(job: _Job, factor: int, *, limited: bool) -> list[Record]:
    """A record for each mode of the one setting. limited: OverflowError as soon as it is not finite."""
    outputs = [Record() for _ in job.modes]
    for block in _run(job, factor):
        if limited and not np.isfinite(block).all():
            raise OverflowError("the network runs away")
        for output, row in zip(outputs, block[0], strict=True):
            output.add(row)
    return outputs


def _stretch(control: Record | None, start: int, stop: int) -> FloatArray | None:
    """(stop − start,) of a control; after its end its last value is held."""
    if control is None or not control.size:
        return None
    found = control.read(start, stop)
    if stop > control.size:
        found[max(control.size - start, 0) :] = control.read(control.size - 1, control.size)
    return found


def _difference_db(coarse: Sequence[Record], fine: Sequence[Record], sample_rate_hz: float) -> float:
    """RMS of the difference re RMS of the output, both below the band limit, worst mode, in dB."""
    worst = 0.0
    for one, other in zip(coarse, fine, strict=True):
        output = _in_band(other, None, sample_rate_hz)
        apart = _in_band(other, one, sample_rate_hz)
        if output > 0:
            worst = max(apart / output, worst) if np.isfinite(apart) else np.inf
    return float(10 * np.log10(max(worst, 1e-40)))


def _in_band(record: Record, less: Record | None, sample_rate_hz: float) -> float:
    """Energy below the band limit, of overlapping pieces whose windows' squares add up to one."""
    length = min(2 * SEGMENT, max(record.size, 2) // 2 * 2)
    window = np.sin(np.pi * (np.arange(length) + 0.5) / length)
    kept = np.fft.rfftfreq(length, 1 / sample_rate_hz) <= min(BAND_LIMIT_HZ, 0.45 * sample_rate_hz)
    total = 0.0
    for start in range(-length // 2, record.size, length // 2):
        piece = record.read(start, start + length)
        if less is not None:
            piece = piece - less.read(start, start + length)
        total += float(np.sum(np.abs(rfft(window * piece)[kept]) ** 2))
    return total
