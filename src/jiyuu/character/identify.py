"""Which circuit a recording was made by: every family fitted to response curves at their levels, and how the odds
between them stand by the Bayesian information criterion (Schwarz 1978, Annals of Statistics)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cache, partial

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.character.families import Family, shapes, stable_gain
from jiyuu.character.family_fit import (
    WORST,
    Fit,
    Whistle,
    driven,
    driven_db,
    excess,
    less_where_none_fits,
    linear_fit,
    roughly_left_db,
    turned,
    whistle_misfit,
)
from jiyuu.character.family_polish import polished
from jiyuu.character.level_curves import LevelCurve, Samples, sampled, turning_hz
from jiyuu.errors import MeasurementError
from jiyuu.measurement.uncertain import COVERAGE, Uncertain
from jiyuu.stopping import side_by_side

SURE_ODDS = 20.0  # to one, under which nothing is said
NONE_FITS_DB = 0.3  # RMS that the best may leave
SURELY_DB = 0.05  # beside what settled tones may be off by, in the weight of that
THINNED = 3  # points of a curve, of which the first look sees one
GUESSED_DB = 0.05  # floor of the first look, which knows of no bending
ROUGHLY_DB, LOOKED_AT_FIRST = 4.0, 8  # beyond the least misfit of the templates, and shapes at most
WORTH_A_LOOK, NOT_WORTH_DB = 2.0, 0.1  # re the least misfit of the first look, and beyond it
LOOKED_AT = 4  # shapes at most
ROUNDS = 6
TURNS_AT_LEAST, BEHIND, BEHIND_BY = 1, 6.0, 300.0  # before a family is left, and how far it lies behind then
CONTENDS_DB = 0.3  # RMS that a fit may leave before it is polished, to be taken for one that may be it
BEYOND_HOPE = 20.0  # of a score behind the best, where odds are one to twenty thousand
BEYOND_DOUBT = 100.0  # of a score, past which a whistle cannot turn an order round
SHARES = (0.0, 0.15, 0.3, 0.45, 0.6, 0.72, 0.82, 0.9, 0.95, 0.98)  # of the onset
SHIFTS = np.arange(-7.0, 5.0, 1 / 12)  # octaves re 1 kHz
TEMPLATE_OCTAVES = np.arange(-12.0, 12.0, 1 / 24)


@dataclass(frozen=True, slots=True, eq=False)
class Candidate:
    """A family at the numbers that fit it best. odds: of all, 1 together. cutoff_hz: geometric mean of the stages' pole
    frequencies re their nominal ratios; residual_db: RMS of what it leaves, misfit_db: where that says something;
    curves: what it leaves of each recording,
    (hertz, dB)."""

    family: Family
    odds: float
    cutoff_hz: Uncertain
    loop_gain: Uncertain
    level_db: float
    parameters: dict[str, Uncertain]
    residual_db: float
    misfit_db: float
    values: FloatArray
    score: float
    curves: tuple[tuple[FloatArray, FloatArray], ...]


@dataclass(frozen=True, slots=True)
class ToTell:
    """A measurement that would tell two candidates apart: a sweep at level_v, by difference_db at hertz."""

    first: str
    second: str
    level_v: float
    hertz: float
    difference_db: float


@dataclass(frozen=True, slots=True, eq=False)
class Identified:
    """Candidates, best first. chosen: the best one where it is sure enough; to_tell: what would make sure."""

    chosen: Candidate | None
    candidates: tuple[Candidate, ...]
    to_tell: tuple[ToTell, ...]
    none_fits: bool


def identify(curves: Sequence[LevelCurve], whistle: Whistle | None = None) -> Identified:
    """From one curve at each level, and a whistle of the same filter at the same cutoff where there is one. Raises
    MeasurementError where too little of them stands above the noise."""
    if not curves:
        raise MeasurementError("There is no recording to identify; give a stimulus and its recording.")
    rising = sorted(curves, key=lambda one: one.level_v)
    middle_hz = turning_hz(rising[0])
    looked = [sampled(curve, middle_hz) for curve in rising]
    begun = _first_look(looked[0].thinned(THINNED))
    fits = _fitted([(family, start) for shape, start in begun for family in shape], looked)
    if not fits:
        raise MeasurementError("No circuit could be fitted to these curves; check that stimulus and recording belong "
                               "together, and that the filter does not whistle.")
    fits.sort(key=lambda fit: fit.score)
    # Turns end where they end: who is said to be worse than another was given the same care, as long as it could help.
    contenders = [fit for fit in fits[1:] if roughly_left_db(fit, looked) < CONTENDS_DB]
    others = [fit for fit in fits[1:] if fit not in contenders]
    first = polished(fits[0], looked)
    limit = first.score + BEYOND_HOPE * excess(first.family, first.score, looked)
    contenders = list(side_by_side(partial(polished, curves=looked, limit=limit), contenders))
    # Less is left of settled tones, which are trusted less: by that much more of those that were not swept.
    more = max(first.score - fits[0].score, 0.0)
    fits = [first, *contenders, *(replace(fit, score=fit.score + more) for fit in others)]
    fits = less_where_none_fits(fits, looked)
    fits.sort(key=lambda fit: fit.score)
    # What even the best does not explain is no more in favour of it than of the others.
    doubt = excess(fits[0].family, fits[0].score, looked)
    if whistle is not None:
        fits = _with_whistle(fits, whistle, doubt)
    fits.sort(key=lambda fit: fit.score)
    weights = np.exp(-0.5 * (np.array([fit.score for fit in fits]) - fits[0].score) / doubt)
    odds = weights / weights.sum()
    candidates = tuple(_stated(fit, float(share), looked) for fit, share in zip(fits, odds, strict=True))
    none_fits = candidates[0].misfit_db > NONE_FITS_DB
    sure = not none_fits and odds[0] >= SURE_ODDS / (1 + SURE_ODDS)
    return Identified(candidates[0] if sure else None, candidates,
                      () if sure or none_fits else _to_tell(candidates), none_fits)


def _with_whistle(fits: list[Fit], whistle: Whistle, doubt: float) -> list[Fit]:
    """Scores with what the whistle says of those that it may help or hurt."""
    limit = fits[0].score + WORST + BEYOND_DOUBT * doubt
    open_ones = [fit for fit in fits if fit.score < limit]
    if len(open_ones) < 2:
        return fits
    misfits = list(side_by_side(lambda fit: whistle_misfit(fit, whistle), open_ones))
    return [*(replace(fit, score=fit.score + misfit) for fit, misfit in zip(open_ones, misfits, strict=True)),
            *fits[len(open_ones) :]]


# Looking


def _first_look(curve: Samples) -> list[tuple[tuple[Family, ...], FloatArray]]:
    """Shapes that may be it, with the numbers they begin from."""
    weight = 1 / np.hypot(curve.deviation_db, GUESSED_DB) ** 2
    place = np.log2(curve.hertz / 1000)[np.newaxis, :] - SHIFTS[:, np.newaxis]
    rough: list[tuple[float, tuple[Family, ...], FloatArray]] = []
    for shape in shapes():
        family = shape[0]
        for share, template in templates(family):
            apart = curve.level_db - np.interp(place, TEMPLATE_OCTAVES, template)
            mean = (apart @ weight) / weight.sum()
            misfit = np.sqrt(((apart - mean[:, np.newaxis]) ** 2 @ weight) / weight.sum())
            i = int(np.argmin(misfit))
            values = np.array([free.start for free in family.free])
            values[0], values[1], values[2] = SHIFTS[i], share * family.onset_gain, mean[i]
            rough.append((float(misfit[i]), shape, values))
    rough.sort(key=lambda one: one[0])
    closer: list[tuple[float, tuple[Family, ...], FloatArray]] = []
    seen: list[tuple[Family, ...]] = []
    for misfit, shape, values in rough:
        if shape in seen or len(seen) >= LOOKED_AT_FIRST or misfit > rough[0][0] + ROUGHLY_DB:
            continue
        seen.append(shape)
        family = shape[0]
        linear = [i for i, free in enumerate(family.free) if not free.bends]
        spread = np.hypot(curve.deviation_db, GUESSED_DB)
        fitted = linear_fit(family, values, linear, [curve], [np.zeros(curve.hertz.size)], [spread], steps=8)
        left = family.built(fitted).linear_db(curve.hertz) - curve.level_db
        closer.append((float(np.sqrt(np.sum(left**2 * weight) / weight.sum())), shape, fitted))
    closer.sort(key=lambda one: one[0])
    limit = WORTH_A_LOOK * closer[0][0] + NOT_WORTH_DB
    return [(shape, values) for misfit, shape, values in closer[:LOOKED_AT] if misfit <= limit]


@cache
def templates(family: Family) -> tuple[tuple[float, FloatArray], ...]:
    """(share of the onset, level (g,) over TEMPLATE_OCTAVES from a cutoff of 1 kHz)."""
    values = np.array([free.start for free in family.free])
    found = []
    for share in SHARES:
        values[1] = share * family.onset_gain
        found.append((share, family.built(values).linear_db(1000 * 2.0**TEMPLATE_OCTAVES)))
    return tuple(found)


# Fitting


def _fitted(begun: Sequence[tuple[Family, FloatArray]], curves: Sequence[Samples]) -> list[Fit]:
    """Families by turns, what is linear and what bends; those that fall far behind the best are left."""
    fits = []
    for family, start in begun:
        known = {free.name: value for free, value in zip(_looked_by(family).free, start, strict=True)}
        values = [free.start if free.bends else known.get(free.name, free.start) for free in family.free]
        fits.append(Fit(family, stable_gain(family, np.array(values)), np.inf))
    running = fits
    for turn in range(ROUNDS):
        running = list(side_by_side(partial(turned, curves=curves, turn=turn), running))
        least = min(fit.score for fit in running)
        gone = [fit for fit in running if turn >= TURNS_AT_LEAST and fit.score > BEHIND * least + BEHIND_BY]
        still = [fit for fit in running if fit.still and fit not in gone]
        fits = [*still, *gone] if turn == 0 else [*fits, *still, *gone]
        running = [fit for fit in running if fit not in gone and fit not in still]
        if not running:
            break
    return [fit for fit in (*fits, *running) if np.isfinite(fit.score)]


def _looked_by(family: Family) -> Family:
    """The one by which its shape was looked at."""
    return next(shape[0] for shape in shapes() if family in shape)


# Stating


def _stated(fit: Fit, odds: float, curves: Sequence[Samples]) -> Candidate:
    family, values = fit.family, fit.values
    bends = fit.bent or fit.bends(curves)
    left = tuple((curve.hertz, family.built(values).linear_db(curve.hertz) + bent.db - curve.level_db)
                 for curve, bent in zip(curves, bends, strict=True))
    residual = float(np.sqrt(np.nanmean(np.concatenate([one for _, one in left]) ** 2)))
    sure = [1 / (bent.off_db**2 + SURELY_DB**2) for bent in bends]
    misfit = float(np.sqrt(sum(np.nansum(one**2 * weight) for (_, one), weight in zip(left, sure, strict=True))
                           / sum(weight.sum() for weight in sure)))
    doubt = np.full(values.size, np.nan) if fit.covariance is None else np.sqrt(
        np.maximum(np.diag(fit.covariance), 0.0))

    def spread(of: np.ndarray) -> float:
        """Of a number that follows from values by a gradient."""
        if fit.covariance is None:
            return float("nan")
        return COVERAGE * float(np.sqrt(max(of @ fit.covariance @ of, 0.0)))

    cutoff = family.mean_cutoff(values)
    slope, gain_slope = (np.array([(read(_nudged(values, i)) - read(values)) / 1e-5 for i in range(values.size)])
                         for read in (family.mean_cutoff, family.loop_gain))
    built = family.built(values)
    hertz = 1000 * 2.0**cutoff
    parameters = {}
    for i, free in enumerate(family.free):
        if free.name not in built.parameters:
            continue
        value = built.parameters[free.name]
        scale = value * np.log(2) if free.bends else 100.0 if free.name.endswith("_percent") else 1.0
        parameters[free.name] = Uncertain(value, float(COVERAGE * scale * doubt[i]))
    return Candidate(
        family, odds, Uncertain(hertz, hertz * np.log(2) * spread(slope)),
        Uncertain(family.loop_gain(values), spread(gain_slope)), float(values[2]), parameters, residual, misfit,
        values, fit.score, left,
    )


def _nudged(values: FloatArray, i: int) -> FloatArray:
    moved = values.copy()
    moved[i] += 1e-5
    return moved


def _to_tell(candidates: Sequence[Candidate]) -> tuple[ToTell, ...]:
    """At which level the two that remain would differ most."""
    if len(candidates) < 2:
        return ()
    first, second = candidates[:2]
    hertz = first.cutoff_hz.value * 2.0 ** np.linspace(-2, 1, 19)
    found = []
    for level_v in (0.5, 1.0, 2.0, 5.0):
        one, other = (driven_db(who.family, who.values, hertz, driven(who.family, who.values, hertz, level_v))
                      for who in (first, second))
        apart = one - other
        apart -= np.nanmedian(apart)  # a level alone tells nothing
        if np.isfinite(apart).any():
            i = int(np.nanargmax(np.abs(apart)))
            found.append(ToTell(first.family.entry.id, second.family.entry.id, level_v, float(hertz[i]),
                                float(abs(apart[i]))))
    return tuple(sorted(found, key=lambda one: -one.difference_db)[:1])
