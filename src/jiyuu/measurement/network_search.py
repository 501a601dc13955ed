"""Which network lies behind a spectrum: how many poles, which zeros, and values near enough to be settled. The simplest
that leaves no more than the noise comes first."""

from __future__ import annotations

import numpy as np

from jiyuu.measurement.bin_groups import Groups, Spectrum
from jiyuu.measurement.network_fit import NetworkFit, Order, by_coefficients, left_by, settled, with_spread
from jiyuu.measurement.network_guesses import (
    HANDMADE_UP_TO,
    TAPPED,
    candidates_of,
    guesses_alike,
    guesses_of,
    with_gain_and_delay,
)
from jiyuu.measurement.network_less import (
    BY_COEFFICIENTS,
    EASED,
    EASED_STEPS,
    GAINS,
    coupled,
    freed,
    left_as_noise,
    score_of,
    simplest,
)
from jiyuu.measurement.rational_fit import PolesAndZeros

USUAL_FIRST = (2, 4, 1, 3, 5, 6, 7, 8)  # numbers of poles, as they are tried
NO_BETTER = 0.7  # share of the misfit that more poles must leave to be worth a search
CLEARLY_LESS = 4.0  # of χ²
MORE_IN_VAIN = 2  # poles added without telling more
FEWEST_BINS = 30
FIRST_STEPS, MORE_STEPS = 4, 100
LEFT_BEHIND = 4.0
TOO_FEW = 3.0  # what a network may leave at first and still come to something
LIKELY = 0.5  # and by then what is likely enough
MOST_TRIED = 5
SLOWLY = 3e-4  # share of what is left that a step must gain in a flat valley
SMALLER = (1.0, 0.3, 0.1, 0.03, 0.01)  # shares of a step
HOPELESS = 50.0  # what a network leaves, so that no more steps are worth while
WORTH = 2.0  # a network that leaves more is not made better by leaving parts of it out


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
        fits = _fits(spectrum, groups, guesses_alike(groups, like), like.order)
        return with_spread(*fits[0]) if fits else None
    best: tuple[float, Groups, NetworkFit] | None = None
    least = np.inf
    for count, guess in _in_turn(known):
        if best is not None and count > max(best[2].order.poles, 4) + MORE_IN_VAIN:
            break
        guesses = guesses_of(groups, count) if guess is None else [guess]
        found_left = min((guess.left for guess in guesses if guess.left), default=np.inf)
        if count > HANDMADE_UP_TO and found_left > NO_BETTER * least:
            continue  # more poles do not explain it either
        least = min(least, found_left)
        likely: list[tuple[Groups, NetworkFit]] = []
        for mine, fit in _fits(spectrum, groups, guesses):
            if any((one.order.poles, one.order.zeros) == (fit.order.poles, fit.order.zeros) for _, one in likely):
                continue
            found, score = simplest(mine, fit) if fit.left < WORTH else (fit, score_of(mine, fit))
            if best is None or score < best[0]:
                best = score, mine, found
            if left_as_noise(mine, found):
                likely.append((mine, found))
        if likely:
            likeliest = _likeliest_of(likely)
            return with_spread(likeliest[0], coupled(*likeliest))
        if best is not None and best[2].order.poles == count and best[2].order.at_rest:
            free = freed(*best[1:])
            if free is not None and free.left < WORTH:
                free, score = simplest(best[1], free)
                if score < best[0]:
                    best = score, best[1], free
                if left_as_noise(*best[1:]):
                    return with_spread(best[1], coupled(*best[1:]))
    return None if best is None else with_spread(best[1], coupled(*best[1:]))


def _likeliest_of(likely: list[tuple[Groups, NetworkFit]]) -> tuple[Groups, NetworkFit]:
    """Of those that leave no more than the noise, all by the same groups: what each leaves of its own does not
    compare."""
    common = max((mine for mine, _ in likely), key=lambda mine: mine.gain.size)
    return min(likely, key=lambda one: score_of(common, left_by(common, one[1])))


def with_one_more(spectrum: Spectrum, fit: NetworkFit) -> NetworkFit:
    """The same, or a network of one pole more where that leaves clearly less, though not by so much that the simpler
    one would not be the likelier: most filters have an even number, and what a pole less foretells of theirs beside
    noise may be far off."""
    groups = Groups.of(spectrum, fit.unit)
    found = _fits(spectrum, groups, guesses_of(groups, fit.order.poles + 1))
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
        candidates = candidates_of(guess, mine) if alike is None else [
            with_gain_and_delay(guess.poles, guess.zeros, alike.at_rest, mine)]
        for order, values in candidates:
            fit = settled(mine, order, values, ease=EASED[0], steps=FIRST_STEPS)
            if fit is not None:
                begun.append((mine, fit))
    most = MOST_TRIED if len(guesses[-1].poles) < 5 else 2
    found = [_nearer(spectrum, groups.unit, fit) for fit in _likeliest(begun, most)]
    return sorted((one for one in found if one is not None), key=lambda one: score_of(*one))


def _likeliest(begun: list[tuple[Groups, NetworkFit]], most: int) -> list[NetworkFit]:
    """The simplest of those that come near, and the nearest of all."""
    # Those that come to nothing are far behind by now.
    ahead = max(LEFT_BEHIND * min((fit.left for _, fit in begun), default=0.0), TOO_FEW)
    tried = [settled(mine, early.order, early.values, ease=EASED[0], steps=EASED_STEPS - FIRST_STEPS)
             for mine, early in begun if early.left < ahead]
    near = [fit for fit in tried if fit is not None and fit.left < TOO_FEW]
    least = min((fit.left for fit in near), default=0.0)
    likely = [fit for fit in near if fit.left <= max(2 * least, LIKELY)]
    chosen = sorted(likely, key=lambda fit: (fit.order.values, fit.left))[:most]
    nearest = min(likely, key=lambda fit: fit.left, default=None)
    return chosen if nearest is None or any(fit is nearest for fit in chosen) else [*chosen, nearest]


def _nearer(spectrum: Spectrum, unit: float, fit: NetworkFit) -> tuple[Groups, NetworkFit] | None:
    """Nearer to the noise only step by step: a peak that is missed by its own width tells no direction."""
    closer = Groups.of(spectrum, unit, fit.poles)
    near = settled(closer, fit.order, fit.values, ease=EASED[1], steps=EASED_STEPS)
    if near is None:
        return None
    closer = Groups.of(spectrum, unit, near.poles)
    last = settled(closer, near.order, near.values)
    # Zeros may nearly undo poles, of which it then has four and more.
    if last is not None and last.order.poles >= TAPPED and last.left < HOPELESS and not left_as_noise(closer, last):
        last = settled(closer, last.order, last.values, steps=MORE_STEPS) or last
        last = by_coefficients(closer, last, steps=BY_COEFFICIENTS, shares=SMALLER, still=SLOWLY)
    return None if last is None else (closer, last)
