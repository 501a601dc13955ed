"""Where the search for a network begins: poles and zeros by vector fitting (Gustavsen and Semlyen 1999, IEEE Trans.
Power Delivery), and filters of the usual shape beside them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.bin_groups import Groups
from jiyuu.measurement.factors import factors_of
from jiyuu.measurement.network_fit import NetworkFit, Order, product
from jiyuu.measurement.network_kernel import turned_back
from jiyuu.measurement.rational_fit import PolesAndZeros, fit_poles
from jiyuu.stopping import checkpoint

HANDMADE_UP_TO = 4  # poles of filters of the usual shape
TAPPED, FED_BACK = 4, 0.2 + 0.2j  # poles; re them, by which feedback moves them apart
CHAIN = np.array([1.0, 8.1, 18.2, 25.3])  # poles of four equal stages that load each other, re the lowest
LEVEL = 1.1  # what nearly all of a passband is no higher than, re what is usual there
TWO_AWAY = float(np.sqrt(np.sqrt(2) - 1))  # re two equal poles, where a curve is 3 dB down
FALLS = 1.0  # poles' worth of slope at the low end of the band, from which on a curve falls towards there
MOST_RESTS = 3
OUTSIDE = 4.0  # a zero so far beyond the band may as well be none, or lie at 0
ROUGHLY = 1e-3  # a first guess need not be nearer than this share
DELAYS = 100  # tried on either side


def guesses_of(groups: Groups, count: int) -> list[PolesAndZeros]:
    """By what is loud, by every part of the curve alike, and the usual filter."""
    size = np.abs(groups.gain)
    found = []
    for deviation in (np.hypot(groups.deviation, ROUGHLY * size.max()),
                      np.hypot(groups.deviation, ROUGHLY * size)):
        checkpoint()
        guess = fit_poles(groups.s.imag, groups.gain, deviation, count)
        if guess is not None:
            found.append(guess)
    return found + _usual(groups, count) if count <= HANDMADE_UP_TO else found


def guesses_alike(groups: Groups, like: NetworkFit) -> list[PolesAndZeros]:
    """The same poles, and those of the usual shape, all with the same zeros."""
    poles = like.poles / groups.unit
    zeros = like.zeros / groups.unit
    found = [PolesAndZeros(poles, zeros, 1.0, 0.0, 0.0)]
    if poles.size <= HANDMADE_UP_TO:
        found += [replace(guess, zeros=zeros) for guess in _usual(groups, poles.size)]
    return found


def _usual(groups: Groups, count: int) -> list[PolesAndZeros]:
    """A pair as sharp as the peak is, the other poles beside it; or all of them where the curve has left its highest
    level."""
    size, omega, none = np.abs(groups.gain), groups.s.imag, np.zeros(0, dtype=complex)
    found = []
    top = int(np.argmax(size))
    wide = np.flatnonzero(size > size[top] / np.sqrt(2))
    edges = [int(edge) for edge in (wide[0], wide[-1]) if 0 < edge < size.size - 1]
    for edge in edges:
        # Where so many equal poles stand when the curve is 3 dB down here.
        away = float(np.sqrt(2 ** (1 / count) - 1))
        place = omega[edge] / away if edge == wide[-1] else omega[edge] * away
        found.append(PolesAndZeros(np.full(count, -place + 0j), none, 1.0, 0.0, 0.0))
        if count == TAPPED:
            # A tap between its stages has two zeros, which undo nearly two of the poles while hardly any is fed back.
            place = omega[edge] / TWO_AWAY if edge == wide[-1] else omega[edge] * TWO_AWAY
            at_rest = [0.0, 0.0] if edge == wide[0] else []
            found.append(PolesAndZeros(place * np.array([-1 + FED_BACK, -1 + np.conj(FED_BACK), -1 - FED_BACK,
                                                         -1 - np.conj(FED_BACK)]),
                                       np.array([-place, -place, *at_rest], dtype=complex), 1.0, 0.0, 0.0))
    below = size[: wide[-1] // 2 + 1]
    if count == CHAIN.size and edges == [wide[-1]] and np.percentile(below, 90) < LEVEL * np.median(below):
        # Stages that load each other, of which hardly anything is fed back: the lowest alone makes the edge.
        found.append(PolesAndZeros(-omega[wide[-1]] * CHAIN + 0j, none, 1.0, 0.0, 0.0))
    if count > 1 and 0 < top < size.size - 1:
        left, right = top, top
        while left > 0 and size[left] > size[top] / np.sqrt(2):
            left -= 1
        while right < size.size - 1 and size[right] > size[top] / np.sqrt(2):
            right += 1
        half = 0.5 * (omega[right] - omega[left])
        pair = complex(-min(half, omega[top]), omega[top])
        others = np.full(count - 2, -omega[top] + 0j)
        found.append(PolesAndZeros(np.array([pair, pair.conjugate(), *others]), none, 1.0, 0.0, 0.0))
        if count == TAPPED:
            # Where four equal stages are fed back their common place lies as far below the axis as the pair is from it
            # and from the real one together, and the other pair beyond it; a tap between them has its zeros there.
            place = abs(pair.real) + pair.imag
            other = complex(-2 * place - pair.real, pair.imag)
            at_rest = [0.0, 0.0] if _rise(groups) > FALLS else []
            found.append(PolesAndZeros(np.array([pair, pair.conjugate(), other, other.conjugate()]),
                                       np.array([-place, -place, *at_rest], dtype=complex), 1.0, 0.0, 0.0))
    return found


def candidates_of(start: PolesAndZeros, groups: Groups) -> list[tuple[Order, FloatArray]]:
    """From the simplest on: no zeros but those at 0 that the slope at the low end tells of; then those within reach of
    the band as well, the others being part of the gain or at 0."""
    low, high, rise = abs(groups.s[0]), abs(groups.s[-1]), _rise(groups)
    none = np.zeros(0, dtype=complex)
    rests = sorted(range(start.poles.size + 1), key=lambda rest: abs(rest - rise))[:MOST_RESTS]
    found = [(none, rest) for rest in rests]
    for reach in (1.0, OUTSIDE):
        inside = (np.abs(start.zeros) > low / reach) & (np.abs(start.zeros) < high * reach)
        zeros, near = start.zeros[inside], int(np.sum(np.abs(start.zeros) <= low / reach))
        if zeros.size and not any(zeros.size == kept.size and near == rest for kept, rest in found):
            found.append((zeros, near))
    return [with_gain_and_delay(start.poles, zeros, rest, groups) for zeros, rest in found]


def _rise(groups: Groups) -> float:
    """By which power of the frequency a curve rises where it is first heard."""
    clear = np.flatnonzero(np.abs(groups.gain) > 10 * groups.deviation)
    size = max(clear.size // 12, 4)
    if clear.size <= size:
        return 0.0
    first = clear[:size]
    return float(np.polyfit(np.log(np.abs(groups.s[first])), np.log(np.abs(groups.gain[first])), 1)[0])


def with_gain_and_delay(
    poles: ComplexArray, zeros: ComplexArray, rest: int, groups: Groups
) -> tuple[Order, FloatArray]:
    """Of many delays the one that turns the network most nearly into what was measured."""
    order = Order(poles.size, zeros.size, rest)
    values = np.concatenate([np.log(np.maximum(np.abs(factors_of(poles)), 1e-12)), factors_of(zeros), [1.0, 0.0]])
    omega = np.ascontiguousarray(groups.s.imag)
    bare = product(values, order, omega)
    heard = np.abs(groups.gain) / groups.deviation
    # Everything that stands clear of the noise counts alike: a peak alone would tell the delay but for whole periods.
    weight = np.minimum(heard, 30.0) ** 2 / np.maximum(np.abs(groups.gain) * np.abs(bare), 1e-300)
    turn = weight * groups.gain * np.conj(bare)
    swing = float(np.sqrt(np.sum(np.abs(turn) * omega**2) / np.sum(np.abs(turn))))
    step = 0.5 / swing
    values[-1] = step * (int(np.argmax(np.abs(turned_back(turn, omega, step, DELAYS)))) - DELAYS)
    model = bare * np.exp(-groups.s * values[-1])
    per = 1 / groups.deviation**2
    values[-2] = float(np.sum(per * np.real(np.conj(model) * groups.gain)) / np.sum(per * np.abs(model) ** 2))
    return order, values
