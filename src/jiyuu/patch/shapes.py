"""Shelves and peaks one behind the other, settings of them kept under names, and what lies between those."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Annotated, Literal

import numpy as np
import scipy
from pydantic import Field, model_validator

from jiyuu.arrays import FloatArray
from jiyuu.circuits.sections import Section, high_shelf, low_shelf, peak
from jiyuu.field_words import asked as worded
from jiyuu.patch.controls import Finite, Name, Part
from jiyuu.patch.linear_stages import Hertz, Q, StagePart

MOST_BANDS, MOST_SETTINGS = 12, 16
Kind = Literal["low_shelf", "peak", "high_shelf"]
KINDS: tuple[Kind, ...] = ("low_shelf", "peak", "high_shelf")
CORNERS = {2: 4, 3: 8}  # of a sheet and of a block
Decibels = Annotated[Finite, worded("Gain", unit="dB", low=-60, high=60)]
Trim = Annotated[Finite, worded("Trim", unit="dB", low=-120, high=60)]
Along = Annotated[Finite | None, worded("Morph", step=0.05, low=0, high=1)]


class Band(Part):
    """A shelf or a peak."""

    kind: Kind = "peak"
    frequency_hz: Hertz = 1000.0
    gain_db: Decibels = 0.0
    q: Q = 0.7071067811865476

    def section(self) -> Section:
        made = {"low_shelf": low_shelf, "peak": peak, "high_shelf": high_shelf}[self.kind]
        return made(self.frequency_hz, self.gain_db, self.q)


Bands = Annotated[tuple[Band, ...], Field(max_length=MOST_BANDS)]


class ShapeSetting(Part):
    """Bands kept under a name."""

    name: Name
    bands: Bands = ()
    trim_db: Trim = 0.0


@dataclass(frozen=True, slots=True, eq=False)
class Between:
    """What lies between settings at n places: kinds (b), frequency_hz, gain_db and q (b, n), trim_db (n,)."""

    kinds: tuple[Kind, ...]
    frequency_hz: FloatArray
    gain_db: FloatArray
    q: FloatArray
    trim_db: FloatArray

    def shifted(self, octaves: FloatArray) -> Between:
        """With all frequencies moved by (n,)."""
        return replace(self, frequency_hz=self.frequency_hz * 2.0**octaves)


class Shapes(StagePart):
    """Up to twelve bands one behind the other; or, where a morph is stated, what lies between the settings: along all
    of them in their order (morph), between four at the corners of a sheet (morph and morph_2) or eight at those of a
    block (all three). axes: what a person calls these ways."""

    stage: Literal["shapes"]
    bands: Bands = ()
    trim_db: Trim = 0.0
    bypass: bool = False
    settings: Annotated[tuple[ShapeSetting, ...], Field(max_length=MOST_SETTINGS)] = ()
    morph: Along = None
    morph_2: Along = None
    morph_3: Along = None
    axes: Annotated[tuple[Name, ...], Field(max_length=3)] = ()

    @model_validator(mode="after")
    def _has_what_it_morphs_between(self) -> Shapes:
        names = [setting.name for setting in self.settings]
        again = next((name for name in names if names.count(name) > 1), None)
        if again is not None:
            raise ValueError(f"two settings are called '{again[:80]}'; give each a name of its own")
        ways = self.ways
        if len([one for one in (self.morph, self.morph_2, self.morph_3) if one is not None]) != len(ways):
            raise ValueError("morph_2 needs a morph, and morph_3 a morph_2 beside it")
        if len(ways) == 1 and len(self.settings) < 2:
            raise ValueError("a morph leads through settings and needs two at least; store another")
        if len(ways) > 1 and len(self.settings) != CORNERS[len(ways)]:
            raise ValueError(f"{len(ways)} morphs lie between {CORNERS[len(ways)]} settings, one at each corner, and "
                             f"there are {len(self.settings)}; store or take away some")
        return self

    @property
    def ways(self) -> tuple[float, ...]:
        """How far along each morph it stands; none where the bands count as they are."""
        found = []
        for one in (self.morph, self.morph_2, self.morph_3):
            if one is None:
                break
            found.append(float(one))
        return tuple(found)

    def at(self, ways: Sequence[FloatArray]) -> Between:
        """Between the settings at places (n,) of each morph."""
        weights = _weights(len(self.settings), [np.clip(one, 0.0, 1.0) for one in ways])
        slots = list(_slots([setting.bands for setting in self.settings]))
        kinds = tuple(kind for kind, *_ in slots)
        shape = (len(slots), len(self.settings))
        hertz, gain, q = (np.array([slot[i] for slot in slots]).reshape(shape) for i in (1, 2, 3))
        trim = np.array([setting.trim_db for setting in self.settings])
        return Between(kinds, np.exp(np.log(hertz) @ weights), gain @ weights, np.exp(np.log(q) @ weights),
                       trim @ weights)

    def standing(self) -> tuple[tuple[Band, ...], float]:
        """(bands, trim in dB) as it stands; between settings those that do nothing are left out."""
        if not self.ways:
            return self.bands, self.trim_db
        here = self.at([np.array([one]) for one in self.ways])
        bands = (Band.model_construct(kind=kind, frequency_hz=float(hertz), gain_db=float(gain), q=float(q))
                 for kind, hertz, gain, q in zip(here.kinds, here.frequency_hz[:, 0], here.gain_db[:, 0], here.q[:, 0],
                                                 strict=True))
        return tuple(band for band in bands if band.gain_db), float(here.trim_db[0])


def coefficients_of(between: Between) -> FloatArray:
    """(b + 1, n, 6): frequency in Hz, a1, a0, b2, b1, b0 of every section as circuits.sections has it; the last is the
    trim, a section that only multiplies."""
    found = np.zeros((len(between.kinds) + 1, between.trim_db.size, 6))
    for i, kind in enumerate(between.kinds):
        a, q = 10 ** (between.gain_db[i] / 40), between.q[i]
        one, root = np.ones(a.size), np.sqrt(a) / q
        own = {"peak": (1 / (a * q), one, one, a / q, one), "low_shelf": (root / a, 1 / a, one, root, a),
               "high_shelf": (root, a, a * a, a * root, a)}[kind]
        found[i] = np.stack([between.frequency_hz[i], *own], axis=1)
    factor = 10 ** (between.trim_db / 20)
    found[-1] = np.stack([*[np.ones(factor.size)] * 3, *[factor] * 3], axis=1)
    return found


def _weights(settings: int, ways: Sequence[FloatArray]) -> FloatArray:
    """(settings, n): how much of each; with one way only its two neighbours count."""
    if len(ways) == 1:
        place = ways[0] * (settings - 1)
        return np.clip(1 - np.abs(place - np.arange(settings)[:, np.newaxis]), 0.0, 1.0)
    found = np.ones((1, ways[0].size))
    for way in reversed(ways):  # the first way turns fastest
        found = np.concatenate([[one * (1 - way), one * way] for one in found])
    return found


def _slots(settings: Sequence[tuple[Band, ...]]) -> Iterator[tuple[Kind, FloatArray, FloatArray, FloatArray]]:
    """(kind, Hz, dB, Q of each setting) of bands that belong together: those of one kind that lie nearest to each
    other. Where a setting has none it is 0 dB, at the mean of those that have one."""
    for kind in KINDS:
        each = [[band for band in bands if band.kind == kind] for bands in settings]
        most = max(each, key=len)
        slots: list[list[Band | None]] = [[None] * len(settings) for _ in most]
        for s, bands in enumerate(each):
            apart = np.abs(np.log2([[a.frequency_hz / b.frequency_hz for b in bands] for a in most]))
            pairs = scipy.optimize.linear_sum_assignment(apart.reshape(len(most), len(bands)))
            for slot, which in zip(*pairs, strict=True):
                slots[slot][s] = bands[which]
        for slot in slots:
            known = [band for band in slot if band is not None]
            hertz, q = (float(np.exp(np.mean(np.log([getattr(band, name) for band in known]))))
                        for name in ("frequency_hz", "q"))
            yield (kind, np.array([hertz if band is None else band.frequency_hz for band in slot]),
                   np.array([0.0 if band is None else band.gain_db for band in slot]),
                   np.array([q if band is None else band.q for band in slot]))
