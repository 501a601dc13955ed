"""How many builds of a drawing would meet what is wished, and which part costs most of them.

A build differs by its capacitors alone, each drawn on its own. What the quantities do with small changes is read off
the drawing to second order; builds that come out near a limit are read themselves."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.character.subject import Subject
from jiyuu.character.wish import Wish, values_of
from jiyuu.stopping import checkpoint

BUILDS, SEED = 4000, 11
NEAR = 0.03  # of a tolerance, within which a build is read itself
NEAREST = 120  # builds that are, at most
Z95 = 1.959963984540054
NUDGED_BY = 1.5  # standard deviations


@dataclass(frozen=True, slots=True)
class Yield:
    """Share of builds that meet every wish, with its interval (Wilson 1927, JASA, 95 %); costs_most: the part that,
    were it exact, would bring most, None where none matters; if_exact, at_half: the share then, and at half its
    spread."""

    value: float
    low: float
    high: float
    builds: int
    costs_most: str | None
    if_exact: float
    at_half: float


def stage_names(subject: Subject) -> list[str]:
    """The parameters that its stages' capacitors move."""
    return [one.name for one in subject.filter.entry.parameters
            if one.name.endswith("_mismatch_percent") or one.name.startswith("capacitor_ratio_")]


def built(subject: Subject, apart: FloatArray) -> Subject:
    """With capacitors (n,) off by those shares: a larger one is slower."""
    own = subject.filter
    known = own.entry.values(own.parameters)
    parameters = dict(own.parameters)
    for name, share in zip(stage_names(subject), apart, strict=True):
        faster = 1 / (1 + float(share))
        if name.endswith("_percent"):
            parameters[name] = 100 * ((1 + known[name] / 100) * faster - 1)
        else:
            parameters[name] = known[name] * faster
    return replace(subject, filter=own.model_copy(update={"parameters": parameters}))


def yield_of(subject: Subject, wishes: Sequence[Wish], percent: float) -> Yield:
    """percent: one standard deviation of a capacitor."""
    names = tuple(wish.quantity for wish in wishes)
    target = np.array([wish.target for wish in wishes])
    tolerance = np.array([wish.tolerance for wish in wishes])
    count = len(stage_names(subject))
    draws = np.random.default_rng(SEED).standard_normal((BUILDS, count)) * percent / 100
    if count == 0 or percent == 0:
        share = float((np.abs(values_of(subject, names) - target) <= tolerance).all())
        return Yield(share, *wilson(round(share * BUILDS), BUILDS), BUILDS, None, share, share)
    model = _Model.of(subject, names, NUDGED_BY * percent / 100)

    def met(apart: FloatArray, *, exactly: bool) -> float:
        worst = (np.abs(model.at(apart) - target) / tolerance).max(axis=1)
        passes = worst <= 1
        passes[~np.isfinite(worst)] = False
        if exactly:
            doubtful = np.flatnonzero((np.abs(worst - 1) < NEAR) | ~np.isfinite(worst))
            for i in doubtful[np.argsort(np.nan_to_num(np.abs(worst[doubtful] - 1)))][:NEAREST]:
                checkpoint()
                passes[i] = (np.abs(values_of(built(subject, apart[i]), names) - target) <= tolerance).all()
        return float(passes.mean())

    share = met(draws, exactly=True)
    rough = met(draws, exactly=False)
    gains = []
    for i in range(count):
        without = draws.copy()
        without[:, i] = 0.0
        gains.append(met(without, exactly=False) - rough)
    worst = int(np.argmax(gains))
    halved = draws.copy()
    halved[:, worst] /= 2
    named = f"capacitor of stage {worst + 1}" if gains[worst] > 0 else None
    return Yield(share, *wilson(round(share * BUILDS), BUILDS), BUILDS, named, min(share + gains[worst], 1.0),
                 min(share + met(halved, exactly=False) - rough, 1.0))


@dataclass(frozen=True, slots=True, eq=False)
class _Model:
    """Quantities (q,) to second order in shares (n,) of the capacitors: value + slope·x + x·bend·x/2."""

    value: FloatArray
    slope: FloatArray
    bend: FloatArray

    @classmethod
    def of(cls, subject: Subject, names: tuple[str, ...], step: float) -> _Model:
        count = len(stage_names(subject))

        def at(*moved: int) -> FloatArray:
            apart = np.zeros(count)
            for one in moved:
                apart[abs(one) - 1] += step * np.sign(one)
            return values_of(built(subject, apart), names)

        here = at()
        up, down = (np.stack([at(sign * (i + 1)) for i in range(count)]) for sign in (1, -1))
        slope = (up - down) / (2 * step)
        bend = np.zeros((count, count, here.size))
        for i in range(count):
            bend[i, i] = (up[i] - 2 * here + down[i]) / step**2
        for i, j in combinations(range(count), 2):
            both = (at(i + 1, j + 1) - up[i] - up[j] + here) / step**2
            bend[i, j] = bend[j, i] = both
        return cls(here, slope, bend)

    def at(self, apart: FloatArray) -> FloatArray:
        """(b, q) for builds (b, n)."""
        return np.asarray(self.value + apart @ self.slope + 0.5 * np.einsum("bi,ijq,bj->bq", apart, self.bend, apart))


def wilson(passed: int, builds: int) -> tuple[float, float]:
    """95 % interval of a share."""
    share, z2 = passed / builds, Z95**2 / builds
    middle = (share + z2 / 2) / (1 + z2)
    half = Z95 / (1 + z2) * float(np.sqrt(share * (1 - share) / builds + z2 / (4 * builds)))
    return max(middle - half, 0.0), min(middle + half, 1.0)
