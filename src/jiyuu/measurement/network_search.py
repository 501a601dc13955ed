"""Which network lies behind a spectrum: how many poles, which zeros, and values near enough to be settled.

Poles and zeros are first found by vector fitting (Gustavsen and Semlyen 1999, IEEE Trans. Power Delivery), beside
filters of the usual shape; of several networks that which has the least information criterion (Schwarz 1978, Annals of
Statistics) is taken, the simplest that leaves no more than the noise first.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.bin_groups import Groups, Spectrum
from jiyuu.measurement.factors import factors_of, roots_of
from jiyuu.measurement.network_fit import (
    NetworkFit,
    Order,
    by_coefficients,
    left_by,
    product,
    settled,
    with_spread,
)
from jiyuu.measurement.rational_fit import PolesAndZeros, fit_poles
from jiyuu.stopping import checkpoint

USUAL_FIRST = (2, 4, 1, 3, 5, 6, 7, 8)  # numbers of poles, as they are tried
HANDMADE_UP_TO = 4  # poles of filters of the usual shape
TAPPED, FED_BACK = 4, 0.2 + 0.2j  # poles; re them, by which feedback moves them apart
CHAIN = np.array([1.0, 8.1, 18.2, 25.3])  # poles of four equal stages that load each other, re the lowest
LEVEL = 1.1  # what nearly all of a passband is no higher than, re what is usual there
TWO_AWAY = float(np.sqrt(np.sqrt(2) - 1))  # re two equal poles, where a curve is 3 dB down
FALLS = 1.0  # poles' worth of slope at the low end of the band, from which on a curve falls towards there
NO_BETTER = 0.7  # share of the misfit that more poles must leave to be worth a search
MOST_RESTS = 3
CLEARLY_LESS = 4.0  # of χ²
SEEMS = 10.0  # of χ², beyond what Schwarz asks of a zero
MORE_IN_VAIN = 2  # poles added without telling more
FEWEST_BINS = 30
OUTSIDE = 4.0  # a zero so far beyond the band may as well be none, or lie at 0
ROUGHLY = 1e-3  # a first guess need not be nearer than this share
EASED = (3e-2, 1e-3)  # shares of the loudest that count as noise at first
FIRST_STEPS, EASED_STEPS, MORE_STEPS = 4, 12, 100
LEFT_BEHIND = 4.0
TOO_FEW = 3.0  # what a network may leave at first and still come to something
LIKELY = 0.5  # and by then what is likely enough
MOST_TRIED = 5
BY_COEFFICIENTS, GAINS = 100, 1e-3  # steps; share of what is left that each must gain
SLOWLY = 3e-4  # the same, in a flat valley
SMALLER = (1.0, 0.3, 0.1, 0.03, 0.01)  # shares of a step
HOPELESS = 50.0  # what a network leaves, so that no more steps are worth while
WORTH = 2.0  # a network that leaves more is not made better by leaving parts of it out
UNDER, COUPLED = 1.5, 1.4  # re the low end of the band: where such zeros stand, and a capacitor's pole to begin with
DELAYS = 100  # tried on either side


def fit_network(
    spectrum: Spectrum, like: NetworkFit | None = None, known: PolesAndZeros | None = None
) -> NetworkFit | None:
    """The simplest network that leaves no more than the noise, else the one that tells most with least; None where
    there are too few bins, or no network comes near. like: of the same circuit set otherwise, for one with as many
    poles and zeros only, which is found much sooner; known: what fits it already, in units of the geometric mean of the
    first and the last bin, to begin with."""
    if spectrum.bins_hz.size < FEWEST_BINS:
        return None
    unit = 2 * np.pi * float(np.sqrt(spectrum.bins_hz[0] * spectrum.bins_hz[-1]))
    groups = Groups.of(spectrum, unit)
    if like is not None:
        fits = _fits(spectrum, groups, _alike(groups, like), like.order)
        return with_spread(*fits[0]) if fits else None
    best: tuple[float, Groups, NetworkFit] | None = None
    least = np.inf
    for count, guess in _in_turn(known):
        if best is not None and count > max(best[2].order.poles, 4) + MORE_IN_VAIN:
            break
        guesses = _guesses(groups, count) if guess is None else [guess]
        found_left = min((guess.left for guess in guesses if guess.left), default=np.inf)
        if count > HANDMADE_UP_TO and found_left > NO_BETTER * least:
            continue  # more poles do not explain it either
        least = min(least, found_left)
        for mine, fit in _fits(spectrum, groups, guesses):
            found, score = _simplest(mine, fit) if fit.left < WORTH else (fit, _score(mine, fit))
            if best is None or score < best[0]:
                best = score, mine, found
            if _as_noise(*best[1:]):
                return with_spread(best[1], _coupled(*best[1:]))
    return None if best is None else with_spread(best[1], _coupled(*best[1:]))


def with_one_more(spectrum: Spectrum, fit: NetworkFit) -> NetworkFit:
    """The same, or a network of one pole more where that leaves clearly less, though not by so much that the simpler
    one would not be the likelier: most filters have an even number, and what a pole less foretells of theirs beside
    noise may be far off."""
    groups = Groups.of(spectrum, fit.unit)
    found = _fits(spectrum, groups, _guesses(groups, fit.order.poles + 1))
    if not found:
        return fit
    mine, more = min(found, key=lambda one: one[1].left)
    squares = fit.left**2 * mine.freedom(fit.order.values) - more.left**2 * mine.freedom(more.order.values)
    return with_spread(mine, more) if squares > CLEARLY_LESS else fit


def _in_turn(known: PolesAndZeros | None) -> list[tuple[int, PolesAndZeros | None]]:
    """Numbers of poles to try one after the other, with what is known already: of more poles than usual it may fit only
    because a delay has been taken for some of them."""
    usual: list[tuple[int, PolesAndZeros | None]] = [(count, None) for count in USUAL_FIRST]
    if known is None:
        return usual
    ahead = 0 if known.poles.size <= HANDMADE_UP_TO else USUAL_FIRST.index(HANDMADE_UP_TO) + 1
    return [*usual[:ahead], (known.poles.size, known), *usual[ahead:]]


def settled_anew(spectrum: Spectrum, near: NetworkFit) -> NetworkFit | None:
    """A network with the poles and zeros of one that is nearly right, by another spectrum of the same band, or by one
    in which rings are heard."""
    groups = Groups.of(spectrum, near.unit, near.poles)
    if groups.rings is not None:
        return with_spread(groups, by_coefficients(groups, left_by(groups, near), steps=MORE_STEPS, shares=SMALLER,
                                                   still=GAINS))
    fit = settled(groups, near.order, near.values)
    return None if fit is None else with_spread(groups, fit)


def _fits(
    spectrum: Spectrum, groups: Groups, guesses: list[PolesAndZeros], alike: Order | None = None
) -> list[tuple[Groups, NetworkFit]]:
    """What the likeliest candidates of all guesses lead to, best first, each with the groups it was found by. alike:
    the only numbers of zeros that come into question."""
    begun: list[tuple[Groups, NetworkFit]] = []
    for guess in guesses:
        mine = Groups.of(spectrum, groups.unit, groups.unit * guess.poles)
        candidates = _candidates(guess, mine) if alike is None else [
            _with_gain_and_delay(guess.poles, guess.zeros, alike.at_rest, mine)]
        for order, values in candidates:
            fit = settled(mine, order, values, ease=EASED[0], steps=FIRST_STEPS)
            if fit is not None:
                begun.append((mine, fit))
    # Those that come to nothing are far behind by now.
    ahead = max(LEFT_BEHIND * min((fit.left for _, fit in begun), default=0.0), TOO_FEW)
    tries: list[tuple[Groups, NetworkFit]] = []
    for mine, early in begun:
        if early.left < ahead:
            fit = settled(mine, early.order, early.values, ease=EASED[0], steps=EASED_STEPS - FIRST_STEPS)
            if fit is not None and fit.left < TOO_FEW:
                tries.append((mine, fit))
    least = min((fit.left for _, fit in tries), default=0.0)
    likely = [(mine, fit) for mine, fit in tries if fit.left <= max(2 * least, LIKELY)]
    found = []
    most = MOST_TRIED if len(guesses[-1].poles) < 5 else 2
    # The simplest of the likely first.
    chosen = sorted(likely, key=lambda one: (one[1].order.values, one[1].left))[:most]
    nearest = min(likely, key=lambda one: one[1].left, default=None)
    if nearest is not None and all(one is not nearest for one in chosen):
        chosen.append(nearest)
    for _, fit in chosen:
        # Nearer to the noise only step by step: a peak that is missed by its own width tells no direction.
        closer = Groups.of(spectrum, groups.unit, fit.poles)
        near = settled(closer, fit.order, fit.values, ease=EASED[1], steps=EASED_STEPS)
        if near is None:
            continue
        closer = Groups.of(spectrum, groups.unit, near.poles)
        last = settled(closer, near.order, near.values)
        if last is not None:
            # Zeros may nearly undo poles, of which it then has four and more.
            if last.order.poles >= TAPPED and last.left < HOPELESS and not _as_noise(closer, last):
                last = settled(closer, last.order, last.values, steps=MORE_STEPS) or last
                last = by_coefficients(closer, last, steps=BY_COEFFICIENTS, shares=SMALLER, still=SLOWLY)
            found.append((closer, last))
    return sorted(found, key=lambda one: _score(*one))


def _alike(groups: Groups, like: NetworkFit) -> list[PolesAndZeros]:
    """The same poles, and those of the usual shape, all with the same zeros."""
    poles = like.poles / groups.unit
    zeros = like.zeros / groups.unit
    found = [PolesAndZeros(poles, zeros, 1.0, 0.0, 0.0)]
    if poles.size <= HANDMADE_UP_TO:
        found += [replace(guess, zeros=zeros) for guess in _usual(groups, poles.size)]
    return found


def _guesses(groups: Groups, count: int) -> list[PolesAndZeros]:
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


def _as_noise(groups: Groups, fit: NetworkFit) -> bool:
    """Whether what is left over is what the noise would leave: χ² within four of its standard deviations."""
    return fit.left**2 < 1 + 4 * float(np.sqrt(2 / groups.freedom(fit.order.values)))


def _score(groups: Groups, fit: NetworkFit) -> float:
    """Schwarz's criterion, per freedom so that groups of other widths compare."""
    freedom = groups.freedom(fit.order.values)
    return float(fit.left**2 + fit.order.values * np.log(2 * groups.gain.size) / freedom)


def _candidates(start: PolesAndZeros, groups: Groups) -> list[tuple[Order, FloatArray]]:
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
    return [_with_gain_and_delay(start.poles, zeros, rest, groups) for zeros, rest in found]


def _rise(groups: Groups) -> float:
    """By which power of the frequency a curve rises where it is first heard."""
    clear = np.flatnonzero(np.abs(groups.gain) > 10 * groups.deviation)
    size = max(clear.size // 12, 4)
    if clear.size <= size:
        return 0.0
    first = clear[:size]
    return float(np.polyfit(np.log(np.abs(groups.s[first])), np.log(np.abs(groups.gain[first])), 1)[0])


def _simplest(groups: Groups, fit: NetworkFit) -> tuple[NetworkFit, float]:
    """With what can be missed taken out, one after the other, and its score: a pole that a zero undoes, and a pole so
    far beyond the band that it only adds to the delay."""
    score = _score(groups, fit)
    while True:
        tries = [settled(groups, order, values) for order, values in _lesser(fit, groups)]
        lesser = [(_score(groups, one) - _by_chance(groups, fit, one), one) for one in tries if one is not None]
        so_good, best = min(lesser, key=lambda one: one[0], default=(np.inf, fit))
        if so_good > score:
            return fit, score
        fit, score = best, _score(groups, best)


def _by_chance(groups: Groups, fit: NetworkFit, lesser: NetworkFit) -> float:
    """By how much more of a score a network may be without a zero beyond the band: hardly a filter has one, noise now
    and then looks as if, and what it turns there it takes from the delay."""
    mine, its = fit.order, lesser.order
    without = (its.poles, its.zeros, its.at_rest) == (mine.poles, mine.zeros - 1, mine.at_rest)
    beyond = without and np.abs(fit.zeros).max() > abs(groups.s[-1]) * fit.unit
    return SEEMS / groups.freedom(mine.values) if beyond and _as_noise(groups, lesser) else 0.0


def _coupled(groups: Groups, fit: NetworkFit) -> NetworkFit:
    """Zeros that stand under the band mimic, as far as can be seen from above, the pole of a coupling capacitor beside
    zeros at 0: these instead, where they tell as much with less."""
    low = abs(groups.s[0])
    zeros = roots_of(fit.values[fit.order.poles : fit.order.poles + fit.order.zeros])
    under = np.abs(zeros) < UNDER * low
    if not under.any():
        return fit
    poles = np.append(fit.poles / fit.unit, -COUPLED * low)
    order, values = _with_gain_and_delay(poles, zeros[~under], fit.order.at_rest + int(under.sum()) + 1, groups)
    other: NetworkFit | None = None
    for ease in (*EASED, 0.0):
        other = settled(groups, order, values, ease=ease, steps=EASED_STEPS)
        if other is None:
            return fit
        order, values = other.order, other.values
    assert other is not None
    other, score = _simplest(groups, by_coefficients(groups, other, steps=BY_COEFFICIENTS, still=GAINS))
    return other if score < _score(groups, fit) else fit


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


def _with_gain_and_delay(
    poles: ComplexArray, zeros: ComplexArray, rest: int, groups: Groups
) -> tuple[Order, FloatArray]:
    """Of many delays the one that turns the network most nearly into what was measured."""
    from jiyuu.measurement.network_kernel import turned_back

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
