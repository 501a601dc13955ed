"""The last steps of a fit: all numbers at once, by level and, where an interface leaves them alone, by phase."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.character.families import Family, stable_gain
from jiyuu.character.family_fit import (
    BENT_SHARE,
    FLOOR_DB,
    NUDGE,
    Bent,
    Fit,
    excess,
    less_coupling,
    moved_to,
    newton_step,
    residual_of,
    score_of,
    spread_db,
    what_bends,
)
from jiyuu.character.level_curves import Samples
from jiyuu.stopping import side_by_side

POLISHED_BY = (0.03, BENT_SHARE)  # of what bending does, trusted ever more
POLISHES, WORTH_A_STEP = 2, 0.1  # steps of each, and by which share one must help for another
DAMPINGS = (0.0, 1e-3, 3e-2, 0.3, 3.0)
FAR = 1.0  # of its deviation, that a number goes and its slopes are looked for again
LEVEL, HARDLY_DB = 2, 0.3  # place of the level among a family's numbers; what a curve bends by, that is next to none
FLOOR_RAD = FLOOR_DB * np.log(10) / 20
LEANS_OCTAVES = 0.25  # over which what a sweep tells otherwise than settled tones goes the same way
AGREES = 1.5  # of what the levels leave, that the phases may leave more


def polished(fit: Fit, curves: Sequence[Samples]) -> Fit:
    """Steps in all numbers at once, first trusting little of what is much bent, until they change nothing; and how well
    each is known."""
    at = _Place.of(fit.family, fit.values, curves)
    slopes = _Slopes.of(at, curves)
    for share in POLISHED_BY:
        begun = at
        at = _stepped(at, curves, slopes, share)
        if _gone_far(begun, at, slopes.covariance(at, curves, share)):
            slopes = _Slopes.of(at, curves)
            at = _stepped(at, curves, slopes, share)
    score = score_of(fit.family, at.values, curves, at.bent)
    more = excess(fit.family, score, curves)
    apart = np.concatenate([_phase_left(at, curve, one, BENT_SHARE) for curve, one in zip(
        curves, at.bent, strict=True)])
    # An interface may turn phases in ways of its own: they count where they agree with the levels, and for no odds.
    phase = float(np.mean(apart**2)) < AGREES * more
    if phase:
        at = _stepped(at, curves, slopes, BENT_SHARE, phase=True)
    covariance = slopes.covariance(at, curves, BENT_SHARE, phase=phase)
    leans = slopes.by_what_leans(at, curves, covariance, phase=phase)
    # Where even the best leaves more than noise would, it is known that much less well.
    return replace(fit, values=at.values, covariance=(covariance + leans) * more, score=score)


@dataclass(frozen=True, slots=True, eq=False)
class _Place:
    """A family at its numbers, and what bends there at each curve's level."""

    family: Family
    values: FloatArray
    bent: tuple[Bent, ...]

    @classmethod
    def of(
        cls, family: Family, values: FloatArray, curves: Sequence[Samples], near: Sequence[Bent] | None = None
    ) -> _Place:
        known = [None] * len(curves) if near is None else near
        pairs = list(zip(curves, known, strict=True))
        return cls(family, values, tuple(side_by_side(lambda pair: what_bends(family, values, *pair), pairs)))


@dataclass(frozen=True, slots=True, eq=False)
class _Phases:
    """How the phases of a curve count: weight (m,), and what latency, polarity and the coupling of an interface make of
    them, which is nobody's filter: theirs (m, 3), orthonormal."""

    weight: FloatArray
    theirs: FloatArray

    @classmethod
    def of(cls, curve: Samples, bent: Bent, share: float) -> _Phases:
        off = np.nan_to_num(np.hypot(share * bent.rad, bent.off_rad), nan=3.0, posinf=3.0)
        weight = np.asarray(1 / np.sqrt(curve.phase_deviation**2 + FLOOR_RAD**2 + off**2))
        place = curve.hertz / curve.hertz[-1]
        basis = np.stack([np.ones(place.size), place, 1 / place], axis=1) * weight[:, np.newaxis]
        return cls(weight, np.linalg.qr(basis)[0])

    def counted(self, apart: FloatArray) -> FloatArray:
        """(m,) or (m, p) radians in standard deviations, less what is nobody's filter."""
        left = np.nan_to_num((apart.T * self.weight).T)
        return np.asarray(left - self.theirs @ (self.theirs.T @ left))


def _phase_left(at: _Place, curve: Samples, bent: Bent, share: float) -> FloatArray:
    """(m,) what is left of a curve's phase, in standard deviations."""
    apart = np.unwrap(np.angle(at.family.built(at.values).linear(curve.hertz))) + bent.rad - curve.phase_rad
    return _Phases.of(curve, bent, share).counted(apart)


@dataclass(frozen=True, slots=True, eq=False)
class _Slopes:
    """What each number does to the level and the phase of each curve: db and rad (m, p). They hardly change over the
    steps that are left, so that they are looked for as seldom as can be."""

    db: tuple[FloatArray, ...]
    rad: tuple[FloatArray, ...]

    @classmethod
    def of(cls, at: _Place, curves: Sequence[Samples]) -> _Slopes:
        family, values = at.family, at.values
        nudges = np.array([1e-4 if free.name in ("cutoff", "level") else 1e-3 if not free.bends else NUDGE / 4
                           for free in family.free])
        nudges[1] = -1e-4 * family.onset_gain  # away from the onset

        def seen(there: FloatArray, curve: Samples, bent: Bent) -> tuple[FloatArray, FloatArray]:
            built = family.built(there)
            return (built.linear_db(curve.hertz) + bent.db,
                    np.unwrap(np.angle(built.linear(curve.hertz))) + bent.rad)

        here = [seen(values, curve, bent) for curve, bent in zip(curves, at.bent, strict=True)]

        def moved_by(i: int) -> list[tuple[FloatArray, FloatArray]]:
            moved = values.copy()
            moved[i] += nudges[i]
            # What hardly bends bends as much when a number is nudged, and a level changes nothing of it.
            return [seen(moved, curve, one if i == LEVEL or np.nanmax(np.abs(one.db), initial=0.0) < HARDLY_DB else
                         what_bends(family, moved, curve, one)) for curve, one in zip(curves, at.bent, strict=True)]

        each = list(side_by_side(moved_by, range(values.size)))
        db, rad = (tuple(np.nan_to_num(np.stack([(one[c][which] - here[c][which]) / nudge for one, nudge in zip(
            each, nudges, strict=True)], axis=1)) for c in range(len(curves))) for which in (0, 1))
        return cls(db, rad)

    def weighed(self, at: _Place, curves: Sequence[Samples], share: float, *, phase: bool) -> FloatArray:
        """(points, p) in standard deviations, in the order of _all_left."""
        pairs = list(zip(curves, at.bent, strict=True))
        parts = []
        for one, (curve, bent) in zip(self.db, pairs, strict=True):
            spread = spread_db(curve, bent, share)
            parts.append(less_coupling(curve.hertz, spread, one / spread[:, np.newaxis]))
        phases = []
        if phase:
            phases = [_Phases.of(curve, bent, share).counted(one) for one, (curve, bent) in zip(
                self.rad, pairs, strict=True)]
        known = [i for i, free in enumerate(at.family.free) if np.isfinite(free.deviation)]
        prior = np.zeros((len(known), at.values.size))
        prior[np.arange(len(known)), known] = [1 / at.family.free[i].deviation for i in known]
        return np.concatenate([*parts, prior, *phases])

    def covariance(
        self, at: _Place, curves: Sequence[Samples], share: float, *, phase: bool = False
    ) -> FloatArray:
        """(p, p) of the numbers."""
        slopes = self.weighed(at, curves, share, phase=phase)
        return np.asarray(np.linalg.pinv(slopes.T @ slopes))


    def by_what_leans(
        self, at: _Place, curves: Sequence[Samples], covariance: FloatArray, *, phase: bool
    ) -> FloatArray:
        """(p, p) of what a sweep may tell otherwise than settled tones: it goes the same way over a stretch of a curve,
        so that many points know it no better than one."""
        weighed, total, begin = self.weighed(at, curves, BENT_SHARE, phase=phase), np.zeros_like(covariance), 0
        for curve, bent in zip(curves, at.bent, strict=True):
            octaves = np.log2(curve.hertz)
            together = np.exp(-np.abs(octaves[:, np.newaxis] - octaves) / LEANS_OCTAVES)
            noise = curve.deviation_db / spread_db(curve, bent, BENT_SHARE)
            here = weighed[begin : begin + curve.hertz.size] * np.sqrt(np.maximum(1 - noise**2, 0.0))[:, np.newaxis]
            begin += curve.hertz.size
            total += here.T @ together @ here
        return np.asarray(covariance @ total @ covariance)


def _gone_far(begun: _Place, at: _Place, covariance: FloatArray) -> bool:
    """Whether a number went so far that its slopes may be others there."""
    deviation = np.sqrt(np.maximum(np.diag(covariance), 1e-30))
    return bool((np.abs(at.values - begun.values) > FAR * deviation).any())


def _all_left(at: _Place, curves: Sequence[Samples], share: float, *, phase: bool) -> FloatArray:
    """(points,) of all curves, levels first, and what is known beforehand, in standard deviations."""
    left = residual_of(at.family, at.values, curves, bent=at.bent, share=share)
    if not phase:
        return left
    return np.concatenate([left, *(_phase_left(at, curve, one, share) for curve, one in zip(
        curves, at.bent, strict=True))])


def _stepped(
    at: _Place, curves: Sequence[Samples], slopes: _Slopes, share: float, *, phase: bool = False
) -> _Place:
    """Gauss and Newton's steps, damped where they do not help (Marquardt 1963, SIAM Journal), until one is not worth
    it."""
    here = _all_left(at, curves, share, phase=phase)
    for _ in range(POLISHES):
        begun, weighed, less = float(np.sum(here**2)), slopes.weighed(at, curves, share, phase=phase), 0.0
        for damping in DAMPINGS:
            tried = _Place.of(at.family, _damped(at, weighed, here, damping), curves, at.bent)
            there = _all_left(tried, curves, share, phase=phase)
            less = 1 - float(np.sum(there**2)) / begun
            if less > 0:
                at, here = tried, there
                break
        if less < WORTH_A_STEP:
            break
    return at


def _damped(at: _Place, weighed: FloatArray, here: FloatArray, damping: float) -> FloatArray:
    """The values after a step."""
    every, size = range(at.values.size), np.linalg.norm(weighed, axis=0)
    damped = np.vstack([weighed, np.sqrt(damping) * np.diag(size)])
    step = newton_step(at.family, at.values, every, damped, np.concatenate([here, np.zeros(size.size)]))
    return stable_gain(at.family, moved_to(at.family, at.values, every, at.values + step))
