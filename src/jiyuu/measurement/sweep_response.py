"""Frequency response from an exponential sweep: the impulse response cut out of its surroundings, the network behind
it, and what that leaves smoothed as far as the data allow."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import NamedTuple

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.alignment import KEPT_SAMPLES, Passages, at_player_clock, impulse_response
from jiyuu.measurement.chirp import at_clock, hurt_bands_hz, sounding_s
from jiyuu.measurement.estimate import (
    LEAVES,
    Estimate,
    FittedNetwork,
    GatedBins,
    explaining,
    nearer,
    nearer_by,
    rough_clock_ppm,
    without_the_loudest,
)
from jiyuu.measurement.excess_delay import excess_delay
from jiyuu.measurement.gated_network import missed_of
from jiyuu.measurement.hum_left import HumLeft, less_rings
from jiyuu.measurement.made_ready import Ready
from jiyuu.measurement.network_fit import NetworkFit
from jiyuu.measurement.network_search import fit_network
from jiyuu.measurement.smoothing import (
    POINTS_PER_OCTAVE,
    WINDOWS,
    FineGrid,
    Gate,
    NoiseLike,
    bias_of,
    chosen_windows,
    pick,
    smoothed,
    smoothed_as_chosen,
)
from jiyuu.measurement.waveform_faults import rounded_v
from jiyuu.signals.transforms import irfft, rfft
from jiyuu.stopping import checkpoint

DRAWS = 96
SYSTEMATIC = 3e-7  # share of the gain by which gate, interpolation and clock may be off; found on noiseless records
GATE_BEFORE_S, GATE_AFTER_S = 0.25, 1.5
FAR_FROM_PLACE = 4  # samples
FELT_PPM = 0.1
HUM_ROUNDS, HUM_LEAVES = 3, 10.0  # of hum without what a network rings, and a network without that hum; of the noise
COARSE_ERROR = 3.0  # re that of rounding noise: of few steps the error is no noise


def estimate_by_sweep(
    ready: Ready, passages: Passages, sample_rate_hz: float, quickly: bool = False,
    like: NetworkFit | None = None, turned_ppm: float = 0.0,
) -> Estimate:
    """quickly, like: as measure_response has them; turned_ppm: what the record was brought to the player's clock by.
    Raises MeasurementError where no passage is whole."""
    heard = _Heard.of(ready, passages, sample_rate_hz)
    generator = np.random.default_rng(int(np.abs(heard.noise).sum() / np.abs(heard.raw).sum() * 1e12) % 2**32)
    bins = heard.bins(ready, passages)
    hopeless = False
    if bins.sounds_s is not None and not quickly and not turned_ppm:
        by_ppm = rough_clock_ppm(bins)
        hopeless = by_ppm is None
        if by_ppm is not None and abs(by_ppm) > FELT_PPM:
            ahead = ready.sound[0] * passages.period
            turned = replace(ready, record_v=at_player_clock(ready.record_v, by_ppm),
                             place=round((heard.place + ahead) / (1 + 1e-6 * by_ppm)) - ahead,
                             hum=ready.hum and ready.hum.at_clock(by_ppm))
            return estimate_by_sweep(turned, passages, sample_rate_hz, quickly, like, by_ppm)
    network, nearest, missed = None, None, None
    if not hopeless and not (quickly and like is None):
        ready, heard, bins, nearest = _explained(ready, heard, bins, passages, like)
        network = explaining(nearest)
    if network is not None and not quickly:
        missed = missed_of(network, passages, heard.grid, bins.cut, heard.wire, heard.flat)
        network = nearer(network, replace(bins, signal=bins.signal - missed.at_bins * bins.wire))
    ppm = None if network is None else network.clock_ppm
    if ppm is not None:
        heard = replace(heard, raw=heard.raw * at_clock(heard.grid.frequency_hz, ppm.value, passages, sample_rate_hz))
    unloaded = None if quickly or network is not None else without_the_loudest(bins)
    expected = 0.0 if network is None else heard.grid.seen(network, bins.cut)
    if missed is not None:
        expected = expected + missed.at_points
    gain, spread, draws, drawn = heard.smoothed(
        network, bins, expected, lambda gain: _rounded(gain, ready, passages), generator)
    return Estimate(heard.grid.frequency_hz, gain, spread, draws, heard.count, None, heard.place, drawn, ppm,
                    turned_ppm, bins.hurt_hz, unloaded, nearest=nearest if network is None else None)


def _explained(
    ready: Ready, heard: _Heard, bins: GatedBins, passages: Passages, like: NetworkFit | None
) -> tuple[Ready, _Heard, GatedBins, NetworkFit | None]:
    """All of it less the hum that is found once it is known how the filter rings, and the network that comes nearest to
    it."""
    # Until then hum that a ring pulled along leaves something that no network explains.
    leaves, rate = LEAVES if ready.hum is None else HUM_LEAVES, heard.grid.sample_rate_hz
    nearest = fit_network(bins.spectrum(), like)
    for _ in range(HUM_ROUNDS):
        network = explaining(nearest, leaves)
        clearer = None if network is None else less_rings(ready, network, passages, heard.place, rate)
        if network is None or clearer is None:
            break
        ready = clearer
        heard = _Heard.of(ready, passages, rate)
        bins = heard.bins(ready, passages)
        nearest = nearer_by(bins.spectrum(), network) or fit_network(bins.spectrum(), like)
    return ready, heard, bins, nearest


@dataclass(frozen=True, slots=True, eq=False)
class _Heard:
    """What was cut out of a recording: signal, apart: impulse responses, of the passages' mean and of noise as strong
    as it has; raw, noise (n,): the same at the grid's points, raw re a wire, which is given likewise; hum: what may be
    left of it; count: of passages; place: of the first."""

    grid: FineGrid
    signal: FloatArray
    apart: FloatArray
    raw: ComplexArray
    noise: ComplexArray
    likely: NoiseLike
    wire: FloatArray
    flat: ComplexArray
    hum: HumLeft | None
    count: int
    place: int

    @classmethod
    def of(cls, ready: Ready, passages: Passages, sample_rate_hz: float) -> _Heard:
        """Raises MeasurementError where no passage is whole."""
        record, place = ready.record_v, ready.place
        grid, wire, flat = wire_of(passages, sample_rate_hz)
        gate = grid.gate
        impulses = _gated(record, passages, place, ready.sound, gate)
        for rounds in range(2):
            signal = np.mean([impulse for impulse, _ in impulses], axis=0)
            raw = grid.sampled(signal) / flat
            apart = _apart(impulses, ready, passages, place, gate, sample_rate_hz)
            noise = grid.sampled(apart)
            likely = NoiseLike.of(noise, grid)
            # A ring is loudest long after it begins; from its beginning on it is a network with hardly any delay.
            delay_s = excess_delay(grid.frequency_hz, smoothed(raw, WINDOWS[1]), likely.deviations[1],
                                   sample_rate_hz)[0]
            shift = round(delay_s * sample_rate_hz)
            if rounds or abs(shift) <= FAR_FROM_PLACE or place + ready.sound[0] * passages.period + shift <= 0:
                break
            place += shift
            impulses = _gated(record, passages, place, ready.sound, gate)
        at = place

        def mean_impulse(record_v: FloatArray) -> FloatArray:
            return np.asarray(np.mean([one for one, _ in _gated(record_v, passages, at, ready.sound, gate)], axis=0))

        hum = None if ready.hum is None else HumLeft.of(ready.hum, record.size, mean_impulse, grid, wire, flat)
        return cls(grid, signal, apart, raw, noise, likely, wire, flat, hum, len(impulses), place)

    def bins(self, ready: Ready, passages: Passages) -> GatedBins:
        """For the network behind them."""
        grid, rate = self.grid, self.grid.sample_rate_hz
        signal, wire = grid.bins(self.signal), grid.bins(self.wire)
        noise = np.hypot(np.abs(grid.bins(self.apart)), np.abs(wire) * _rounded(signal / wire, ready, passages))
        # One passage alone tells its clock by this: what comes late in the sweep comes later still.
        alone = len(ready.sound) == 1 and ready.offset is None
        return GatedBins(
            signal, wire, noise.astype(complex), grid, grid.gate.cut(passages.period, self.count, rate),
            hurt_bands_hz(ready.flat, passages, self.place, ready.sound, rate),
            sounding_s(grid.bins_hz, passages, rate) if alone else None,
            0.0 if self.hum is None else self.hum.power)

    def smoothed(
        self, network: NetworkFit | None, bins: GatedBins, expected: ComplexArray | float,
        rounded_of: Callable[[ComplexArray], FloatArray], generator: np.random.Generator,
    ) -> tuple[ComplexArray, FloatArray, ComplexArray, FittedNetwork | None]:
        """(gain (n,), its standard deviation, DRAWS of it, the network with as many). bins: that it was found from;
        expected: what of raw it explains; rounded_of: by how much a recorder's steps may move gains."""
        # Less what the network explains hardly anything is left that a wide window could flatten.
        hertz = self.grid.frequency_hz
        estimates, deviations = [smoothed(self.raw - expected, window) for window in WINDOWS], self.likely.deviations
        chosen = chosen_windows(estimates, deviations)
        gain = pick(estimates, chosen) + (0.0 if network is None else network.at(hertz))
        rounded = rounded_of(gain)
        spread = np.sqrt(
            np.choose(chosen, deviations) ** 2 + bias_of(estimates, chosen, deviations) ** 2
            + (SYSTEMATIC * np.abs(gain)) ** 2 + rounded**2
        )
        # As if the curve found were the true one and had been measured again, smoothed by the same windows. What is
        # systematic leans the same way along the whole curve.
        lean = 1 + SYSTEMATIC * generator.standard_normal((DRAWS, 1))
        left, noise = self.likely.drawn(chosen, DRAWS, generator)
        if self.hum is not None:
            shares, ways = self.hum.shares(DRAWS, generator), smoothed_as_chosen(self.hum.ways, chosen)
            left, noise = left + shares @ ways, noise + shares @ self.hum.ways
            spread = np.hypot(spread, np.linalg.norm(ways, axis=0))
        again = gain + left
        if rounded.any():  # it leans the same way for a long stretch
            again = again + rounded * gain / np.maximum(np.abs(gain), 1e-20) * generator.standard_normal((DRAWS, 1))
        if network is None:
            return gain, spread, again * lean, None
        # The network moves with the same noise: what both of them do to a curve must not be counted as if by chance.
        drawn = network.drawn(DRAWS, generator, bins.grid_noise(noise))
        moved = np.stack([one.at(hertz) for one in drawn]) - network.at(hertz)
        lost = moved - smoothed_as_chosen(moved, chosen)
        spread = np.hypot(spread, np.sqrt(np.mean(np.abs(lost) ** 2, axis=0)))
        return gain, spread, (again + lost) * lean, FittedNetwork(network, drawn)


def _apart(
    impulses: list[tuple[FloatArray, FloatArray]], ready: Ready, passages: Passages, place: int, gate: Gate,
    sample_rate_hz: float,
) -> FloatArray:
    """Noise as strong as the mean of the passages has: of their difference, of the silence, or of what lies behind."""
    if len(impulses) > 1:
        apart = (impulses[0][0] - impulses[1][0]) / np.sqrt(2 * len(impulses))
    elif ready.silence_v.size > 0.1 * sample_rate_hz:
        like = _like(ready.silence_v, ready.record_v.size)
        apart, _ = next(_each_gated(like, passages, place, ready.sound, gate))
    else:
        apart = impulses[0][1]
    if ready.step_v:
        # Two passages may be rounded alike, and then do not tell how much was lost by it.
        rounding = _rounding(ready.record_v.size, ready) / np.sqrt(len(impulses))
        apart = apart + next(_each_gated(rounding, passages, place, ready.sound, gate))[0]
    return np.asarray(apart)


class _Wire(NamedTuple):
    """What the gate leaves of a passage that nothing was done to: impulse, and flat (n,) at the points. What gate
    and regularisation do to it they do to the filter, so it divides out."""

    grid: FineGrid
    impulse: FloatArray
    flat: ComplexArray


_WIRING = threading.Lock()


def prepared(passages: Passages, sample_rate_hz: float) -> None:
    """What a sweep alone tells and is kept, worked out for when its recording has been made ready. Raises
    MeasurementError where it covers too little."""
    if not passages.noisy and passages.passage_v.size <= KEPT_SAMPLES:
        wire_of(passages, sample_rate_hz).grid.unit_noise()


def wire_of(passages: Passages, sample_rate_hz: float) -> _Wire:
    """Kept for the next recording unless it is long. Raises MeasurementError where the stimulus covers too little."""
    if passages.passage_v.size > KEPT_SAMPLES:
        return _wire_of.__wrapped__(passages, sample_rate_hz)
    with _WIRING:
        return _wire_of(passages, sample_rate_hz)


@lru_cache(maxsize=4)  # of a stimulus that is recorded once a mode
def _wire_of(passages: Passages, sample_rate_hz: float) -> _Wire:
    gate = gate_of(passages, sample_rate_hz)
    grid = _grid(passages, sample_rate_hz, gate)
    played = np.concatenate([np.zeros(gate.before), passages.passage_v, np.zeros(gate.after)])
    wire = _gated(played, replace(passages, period=0, count=1), gate.before, (0,), gate)[0][0]
    return _Wire(grid, wire, grid.sampled(wire))


def _like(silence_v: FloatArray, count: int) -> FloatArray:
    """Noise of the spectrum that a silence has, (count,)."""
    from scipy.signal import welch

    places, power = welch(silence_v, nperseg=min(silence_v.size, 4096))
    white = rfft(np.random.default_rng(24).standard_normal(count))
    shape = np.sqrt(np.interp(np.fft.rfftfreq(count), places, power) / 2)
    return np.asarray(irfft(white * shape, count))


def _rounded(gain: ComplexArray, ready: Ready, passages: Passages) -> FloatArray:
    """(n,) by how much a recorder's steps may move gains (n,) beyond what they add as noise: a sweep is a sine for a
    while at every frequency."""
    level_v = float(np.abs(passages.passage_v).max())
    noise_v = float(np.std(ready.silence_v)) if ready.silence_v.size else 0.0
    return rounded_v(np.abs(gain) * level_v, noise_v, ready.step_v) / level_v


def _rounding(count: int, ready: Ready) -> FloatArray:
    """What rounding to steps may have left: noise of its own, more of it where the steps are felt."""
    share = COARSE_ERROR if ready.coarse else 1.0
    return np.asarray(share * ready.step_v * (np.random.default_rng(23).random(count) - 0.5))


def _gated(
    record: FloatArray, passages: Passages, place: int, sound: tuple[int, ...], gate: Gate
) -> list[tuple[FloatArray, FloatArray]]:
    """Of every sound passage the impulse response from gate.before samples before its peak, tapered, and an
    equally long piece of what lies after it (noise only)."""
    impulses = list(_each_gated(record, passages, place, sound, gate))
    if not impulses:
        raise MeasurementError(
            "The recording ends before the stimulus does; record until a second after the stimulus has ended."
        )
    return impulses


def _each_gated(
    record: FloatArray, passages: Passages, place: int, sound: tuple[int, ...], gate: Gate
) -> Iterator[tuple[FloatArray, FloatArray]]:
    period = passages.period or (record.size - place)
    before, after, window = gate.before, gate.after, gate.window
    for i in sound:
        checkpoint()
        begin = place + i * passages.period - before
        end = begin + before + period
        piece = np.zeros(before + period)
        low, high = max(begin, 0), min(end, record.size)
        if high - low < passages.passage_v.size * 0.98:
            continue  # this passage is not wholly in the recording
        piece[low - begin : high - begin] = record[low:high]
        response = impulse_response(piece, passages)
        quiet = response[before + after : 2 * (before + after)]
        if quiet.size < window.size:
            quiet = np.resize(quiet, window.size) if quiet.size else np.zeros(window.size)
        yield response[: before + after] * window, quiet * window


def gate_of(passages: Passages, sample_rate_hz: float) -> Gate:
    """What is cut out of an impulse response: of a short sweep less, or the harmonics ahead of it would be in it."""
    length = passages.passage_v.size
    return Gate(int(min(GATE_BEFORE_S * sample_rate_hz, length / 25)),
                max(int(min(GATE_AFTER_S * sample_rate_hz, 0.4 * length)), 64))


def band_of(passages: Passages, sample_rate_hz: float) -> tuple[float, float]:
    """The band in which the stimulus has its level: within 10 dB of its middle, energy per octave or per
    hertz. Raises MeasurementError where that is less than an octave."""
    size = 1 << int(np.ceil(np.log2(passages.passage_v.size)))
    power = np.abs(rfft(passages.passage_v, size)) ** 2
    frequency = np.fft.rfftfreq(size, 1 / sample_rate_hz)
    candidates = 8.0 * 2 ** np.arange(0, 13.5, 1 / 24)
    candidates = candidates[candidates < 0.49 * sample_rate_hz]
    index = np.searchsorted(frequency, candidates)
    sums = np.concatenate([[0.0], np.cumsum(power)])
    width = np.maximum((candidates * 0.03 * size / sample_rate_hz).astype(int), 2)
    low, high = np.maximum(index - width, 0), np.minimum(index + width, power.size)
    density = (sums[high] - sums[low]) / (high - low)
    for shape in (density * candidates, density):  # exponential sweep; white
        middle = np.median(shape[(candidates > 100) & (candidates < 0.3 * sample_rate_hz)])
        inside = np.flatnonzero(shape > 0.1 * middle)
        if inside.size and np.ptp(10 * np.log10(shape[inside])) < 14:
            break
    if inside.size < 24:
        raise MeasurementError("The stimulus covers less than an octave; use a sweep, such as 'jiyuu stimulus sweep'.")
    return float(candidates[inside[0]] * 1.03), float(candidates[inside[-1]] * 0.99)


def _grid(passages: Passages, sample_rate_hz: float, gate: Gate) -> FineGrid:
    first, last = band_of(passages, sample_rate_hz)
    count = int(np.floor(np.log2(last / first) * POINTS_PER_OCTAVE)) + 1
    return FineGrid(first, count, 1 << int(np.ceil(np.log2(gate.before + gate.after))) + 2, sample_rate_hz, gate)
