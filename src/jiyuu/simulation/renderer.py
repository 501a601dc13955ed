"""A network played block by block: what comes out does not depend on where the blocks end.

Interpolation and decimation look ahead, so what is pushed in comes out LATENCY samples later; `finish` gives the rest.
Everything between blocks is kept in the renderer: capacitor voltages, the past of the input and of the controls, and
the fine output that decimation still needs.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ, CUTOFF_MINIMUM_HZ
from jiyuu.circuits.network import RESONANCE, Network
from jiyuu.errors import CircuitError
from jiyuu.signals.controls.instants import at_instants
from jiyuu.signals.resampling import DECIMATION_HALF_LENGTH, HALF_LENGTH, decimated, interpolated
from jiyuu.simulation.kernels import integrate

LATENCY = HALF_LENGTH + 1 + DECIMATION_HALF_LENGTH  # samples from in to out
HIGHEST_GAIN = 1000.0
FURTHEST = 40.0  # octaves: past anything a converter does, and finite


@dataclass(slots=True)
class _Past:
    """What of a signal may still be asked for: samples from `first` on. Before the first sample it is 0."""

    samples: FloatArray = field(default_factory=lambda: np.zeros(0))
    first: int = 0

    def push(self, more: FloatArray) -> None:
        self.samples = np.concatenate([self.samples, more])

    def fine(self, factor: int, start: int, stop: int) -> FloatArray:
        return interpolated(self.samples, factor, start - self.first, stop - self.first)

    def forget_before(self, place: int) -> None:
        gone = max(place - HALF_LENGTH - 1 - self.first, 0)
        self.samples, self.first = self.samples[gone:], self.first + gone


Move = Callable[[FloatArray], FloatArray]  # of times in s: octaves on top of a cutoff, or what is added to a gain


class Renderer:
    """One network at p settings side by side: cutoff_hz and gain (p,), or (p, c) and (p, g) for each that the network
    names; start_v (p, capacitors) or None for rest. factor: integration steps a sample. moves: of cutoffs and gains by
    name, known at every instant, so that what happens between two samples happens there."""

    def __init__(
        self, network: Network, *, sample_rate_hz: float, cutoff_hz: FloatArray, gain: FloatArray,
        modes: Sequence[str], factor: int, start_v: FloatArray | None = None, moves: Mapping[str, Move] | None = None,
    ) -> None:
        self._network, self._factor = network, factor
        self._half_step_s = 0.5 / (sample_rate_hz * factor)
        settings = cutoff_hz.shape[0]
        self._cutoff_hz = _by_name(cutoff_hz, len(network.cutoffs))
        self._gain = _by_name(gain, len(network.gains))
        self._moves = dict(moves or {})
        unknown = set(self._moves) - {*network.cutoffs, *network.gains}
        if unknown:
            raise CircuitError(f"There is no control '{min(unknown)}' in this network; it has: "
                               f"{', '.join((*network.cutoffs, *network.gains))}.")
        self._settings = settings
        self._rows = [network.output_index(mode) for mode in modes]
        self._states = start_v
        self._input, self._cutoff_cv, self._gain_cv = _Past(), _Past(), _Past()
        self._moved_cutoff = self._moved_gain = False
        self._received = self._position = self._done = 0
        # Decimation looks to both sides: before the record the filter is at rest.
        self._fine = np.zeros((settings * len(self._rows), 2 * DECIMATION_HALF_LENGTH * factor))
        self._lead = DECIMATION_HALF_LENGTH  # outputs that would belong to times before the record

    def push(
        self, input_v: FloatArray, *, cutoff_cv_v: FloatArray | None = None, gain_cv: FloatArray | None = None
    ) -> FloatArray:
        """(p, r, k) what is ready, volts: k is as many as went in, less LATENCY at the beginning. input_v (n,) volts;
        cutoff_cv_v (n,) volts at 1 V/octave on top of the cutoff, gain_cv (n,) on top of the loop gain, both with
        every block or with none."""
        self._input.push(input_v)
        for past, block in ((self._cutoff_cv, cutoff_cv_v), (self._gain_cv, gain_cv)):
            if block is not None:
                past.push(block)
        self._moved_cutoff |= cutoff_cv_v is not None
        self._moved_gain |= gain_cv is not None
        self._received += input_v.size
        return self._advanced(self._received - HALF_LENGTH - 1)

    def finish(self) -> FloatArray:
        """(p, r, k) what is left: as many as went in come out in all. The input is 0 afterwards, controls stand."""
        total = self._received
        silence = np.zeros(LATENCY)

        def held(past: _Past) -> FloatArray:
            return silence + past.samples[-1] if past.samples.size else silence

        found = self.push(silence, cutoff_cv_v=held(self._cutoff_cv) if self._moved_cutoff else None,
                          gain_cv=held(self._gain_cv) if self._moved_gain else None)
        self._received = total
        return found[..., : found.shape[-1] - max(self._done - total, 0)]

    def _advanced(self, stop: int) -> FloatArray:
        settings, rows = self._settings, len(self._rows)
        if stop <= self._position:
            return np.zeros((settings, rows, 0))
        fine, self._states = integrate(
            [self._network] * settings,
            u_v=self._input.fine(2 * self._factor, self._position, stop)[:, np.newaxis],
            omega=self._omega(stop), gain=self._gains(stop), half_step_s=self._half_step_s, rows=self._rows,
            states=self._states,
        )
        window = np.concatenate([self._fine, fine.transpose(2, 0, 1).reshape(settings * rows, -1)], axis=1)
        ready = decimated(window, self._factor)
        lead = min(self._lead, ready.shape[1])
        self._lead -= lead
        self._fine = window[:, -2 * DECIMATION_HALF_LENGTH * self._factor :]
        self._position = stop
        for past in (self._input, self._cutoff_cv, self._gain_cv):
            past.forget_before(stop)
        self._done += ready.shape[1] - lead
        return ready[:, lead:].reshape(settings, rows, -1)

    def _at(self, move: Move, stop: int) -> FloatArray:
        """(half steps,) of what is known at every instant."""
        first, last = 2 * self._factor * self._position, 2 * self._factor * stop
        return at_instants(move, first, last + 1 - first, self._half_step_s)

    def _omega(self, stop: int) -> FloatArray:
        """(c, half steps or 1, p) rad/s."""
        still = self._cutoff_hz[:, np.newaxis, :]
        ratios: list[FloatArray] = []
        for name in self._network.cutoffs:
            move = self._moves.get(name)
            # In hertz and not in octaves, so that a jump is shared out as the filter counts it.
            ratios.append(np.ones(1) if move is None else self._at(in_ratio(move), stop))
        if self._moved_cutoff:
            shared = np.exp2(np.clip(self._cutoff_cv.fine(2 * self._factor, self._position, stop), -FURTHEST, FURTHEST))
            ratios = [ratio * shared for ratio in ratios]
        found = still * _stacked(ratios)
        if found.shape[1] > 1:
            found = np.clip(found, CUTOFF_MINIMUM_HZ, CUTOFF_MAXIMUM_HZ)
        return np.asarray(2 * np.pi * found)

    def _gains(self, stop: int) -> FloatArray:
        """(g, half steps or 1, p); a resonance stays at 0 or above."""
        base = self._gain[:, np.newaxis, :]
        moved = [np.zeros(1) if (move := self._moves.get(name)) is None else self._at(move, stop)
                 for name in self._network.gains]
        if self._moved_gain:
            shared = self._gain_cv.fine(2 * self._factor, self._position, stop)
            moved = [one + shared for one in moved]
        if all(one.size == 1 for one in moved):
            return base
        return held_gains(self._network, base + _stacked(moved))


def held_gains(network: Network, gains: FloatArray) -> FloatArray:
    """(g, …) within what is computed; a resonance stays at 0 or above."""
    found = np.clip(gains, -HIGHEST_GAIN, HIGHEST_GAIN)
    resonances = [name.rpartition(".")[2] == RESONANCE for name in network.gains]
    found[resonances] = np.maximum(found[resonances], 0.0)
    return np.asarray(found)


@dataclass(frozen=True, slots=True)
class Multiplied:
    """A move of a cutoff that is known by what it multiplies it with, finite and above 0."""

    ratio: Move

    def __call__(self, times_s: FloatArray) -> FloatArray:
        return np.asarray(np.log2(self.ratio(times_s)))


def in_ratio(octaves: Move) -> Move:
    """What a move multiplies a cutoff by."""
    if isinstance(octaves, Multiplied):
        return octaves.ratio
    return lambda times_s: np.exp2(np.clip(octaves(times_s), -FURTHEST, FURTHEST))


def _by_name(given: FloatArray, count: int) -> FloatArray:
    """(count, p) from (p,), one for all, or (p, count)."""
    if given.ndim == 2:
        return np.ascontiguousarray(given.T)
    return np.asarray(np.broadcast_to(given, (count, given.size)))


def _stacked(values: Sequence[FloatArray]) -> FloatArray:
    """(controls, half steps or 1, 1)."""
    length = max(one.size for one in values)
    return np.stack([np.broadcast_to(one, (length,)) for one in values])[..., np.newaxis]
