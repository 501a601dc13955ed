"""One family fitted to curves at their levels.

What is too soft to bend tells where the poles lie; what is bent tells what bends it. So cutoff, gain and mismatch are
fitted by the linear response, put right by what bending does to it at each level, and headrooms by the first harmonic
of the settled filter, in turn until both stand still."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy

from jiyuu.arrays import FloatArray
from jiyuu.character.families import Family, stable_gain
from jiyuu.character.level_curves import Samples
from jiyuu.circuits.linear import onset
from jiyuu.errors import CircuitError
from jiyuu.simulation.level_response import LevelResponse, level_response
from jiyuu.simulation.oscillation import oscillation

FLOOR_DB = 0.003  # that a sweep leaves of what a settled tone would say
COUPLED_HZ = 10.0
BENT_SHARE = 0.01  # of what bending does to a curve, by which a sweep may differ from settled tones
SWEPT_SHARE = 0.3  # of that, where the sweep itself was asked
LEANT_ON = (0.5, 0.25, 0.1)  # of it, turn by turn, while what it does is not known well
HALVINGS = 4
STRETCH_OCTAVES = 0.5
STILL = 2e-5  # octaves of cutoff, and share of the gain, when it stands still
NUDGE = 0.02  # octaves of a headroom
WHISTLE_PAST = np.geomspace(0.005, 1.5, 8)  # share past the onset, that a whistle may have been recorded at
WHISTLE_CENTS, WHISTLE_THD, WHISTLE_LEVEL = 10.0, 0.15, 0.05  # standard deviations; the latter two of logarithms
HEADROOM_NUDGE = 0.1  # octaves
WORST = 200.0  # that a whistle may speak against a family


@dataclass(frozen=True, slots=True)
class Whistle:
    """A recorded self-oscillation: its pitch, peak volts of its fundamental, distortion."""

    frequency_hz: float
    fundamental_v: float
    thd_percent: float


@dataclass(frozen=True, slots=True, eq=False)
class Fit:
    """values: of family.free; score: the criterion, less is better; covariance of the values where it was looked for;
    still: whether the last turn moved them no more; bent: what bends there at each curve, where that is known; near:
    the same at numbers that hardly differ, to begin from."""

    family: Family
    values: FloatArray
    score: float
    covariance: FloatArray | None = None
    still: bool = False
    bent: tuple[Bent, ...] | None = None
    near: tuple[Bent, ...] | None = None

    def bends(self, curves: Sequence[Samples]) -> list[Bent]:
        """At each curve."""
        near = self.bent or self.near or [None] * len(curves)
        return [what_bends(self.family, self.values, curve, one) for curve, one in zip(curves, near, strict=True)]


def linear_fit(
    family: Family, values: FloatArray, which: Sequence[int], curves: Sequence[Samples],
    bent_db: Sequence[FloatArray], spread_db: Sequence[FloatArray], steps: int = 2,
) -> FloatArray:
    """values with those of `which` moved by Gauss and Newton towards the curves less what bending does to them."""
    free = family.free
    hertz = np.concatenate([curve.hertz for curve in curves])
    wanted = np.concatenate([curve.level_db - bent for curve, bent in zip(curves, bent_db, strict=True)])
    spread = np.concatenate([*spread_db])
    ends = np.cumsum([curve.hertz.size for curve in curves])[:-1]
    known = [i for i in which if np.isfinite(free[i].deviation)]

    def residual(at: FloatArray) -> FloatArray:
        left = (family.built(at).linear_db(hertz) - wanted) / spread
        left = np.clip(np.nan_to_num(left, nan=1e4), -1e5, 1e5)
        parts = [less_coupling(curve.hertz, own, part) for curve, own, part in zip(
            curves, spread_db, np.split(left, ends), strict=True)]
        return np.concatenate([*parts, [(at[i] - free[i].start) / free[i].deviation for i in known]])

    here = residual(values)
    for _ in range(steps):
        slopes = np.empty((here.size, len(which)))
        for column, i in enumerate(which):
            nudge = 1e-5 * (family.onset_gain if free[i].name == "gain" else 1.0)
            nudge = -nudge if values[i] + nudge > free[i].high else nudge
            slopes[:, column] = (residual(moved_to(family, values, [i], [values[i] + nudge])) - here) / nudge
        step = newton_step(family, values, which, slopes, here)
        for halving in range(HALVINGS):
            moved = moved_to(family, values, which, values[which] + step / 2**halving)
            there = residual(moved)
            if np.sum(there**2) < np.sum(here**2):
                gone = np.sum(here**2) - np.sum(there**2)
                values, here = moved, there
                break
        else:
            break
        if gone < 1e-6 * np.sum(here**2):
            break
    return values


def newton_step(
    family: Family, values: FloatArray, which: Sequence[int], slopes: FloatArray, here: FloatArray
) -> FloatArray:
    """Gauss and Newton's, for those of `which`; what stands at its limit and would pass it stays there, and the others
    go where they then must."""
    held: set[int] = set()
    while True:
        loose = [column for column in range(len(which)) if column not in held]
        step = np.zeros(len(which))
        step[loose] = np.linalg.lstsq(slopes[:, loose], -here, rcond=1e-12)[0]
        wanted = values[[*which]] + step
        reached = moved_to(family, values, which, wanted)[[*which]]
        stuck = {column for column in loose if reached[column] != wanted[column]
                 and abs(reached[column] - values[which[column]]) < 1e-9}
        if not stuck:
            return np.asarray(reached - values[[*which]])  # what would pass its limit goes there and no farther
        held |= stuck


def moved_to(family: Family, values: FloatArray, which: Sequence[int], to: FloatArray | Sequence[float]) -> FloatArray:
    """values with some of them elsewhere, within their limits."""
    moved = values.copy()
    for i, value in zip(which, to, strict=True):
        moved[i] = min(max(value, family.free[i].low), family.free[i].high)
    return moved


def driven(
    family: Family, values: FloatArray, hertz: FloatArray, level_v: float, near: LevelResponse | None = None
) -> LevelResponse | None:
    """At a level, from one that hardly differs where there is one; None on the very edge of whistling."""
    built = family.built(values)
    try:
        return level_response(built.network, hertz, cutoff_hz=built.cutoff_hz, gain=built.gain, level_v=level_v,
                              modes=[built.mode], near=near)
    except CircuitError:
        return None


def driven_db(family: Family, values: FloatArray, hertz: FloatArray, found: LevelResponse | None) -> FloatArray:
    """(n,) level of the first harmonic; NaN where it does not settle."""
    if found is None:
        return np.full(hertz.size, np.nan)
    level = 20 * np.log10(np.maximum(np.abs(found.gain[0]), 1e-20)) + family.built(values).level_db
    level[~found.settled] = np.nan
    return np.asarray(level)


@dataclass(frozen=True, slots=True, eq=False)
class Bent:
    """What bending does to a curve at its level: db (m,), and by how much that may be off (m,); to its phase: rad (m,)
    and off_rad (m,); found: the filter that it was read from; swept: whether a sweep was asked as well."""

    db: FloatArray
    off_db: FloatArray
    found: LevelResponse | None
    rad: FloatArray
    off_rad: FloatArray
    swept: bool = False

    def leant(self, share: float) -> float:
        """The part of `share` by which a sweep may still differ."""
        return share * (SWEPT_SHARE if self.swept else 1.0)


def what_bends(family: Family, values: FloatArray, curve: Samples, near: Bent | None = None) -> Bent:
    """Of a family at one level; near: at numbers that hardly differ."""
    hertz = curve.hertz[curve.nodes]
    found = driven(family, values, hertz, curve.level_v, near.found if near is not None else None)
    bent_db = driven_db(family, values, hertz, found) - family.built(values).linear_db(hertz)
    bent_rad = np.full(hertz.size, np.nan)
    if found is not None:
        bent_rad = np.where(found.settled, np.angle(found.gain[0] / family.built(values).linear(hertz)), np.nan)
    return Bent(*curve.between(bent_db), found, *curve.between(bent_rad))


def spread_db(curve: Samples, bent: Bent, share: float) -> FloatArray:
    leant = bent.leant(share) * np.nan_to_num(bent.db, nan=3.0)
    off = np.nan_to_num(bent.off_db, nan=3.0, posinf=3.0)
    return np.asarray(np.sqrt(curve.deviation_db**2 + FLOOR_DB**2 + leant**2 + off**2))


def turned(fit: Fit, curves: Sequence[Samples], turn: int) -> Fit:
    """One turn; score: of where it began."""
    leant = LEANT_ON[min(turn, len(LEANT_ON) - 1)]
    family, values = fit.family, fit.values
    bent = fit.bends(curves)
    score = score_of(family, values, curves, bent)
    linear = [i for i, free in enumerate(family.free) if not free.bends]
    moved, loudest = _headrooms(family, values, curves, bent)
    moved = stable_gain(family, linear_fit(
        family, moved, linear, curves, [np.nan_to_num(one.db) for one in bent],
        [spread_db(curve, one, leant) for curve, one in zip(curves, bent, strict=True)]))
    apart = np.abs(moved - values)
    still = (turn + 1 >= len(LEANT_ON) and apart[0] < STILL and apart[1] < STILL * family.onset_gain
             and apart[-1] < NUDGE / 4)
    return Fit(family, moved, score, still=bool(still), near=(*bent[:-1], loudest))


def left_of(
    family: Family, values: FloatArray, curve: Samples, bent: Bent, share: float = BENT_SHARE
) -> FloatArray:
    """(m,) what is left of a curve, in standard deviations."""
    apart = family.built(values).linear_db(curve.hertz) + bent.db - curve.level_db
    spread = spread_db(curve, bent, share)
    return less_coupling(curve.hertz, spread, np.nan_to_num(apart / spread, nan=30.0))


def less_coupling(hertz: FloatArray, spread: FloatArray, left: FloatArray) -> FloatArray:
    """(m,) or (m, p) in standard deviations, with what the coupling of an interface may take off the lowest octaves
    counted among what is not known: a capacitor's corner somewhere about COUPLED_HZ or below."""
    shape = 10 / np.log(10) * (COUPLED_HZ / hertz) ** 2 / spread
    size = float(shape @ shape)
    if size < 1e-12:
        return left
    held = (1 - 1 / np.sqrt(1 + size)) / size
    return np.asarray(left - np.multiply.outer(shape, held * (shape @ left)))


def _prior(family: Family, values: FloatArray) -> FloatArray:
    """What values differ by from what is known beforehand, in standard deviations."""
    return np.array([(value - free.start) / free.deviation
                     for free, value in zip(family.free, values, strict=True) if np.isfinite(free.deviation)])


def residual_of(
    family: Family, values: FloatArray, curves: Sequence[Samples], *, bent: Sequence[Bent] | None = None,
    share: float = BENT_SHARE,
) -> FloatArray:
    known = [what_bends(family, values, curve) for curve in curves] if bent is None else bent
    parts = [left_of(family, values, curve, one, share) for curve, one in zip(curves, known, strict=True)]
    return np.concatenate([*parts, _prior(family, values)])


def _headrooms(
    family: Family, values: FloatArray, curves: Sequence[Samples], bent: Sequence[Bent]
) -> tuple[FloatArray, Bent]:
    """One step of Gauss and Newton in what bends, shortened until it helps; by the loudest curve, which tells most; and
    what bends that one there."""
    bends = [i for i, free in enumerate(family.free) if free.bends]
    curve, here_bent = curves[-1], bent[-1]
    if not bends:
        return values, here_bent

    def residual(at: FloatArray, bent_there: Bent) -> FloatArray:
        return np.concatenate([left_of(family, at, curve, bent_there), _prior(family, at)])

    here = residual(values, here_bent)
    slopes = np.empty((here.size, len(bends)))
    for column, i in enumerate(bends):
        nudged = moved_to(family, values, [i], [values[i] + NUDGE])
        slopes[:, column] = (residual(nudged, what_bends(family, nudged, curve, here_bent)) - here) / NUDGE
    step = np.clip(newton_step(family, values, bends, slopes, here), -1.5, 1.5)
    for halving in range(HALVINGS):
        moved = moved_to(family, values, bends, values[bends] + step / 2**halving)
        bent_there = what_bends(family, moved, curve, here_bent)
        if np.sum(residual(moved, bent_there) ** 2) < np.sum(here**2):
            return moved, bent_there
    return values, here_bent


def score_of(
    family: Family, values: FloatArray, curves: Sequence[Samples], bent: Sequence[Bent] | None = None
) -> float:
    left = residual_of(family, values, curves, bent=bent)
    points = sum(curve.hertz.size for curve in curves)
    return float(np.sum(left**2) + len(family.free) * np.log(points))


def roughly_left_db(fit: Fit, curves: Sequence[Samples]) -> float:
    """RMS that it leaves of all curves, wherever that is."""
    left = [fit.family.built(fit.values).linear_db(curve.hertz) + bent.db - curve.level_db
            for curve, bent in zip(curves, fit.bends(curves), strict=True)]
    return float(np.sqrt(np.nanmean(np.concatenate(left) ** 2)))


def excess(family: Family, score: float, curves: Sequence[Samples]) -> float:
    """By how much a fit's sum of squares is more than its number of points; at least 1."""
    points = sum(curve.hertz.size for curve in curves)
    return max(1.0, (score - len(family.free) * float(np.log(points))) / points)


def less_where_none_fits(fits: Sequence[Fit], curves: Sequence[Samples]) -> list[Fit]:
    """Scores in which a stretch of a curve that not even the best there explains tells less: what a sweep shows
    otherwise than any family goes the same way over many points, and speaks for none of them."""
    known = [fit for fit in fits if fit.bent is not None]
    less = np.zeros(len(known))
    for c, curve in enumerate(curves):
        _, stretch = np.unique(np.floor(np.log2(curve.hertz) / STRETCH_OCTAVES), return_inverse=True)
        squares = [left_of(fit.family, fit.values, curve, fit.bent[c]) ** 2 for fit in known if fit.bent is not None]
        sums = np.array([np.bincount(stretch, weights=one) for one in squares])
        doubt = np.maximum(sums.min(axis=0) / np.bincount(stretch), 1.0)
        less += (sums * (1 - 1 / doubt)).sum(axis=1)
    lower = {id(fit): replace(fit, score=fit.score - float(by)) for fit, by in zip(known, less, strict=True)}
    return [lower.get(id(fit), fit) for fit in fits]


def whistle_misfit(fit: Fit, whistle: Whistle) -> float:
    """What a whistle adds to a score, χ² of its pitch, level and distortion. The resonance it was recorded at is not
    known: the one that explains it best. What is not known of the headrooms is not held against the family: a soft
    sweep hardly tells them, and all of a whistle's volts follow from them."""
    family, values = fit.family, fit.values
    here = _whistles(family, values)
    if here is None:
        return WORST
    heard = np.array([1200 * np.log2(whistle.frequency_hz), np.log(max(whistle.thd_percent, 1e-4)),
                      np.log(max(whistle.fundamental_v, 1e-9))])
    spread = np.array([WHISTLE_CENTS, WHISTLE_THD, WHISTLE_LEVEL])
    left = here - heard
    covariance = np.broadcast_to(np.diag(spread**2), (left.shape[0], 3, 3)).copy()
    bends = [i for i, free in enumerate(family.free) if free.bends]
    # All headrooms an octave higher: the same whistle, an octave of volts louder. So the last one's slope is the rest.
    rest = np.broadcast_to(np.array([0.0, 0.0, np.log(2)]), left.shape)
    for i in bends:
        slope = rest
        if i != bends[-1]:
            moved = _whistles(family, moved_to(family, values, [i], [values[i] - HEADROOM_NUDGE]))
            slope = rest if moved is None else (here - moved) / HEADROOM_NUDGE
            rest = rest - slope
        free = family.free[i]
        known = free.deviation if fit.covariance is None else min(float(np.sqrt(fit.covariance[i, i])), free.deviation)
        covariance += known**2 * slope[:, :, np.newaxis] * slope[:, np.newaxis, :]
    misfit = np.einsum("si,si->s", left, np.linalg.solve(covariance, left[:, :, np.newaxis])[:, :, 0])
    return float(min(np.nanmin(misfit), WORST)) if np.isfinite(misfit).any() else WORST


def _whistles(family: Family, values: FloatArray) -> FloatArray | None:
    """(s, 3) pitch in cents, logarithms of distortion and of volts at resonances past the onset, close together; None
    where it does not whistle."""
    built = family.built(values)
    begins = onset(built.network, cutoff_hz=built.cutoff_hz)
    if begins is None:
        return None
    found = np.full((WHISTLE_PAST.size, 3), np.nan)
    for i, past in enumerate(WHISTLE_PAST):
        try:
            tone = oscillation(built.network, built.mode, cutoff_hz=built.cutoff_hz,
                               gain=float((1 + past) * begins.gain))
        except CircuitError:
            continue
        if tone is not None:
            found[i] = (1200 * np.log2(tone.frequency_hz), np.log(max(tone.thd_percent, 1e-4)),
                        np.log(tone.fundamental_v) + built.level_db * np.log(10) / 20)
    known = np.isfinite(found).all(axis=1)
    if known.sum() < 2:
        return None
    place, close = np.log(WHISTLE_PAST), np.log(np.geomspace(WHISTLE_PAST[0], WHISTLE_PAST[-1], 161))
    return np.asarray(scipy.interpolate.PchipInterpolator(place[known], found[known], extrapolate=False)(close))
