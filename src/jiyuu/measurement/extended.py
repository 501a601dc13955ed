"""A measured curve as far as the network behind it is known: between its points, under the noise, beyond the band."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.curve_reading import END_SLOPE, LEVEL_SLOPE, Kind, kind_of, local_slope
from jiyuu.measurement.network_fit import DrawnNetwork, NetworkFit
from jiyuu.measurement.response import MeasuredResponse
from jiyuu.measurement.smoothing import POINTS_PER_OCTAVE

BEYOND_OCTAVES = 4
CERTAIN_DB = 0.5  # standard deviation up to which what lies beyond may be told
TAKEN_OVER_OCTAVES = 0.5
FAITHFUL = 1.1
LEVEL_ENOUGH = 0.05  # dB per octave: a plateau, told by the network
NEAR_TOP_DB = 1.5
FALLS_DB = 20.0
AT_END = 4.0  # re an end of the band: what a filter does within so little of it shows its kind only beyond
CLEAR_DB, NOISY_DB = 30.0, 10.0  # SNR above which the curve is as measured; below which it is the network's


@dataclass(frozen=True, slots=True, eq=False)
class Extended:
    """frequency_hz, level_db, usable (n,): the curve with what the network adds at its ends; exact: the level at any
    octaves; draws: such levels and functions as other noise might have given. low_added, high_added: octaves beyond the
    band at its ends; kind: where the network alone tells it."""

    frequency_hz: FloatArray
    level_db: FloatArray
    usable: NDArray[np.bool_]
    exact: Callable[[FloatArray], FloatArray] | None
    draws: list[tuple[FloatArray, Callable[[FloatArray], FloatArray] | None]]
    low_added: float = 0.0
    high_added: float = 0.0
    kind: Kind | None = None


def extended(response: MeasuredResponse) -> Extended:
    """The curve as measured where no network explains it."""
    usable = response.snr_db > NOISY_DB
    if response.network is None or not usable.any():
        levels = (20 * np.log10(np.maximum(np.abs(draw), 1e-20)) for draw in response.draws)
        return Extended(response.frequency_hz, response.level_db, usable, None, [(level, None) for level in levels])
    fit, drawn = response.network.fit, response.network.drawn
    hertz = response.frequency_hz
    # By the network's own level: by the measured one, noise that adds would count more than noise that takes away.
    expected_db = fit.level_db(hertz) - 20 * np.log10(np.maximum(response.deviation, 1e-20))
    usable = expected_db > NOISY_DB
    trust = np.clip((expected_db - NOISY_DB) / (CLEAR_DB - NOISY_DB), 0.0, 1.0)
    low, high = _beyond(response, fit, drawn)
    # Towards an end that is continued the network takes over: one point there must not move all that lies beyond it.
    place = np.arange(hertz.size) / (TAKEN_OVER_OCTAVES * POINTS_PER_OCTAVE)
    for continued, way in ((low, place), (high, place[::-1])):
        if continued:
            trust = trust * np.minimum(way, 1.0)
    step = 1 / POINTS_PER_OCTAVE
    added = (round(low * POINTS_PER_OCTAVE), round(high * POINTS_PER_OCTAVE))
    octave = np.log2(hertz[0]) + step * np.arange(-added[0], hertz.size + added[1])
    wide_hz = 2.0**octave

    def curve(
        gain: ComplexArray, network: NetworkFit | DrawnNetwork
    ) -> tuple[FloatArray, Callable[[FloatArray], FloatArray]]:
        own = network.level_db(hertz)
        apart = trust * (20 * np.log10(np.maximum(np.abs(gain), 1e-20)) - own)
        here = np.log2(hertz)

        def exact(octaves: FloatArray) -> FloatArray:
            return np.asarray(network.level_db(2.0**octaves) + np.interp(octaves, here, apart))

        return exact(octave), exact

    certain = np.std([one.level_db(hertz) for one in drawn[:24]], axis=0) < CERTAIN_DB
    wide = np.concatenate([np.full(added[0], True), usable | certain, np.full(added[1], True)])
    level, exact = curve(response.gain, fit)
    draws = [curve(gain, network) for gain, network in zip(response.draws, drawn, strict=True)]
    return Extended(wide_hz, level, wide, exact, list(draws), low, high, _kind_at_an_end(hertz, fit, drawn))


def _kind_at_an_end(hertz: FloatArray, fit: NetworkFit, drawn: list[DrawnNetwork]) -> Kind | None:
    """The kind of a filter that does all it does near one end of the band: by its poles and zeros, where an octave
    beyond that end is known; a real pole far enough under the band is a coupling capacitor's."""
    poles, zeros = np.abs(fit.poles) / (2 * np.pi), np.abs(fit.zeros) / (2 * np.pi)
    low, high = float(hertz[0]), float(hertz[-1])
    if low < poles.max() < AT_END * low:
        beyond = np.array([low / 2])
    elif high / AT_END < poles.min() < high:
        beyond = np.array([high * 2])
    else:
        return None
    if np.std([one.level_db(beyond) for one in drawn], axis=0).max() > CERTAIN_DB:
        return None
    coupling = int(np.sum((fit.poles.imag == 0) & (poles < low / 2)))
    under, within = np.sum(zeros < low / AT_END), np.sum((zeros >= low / AT_END) & (zeros < AT_END * high))
    at_rest = fit.order.at_rest + int(under) - coupling
    rises, falls = at_rest > 0, poles.size - coupling - at_rest > int(within)
    if rises or falls:
        return (Kind.BANDPASS if falls else Kind.HIGHPASS) if rises else Kind.LOWPASS
    octave = np.arange(np.log2(low) - 1, np.log2(high) + 1, 1 / POINTS_PER_OCTAVE)
    return kind_of(octave, fit.level_db(2.0**octave))


def _beyond(response: MeasuredResponse, fit: NetworkFit, drawn: list[DrawnNetwork]) -> tuple[float, float]:
    """By how many octaves each end may be continued: to a plateau that is certain; else where the curve has none."""
    level = response.level_db
    clear = response.snr_db > CLEAR_DB
    slope = local_slope(response.frequency_hz, level)
    per = POINTS_PER_OCTAVE
    level_there = (np.abs(slope) < LEVEL_SLOPE) & clear
    near_top = level_there & (level > level[clear].max(initial=-np.inf) - NEAR_TOP_DB)
    # An octave that is level is a passband: at the low end any, since interfaces roll off there; else one near the top.
    has_one = [bool((np.convolve(flat, np.ones(per), mode="valid") >= per - 0.5).any()) if flat.size >= per else False
               for flat in (level_there, near_top)]
    # Of noise a network must leave next to nothing: what a soft stage adds to it is spread over all of the band.
    by_sweep = response.coherence is None or fit.left < FAITHFUL
    found = []
    for end, way in ((0, -1), (-1, 1)):
        there = response.frequency_hz[end] * 2.0 ** (way * np.arange(0, BEYOND_OCTAVES + 0.01, 0.25))
        own = fit.level_db(there)
        doubt = np.std([one.level_db(there) for one in drawn[:24]], axis=0)
        near = slice(0, per // 2) if way < 0 else slice(-per // 2, None)
        leans = bool(np.abs(slope[near]).mean() > END_SLOPE)
        ends_level = abs(own[-1] - own[-5]) < LEVEL_ENOUGH
        faint = not clear[near].any()
        plateau = ends_level and (leans or by_sweep)
        certain = doubt.max() < CERTAIN_DB and not faint
        # A level that it only comes to far under the end of the band may be anything's: nothing of it was heard.
        falls = own[-1] < own[0] - FALLS_DB
        wanted = certain and not falls and (plateau or (leans and not has_one[0 if way < 0 else 1]))
        found.append(float(BEYOND_OCTAVES) if wanted else 0.0)
    return found[0], found[1]

