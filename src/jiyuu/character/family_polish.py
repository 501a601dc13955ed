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
from jiyuu.character.swept import ROUGH_SHARE, SHARE, Seen, Sweep
from jiyuu.stopping import side_by_side

POLISHED_BY = (0.03, BENT_SHARE)  # of what bending does, trusted ever more
POLISHES, WORTH_A_STEP = 2, 0.1  # steps of each, and by which share one must help for another
WORTH_TRYING = 0.02  # of a sum of squares in standard deviations: what promises less moves nothing that matters
DAMPINGS = (0.0, 1e-3, 3e-2, 0.3, 3.0)
FAR = 1.0  # of its deviation, that a number goes and its slopes are looked for again
LEVEL, HARDLY_DB = 2, 0.3  # place of the level among a family's numbers; what a curve bends by, that is next to none
FLOOR_RAD = FLOOR_DB * np.log(10) / 20
LEANS_OCTAVES = 0.25  # over which what a sweep tells otherwise than settled tones goes the same way
AGREES = 1.5  # of what the levels leave, that the phases may leave more
NEAR, FAR_BEHIND = 10.0, 30.0  # times a limit: where slopes promise rightly, and from where no further step leads
HOPELESS = 100.0  # after all turns
SLACKS_OCTAVES, SWEPT_STEPS = (0.01, 0.001), 4  # how far off what a sweep shows may be, at first and last; steps
SWEPT_DAMPINGS = (1e-4, 1e-2)  # what the curves hardly tell stays where it began
SWEPT_WELL = 3.0  # of a point that may be left, after a step, for slopes to hold on


def polished(fit: Fit, curves: Sequence[Samples], limit: float = np.inf) -> Fit:
    """Steps in all numbers at once, first trusting little of what is much bent, until they change nothing; and how well
    each is known. limit: a score that it must come under to matter; where that is out of reach it is left as it is."""
    if fit.score > HOPELESS * limit:
        return fit
    at = _Place.of(fit.family, fit.values, curves, fit.near)
    sweeping = _Sweeping.of(at, curves)
    if sweeping is None:
        at, slopes = _by_settled_tones(at, curves, limit)
        if _score(at, curves) - _would_go(at, curves, slopes) > limit:
            return replace(fit, values=at.values, score=_score(at, curves), bent=at.bent)
    else:
        for slack in SLACKS_OCTAVES:
            if slack == SLACKS_OCTAVES[-1]:
                sweeping.look_closer()
            at = sweeping.stepped(slack, limit=limit)
            if sweeping.is_behind(limit):
                at = sweeping.place(SLACKS_OCTAVES[-1])
                return replace(fit, values=at.values, score=_score(at, curves), bent=at.bent)
        slopes = sweeping.slopes
    score = _score(at, curves)
    more = excess(fit.family, score, curves)
    apart = np.concatenate([_phase_left(at, curve, one, BENT_SHARE) for curve, one in zip(
        curves, at.bent, strict=True)])
    # An interface may turn phases in ways of its own: they count where they agree with the levels, and for no odds.
    phase = float(np.mean(apart**2)) < AGREES * more
    if phase:
        at = (_stepped(at, curves, slopes, BENT_SHARE, phase=True) if sweeping is None else
              sweeping.stepped(SLACKS_OCTAVES[-1], phase=True))
    covariance = slopes.covariance(at, curves, BENT_SHARE, phase=phase)
    leans = slopes.by_what_leans(at, curves, covariance, phase=phase)
    # Where even the best leaves more than noise would, it is known that much less well.
    return replace(fit, values=at.values, covariance=(covariance + leans) * more, score=score, bent=at.bent)


def _score(at: _Place, curves: Sequence[Samples]) -> float:
    return score_of(at.family, at.values, curves, at.bent)


def _by_settled_tones(at: _Place, curves: Sequence[Samples], limit: float) -> tuple[_Place, _Slopes]:
    """Where no sweep tells more."""
    slopes = _Slopes.of(at, curves)
    for share in POLISHED_BY:
        if limit < _score(at, curves) - _would_go(at, curves, slopes) < NEAR * limit:
            break  # its slopes promise nothing
        begun = at
        at = _stepped(at, curves, slopes, share)
        if _gone_far(begun, at, slopes.covariance(at, curves, share)):
            slopes = _Slopes.of(at, curves)
            at = _stepped(at, curves, slopes, share)
    return at, slopes


class _Sweeping:
    """Steps by what a sweep shows instead of settled tones, which is seen at the values that they have led to."""

    def __init__(
        self, at: _Place, curves: Sequence[Samples], rough: Sequence[Sweep], fine: Sequence[Sweep]
    ) -> None:
        self._at, self._curves, self._rough, self._fine = at, curves, rough, fine
        self._sweeps = rough
        self._values, self._seen = at.values, self._swept(at.values)
        self.slopes = self._sloping()

    @classmethod
    def of(cls, at: _Place, curves: Sequence[Samples]) -> _Sweeping | None:
        """None where not all were swept steadily through something that bends and settles."""
        rough, fine = ([sweep for curve, bent in zip(curves, at.bent, strict=True)
                        if (sweep := Sweep.of(curve, bent, share)) is not None] for share in (ROUGH_SHARE, SHARE))
        return cls(at, curves, rough, fine) if len(fine) == len(curves) else None

    def _swept(self, values: FloatArray) -> list[Seen]:
        built = self._at.family.built(values)
        return list(side_by_side(lambda sweep: sweep.seen([built])[0], self._sweeps))

    def _sloping(self) -> _Slopes:
        return _Slopes.by_sweeps(self.place(SLACKS_OCTAVES[0]), self._curves, self._rough)

    def look_closer(self) -> None:
        """By finer steps from here on."""
        self._sweeps = self._fine
        self._seen = self._swept(self._values)

    def place(self, slack: float) -> _Place:
        """slack: octaves by which what is seen may still be off its place."""
        return self._placed(self._values, self._seen, slack)

    def _placed(self, values: FloatArray, seen: Sequence[Seen], slack: float) -> _Place:
        bent = (sweep.bent(bent, one, slack) for sweep, bent, one in zip(
            self._sweeps, self._at.bent, seen, strict=True))
        return replace(self._at, values=values, bent=tuple(bent))

    def is_behind(self, limit: float) -> bool:
        """Whether it will not come under a score."""
        at = self.place(SLACKS_OCTAVES[-1])
        score = _score(at, self._curves)
        return score > FAR_BEHIND * limit or score - _would_go(at, self._curves, self.slopes) > limit

    def stepped(self, slack: float, *, phase: bool = False, limit: float = np.inf) -> _Place:
        """Until a step is not worth it, or even one that is leads nowhere near a limit."""
        here = self.place(slack)
        for step in range(SWEPT_STEPS):
            left = _all_left(here, self._curves, BENT_SHARE, phase=phase)
            if _would_go(here, self._curves, self.slopes, phase=phase) < WORTH_TRYING:
                break
            weighed = self.slopes.weighed(here, self._curves, BENT_SHARE, phase=phase)
            less = 0.0
            for damping in SWEPT_DAMPINGS:
                values = _damped(here, weighed, left, damping)
                seen = self._swept(values)
                tried = self._placed(values, seen, slack)
                less = 1 - float(np.sum(_all_left(tried, self._curves, BENT_SHARE, phase=phase) ** 2)
                                 / np.sum(left**2))
                if less > 0:
                    here, self._values, self._seen = tried, values, seen
                    break
            if less < WORTH_A_STEP or _score(here, self._curves) > FAR_BEHIND * limit:
                break
            if step == 1 and float(np.mean(left**2)) > SWEPT_WELL:
                self.slopes = self._sloping()  # it has gone far
        return here


def _would_go(at: _Place, curves: Sequence[Samples], slopes: _Slopes, *, phase: bool = False) -> float:
    """Of the sum of squares that is left, by the best step."""
    weighed = slopes.weighed(at, curves, BENT_SHARE, phase=phase)
    left = _all_left(at, curves, BENT_SHARE, phase=phase)
    return float(np.sum((weighed @ np.linalg.lstsq(weighed, left)[0]) ** 2))


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
        off = np.nan_to_num(np.hypot(bent.leant(share) * bent.rad, bent.off_rad), nan=3.0, posinf=3.0)
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
        family, values, nudges = at.family, at.values, _nudges(at.family)
        here = [_seen(family, values, curve, bent) for curve, bent in zip(curves, at.bent, strict=True)]

        def moved_by(i: int) -> list[tuple[FloatArray, FloatArray]]:
            moved = values.copy()
            moved[i] += nudges[i]
            # What hardly bends bends as much when a number is nudged, and a level changes nothing of it.
            return [_seen(family, moved, curve, bent if i == LEVEL or np.nanmax(
                np.abs(bent.db), initial=0.0) < HARDLY_DB else what_bends(family, moved, curve, bent))
                    for curve, bent in zip(curves, at.bent, strict=True)]

        each = list(side_by_side(moved_by, range(values.size)))
        db, rad = (tuple(np.nan_to_num(np.stack([(one[c][which] - here[c][which]) / nudge for one, nudge in zip(
            each, nudges, strict=True)], axis=1)) for c in range(len(curves))) for which in (0, 1))
        return cls(db, rad)

    @classmethod
    def by_sweeps(cls, at: _Place, curves: Sequence[Samples], sweeps: Sequence[Sweep]) -> _Slopes:
        """The same by what each number does to a sweep, all of them side by side, with one that nothing is done to."""
        family, nudges = at.family, _nudges(at.family)
        moved = np.concatenate([at.values[np.newaxis], at.values + np.diag(nudges)])
        builts = [family.built(values) for values in moved]

        def of_curve(place: tuple[Samples, Sweep, Bent]) -> tuple[FloatArray, FloatArray]:
            curve, sweep, bent = place
            here, *there = [_seen(family, values, curve, sweep.bent(bent, seen, 0.0))
                            for values, seen in zip(moved, sweep.seen(builts), strict=True)]
            # What runs away when it is nudged tells nothing.
            db, rad = (np.nan_to_num(np.stack([(one[which] - here[which]) / nudge for one, nudge in zip(
                there, nudges, strict=True)], axis=1), posinf=0.0, neginf=0.0) for which in (0, 1))
            return db, rad

        each = list(side_by_side(of_curve, list(zip(curves, sweeps, at.bent, strict=True))))
        return cls(tuple(db for db, _ in each), tuple(rad for _, rad in each))

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


def _nudges(family: Family) -> FloatArray:
    """(p,) by which numbers are moved to see what they do."""
    found = np.array([1e-4 if free.name in ("cutoff", "level") else 1e-3 if not free.bends else NUDGE / 4
                      for free in family.free])
    found[1] = -1e-4 * family.onset_gain  # away from the onset
    return found


def _seen(family: Family, values: FloatArray, curve: Samples, bent: Bent) -> tuple[FloatArray, FloatArray]:
    """(m,) level and phase that a family at its numbers would have, bent so."""
    built = family.built(values)
    return built.linear_db(curve.hertz) + bent.db, np.unwrap(np.angle(built.linear(curve.hertz))) + bent.rad


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
