"""How likely a network is, and with what less it tells as much: by the least information criterion (Schwarz 1978,
Annals of Statistics)."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.bin_groups import Groups
from jiyuu.measurement.factors import factors_of, roots_of
from jiyuu.measurement.network_fit import NetworkFit, Order, by_coefficients, settled
from jiyuu.measurement.network_guesses import with_gain_and_delay

SEEMS, CLEAR = 10.0, 3.0  # of χ², beyond what Schwarz asks of a zero; deviations
EASED = (3e-2, 1e-3)  # shares of the loudest that count as noise at first
EASED_STEPS = 12
BY_COEFFICIENTS, GAINS = 100, 1e-3  # steps; share of what is left that each must gain
UNDER, COUPLED = 1.5, 1.4  # re the low end of the band: where such zeros stand, and a capacitor's pole to begin with


def simplest(groups: Groups, fit: NetworkFit) -> tuple[NetworkFit, float]:
    """With what can be missed taken out, one after the other, and its score: a pole that a zero undoes, and a pole so
    far beyond the band that it only adds to the delay."""
    score = score_of(groups, fit)
    while True:
        tries = [settled(groups, order, values) for order, values in _lesser(fit, groups)]
        lesser = [(score_of(groups, one), one) for one in tries if one is not None]
        so_good, best = min(lesser, key=lambda one: one[0], default=(np.inf, fit))
        if so_good > score:
            return fit, score
        fit, score = best, score_of(groups, best)


def left_as_noise(groups: Groups, fit: NetworkFit) -> bool:
    """Whether what is left over is what the noise would leave: χ² within four of its standard deviations."""
    return fit.left**2 < 1 + 4 * float(np.sqrt(2 / groups.freedom(fit.order.values)))


def score_of(groups: Groups, fit: NetworkFit) -> float:
    """Schwarz's criterion, per freedom so that groups of other widths compare, and what zeros where nothing is heard
    have to tell beyond it."""
    asked = fit.order.values * np.log(2 * groups.gain.size) + SEEMS * _unheard(groups, fit)
    return float(fit.left**2 + asked / groups.freedom(fit.order.values))


def _unheard(groups: Groups, fit: NetworkFit) -> int:
    """Zeros above all that stands clear of the noise: hardly a filter has one there, noise now and then looks as if,
    and what it turns below it takes from the delay."""
    heard = np.flatnonzero(np.abs(groups.gain) > CLEAR * groups.deviation)
    top = np.abs(groups.s[heard[-1]]) if heard.size else 0.0
    return int(np.sum(np.abs(roots_of(fit.values[fit.order.poles : fit.order.poles + fit.order.zeros])) > top))


def coupled(groups: Groups, fit: NetworkFit) -> NetworkFit:
    """Zeros that stand under the band mimic, as far as can be seen from above, the pole of a coupling capacitor beside
    zeros at 0: these instead, where they tell as much with less."""
    low = abs(groups.s[0])
    zeros = roots_of(fit.values[fit.order.poles : fit.order.poles + fit.order.zeros])
    under = np.abs(zeros) < UNDER * low
    if not under.any():
        return fit
    poles = np.append(fit.poles / fit.unit, -COUPLED * low)
    other = _nearer(groups, *with_gain_and_delay(
        poles, zeros[~under], fit.order.at_rest + int(under.sum()) + 1, groups))
    if other is None:
        return fit
    other, score = simplest(groups, other)
    return other if score < score_of(groups, fit) else fit


def freed(groups: Groups, fit: NetworkFit) -> NetworkFit | None:
    """With its zeros at 0 let go: parts that are not alike leave those of a mix of stages beside it, on either side."""
    poles, zeros = fit.poles / fit.unit, fit.zeros / fit.unit
    order = Order(fit.order.poles, fit.order.zeros + fit.order.at_rest, 0, fit.order.clocked)
    free = factors_of(np.append(zeros, np.zeros(fit.order.at_rest)))
    return _nearer(groups, order, np.concatenate([
        fit.values[: poles.size], free, fit.values[poles.size + zeros.size :]]))


def _nearer(groups: Groups, order: Order, values: FloatArray) -> NetworkFit | None:
    """Step by step to all that the noise leaves, and then by coefficients."""
    found: NetworkFit | None = None
    for ease in (*EASED, 0.0):
        found = settled(groups, order, values, ease=ease, steps=EASED_STEPS)
        if found is None:
            return None
        order, values = found.order, found.values
    assert found is not None
    return by_coefficients(groups, found, steps=BY_COEFFICIENTS, still=GAINS)


def _lesser(fit: NetworkFit, groups: Groups) -> list[tuple[Order, FloatArray]]:
    poles, zeros = fit.poles / fit.unit, roots_of(fit.values[fit.order.poles : fit.order.poles + fit.order.zeros])
    gain, delay = fit.values[-2:]
    order = fit.order
    found = []

    def shorter(poles: ComplexArray, zeros: ComplexArray, rest: int, gain: float, later: float = 0.0) -> None:
        if poles.size:
            below = np.log(np.maximum(np.abs(factors_of(poles)), 1e-300))
            values = np.concatenate([below, factors_of(zeros), [gain, delay + later]])
            found.append((Order(poles.size, zeros.size, rest), values))

    real = np.flatnonzero(poles.imag == 0)
    if real.size:
        lowest, highest = real[np.argmin(np.abs(poles[real]))], real[np.argmax(np.abs(poles[real]))]
        if order.at_rest and abs(poles[lowest]) < abs(groups.s[0]):
            shorter(np.delete(poles, lowest), zeros, order.at_rest - 1, gain)
        if abs(poles[highest]) > 0.5 * abs(groups.s[-1]):
            shorter(np.delete(poles, highest), zeros, order.at_rest, gain / abs(poles[highest]))
        for place in np.flatnonzero(zeros.imag == 0):
            nearest = real[np.argmin(np.abs(poles[real] - zeros[place]))]
            shorter(np.delete(poles, nearest), np.delete(zeros, place), order.at_rest, gain)
    places = np.abs(zeros)
    if zeros.size:
        farthest, closest = int(np.argmax(places)), int(np.argmin(places))
        kept, gone = _without(zeros, farthest)
        # Far off a zero is a gain and a little delay.
        shorter(poles, kept, order.at_rest, gain * float(np.real(np.prod(-gone))), _late(gone))
        if kept.size:  # where several lie where nothing is heard they are missed together or not at all
            shorter(poles, kept[:0], order.at_rest, gain * float(np.real(np.prod(-zeros))), _late(zeros))
        kept, gone = _without(zeros, closest)
        shorter(poles, kept, order.at_rest + gone.size, gain)
    if zeros.size > 1 and poles.size > 2:
        upper, above = np.flatnonzero(poles.imag > 0), np.flatnonzero(zeros.imag > 0)
        if upper.size and above.size:
            apart = np.abs(poles[upper][:, np.newaxis] - zeros[above]) / np.abs(poles[upper])[:, np.newaxis]
            i, j = np.unravel_index(int(np.argmin(apart)), apart.shape)
            pole, zero = poles[upper[i]], zeros[above[j]]
            shorter(poles[np.abs(poles.real - pole.real) + np.abs(np.abs(poles.imag) - abs(pole.imag)) > 1e-12],
                    zeros[np.abs(zeros.real - zero.real) + np.abs(np.abs(zeros.imag) - abs(zero.imag)) > 1e-12],
                    order.at_rest, gain)
    return found


def _late(zeros: ComplexArray) -> float:
    """The delay that zeros are far below them."""
    return float(np.sum(zeros.real / np.maximum(np.abs(zeros) ** 2, 1e-300)))


def _without(zeros: ComplexArray, place: int) -> tuple[ComplexArray, ComplexArray]:
    """(the others, the one at that place with its other half)."""
    gone = np.zeros(zeros.size, dtype=bool)
    gone[place] = True
    if zeros[place].imag:
        gone[int(np.argmin(np.abs(zeros - np.conj(zeros[place]))))] = True
    return zeros[~gone], zeros[gone]
