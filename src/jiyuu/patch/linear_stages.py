"""Stages of a patch that are only their transfer function, and part of a network: bank, formants, all-pass chain."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Literal

import numpy as np
from pydantic import ConfigDict, Field, model_validator

from jiyuu.arrays import FloatArray
from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ, CUTOFF_MINIMUM_HZ
from jiyuu.circuits.sections import Section, bandpass
from jiyuu.field_words import asked as worded
from jiyuu.patch.controls import Finite, Name, Part
from jiyuu.signals.vowels import BANDWIDTHS_HZ, VOWELS

LN_1000 = float(np.log(1000))
Hertz = Annotated[Finite, worded("Frequency", unit="Hz", low=1, high=CUTOFF_MAXIMUM_HZ)]
Q = Annotated[Finite, worded("Q", step=0.1, low=0.05, high=1000)]
Vowel = Literal["i", "ɪ", "ɛ", "æ", "ɑ", "ɔ", "ʊ", "u", "ʌ", "ɝ"]


class StagePart(Part):
    """What every stage has: a name that routes call it by; off: what comes in goes out unchanged."""

    id: Name | None = None
    off: bool = False


class Group(Part):
    """Bands that belong together; feedback: how much of their sum goes back into them."""

    polarity: Literal[1, -1] = 1
    level_db: Annotated[Finite, worded("Level", unit="dB", low=-200, high=120)] = 0.0
    feedback: Annotated[Finite, worded("Feedback", step=0.05, low=-1000, high=1000)] = 0.0


class Follow(Part):
    """Another sound whose bands set the bank's: at depth 1 a band is as loud as that sound's own level in it, in volts,
    at 0 it stands as it is."""

    of: Name
    attack_s: Annotated[Finite, Field(ge=0, le=600)] = 0.005
    release_s: Annotated[Finite, Field(ge=0, le=600)] = 0.05
    depth: Annotated[Finite, Field(ge=0, le=1)] = 1.0


SCALES: dict[str, tuple[float, ...]] = {  # semitones over the root, octave by octave
    "chromatic": tuple(range(12)), "major": (0, 2, 4, 5, 7, 9, 11), "minor": (0, 2, 3, 5, 7, 8, 10),
    "pentatonic": (0, 2, 4, 7, 9), "whole tones": (0, 2, 4, 6, 8, 10), "fifths and octaves": (0, 7),
    "major chord": (0, 4, 7), "minor chord": (0, 3, 7),
}
HARMONICS, EVEN = "harmonics", "even"
Tuning = Literal["even", "chromatic", "major", "minor", "pentatonic", "whole tones", "fifths and octaves",
                 "major chord", "minor chord", "harmonics"]


class Bank(StagePart):
    """Bandpasses at equal spacing, or tuned to a scale or to harmonics of the lowest; band i belongs to group i mod n.
    """

    stage: Literal["bank"]
    bands: Annotated[int, Field(ge=1, le=64, strict=True, title="Bands")] = 24
    spacing_semitones: Annotated[Finite, worded("Spacing", unit="semitones", step=0.5, above=0, high=48)] = 4.0
    tuned: Annotated[Tuning, Field(title="Tuned", description="Even spacing, or the degrees of a scale over the lowest "
                                   "band; then the spacing does not count.")] = "even"
    lowest_hz: Annotated[Finite, worded("Lowest", unit="Hz", low=CUTOFF_MINIMUM_HZ, high=CUTOFF_MAXIMUM_HZ)] = 50.0
    q: Q = 8.0
    levels_db: Annotated[tuple[Annotated[Finite, Field(ge=-200, le=120)], ...], Field(max_length=64)] = ()
    groups: Annotated[tuple[Group, ...], Field(min_length=1, max_length=64)] = (Group(),)
    decay_s: Annotated[Finite, Field(gt=0, le=600)] | None = None
    follow: Follow | None = None

    @model_validator(mode="after")
    def _levels_for_every_band(self) -> Bank:
        if self.levels_db and len(self.levels_db) != self.bands:
            raise ValueError(f"levels_db has {len(self.levels_db)} levels for {self.bands} bands; give one a band")
        if self.band_hz(self.bands - 1) > CUTOFF_MAXIMUM_HZ:
            raise ValueError("its highest band lies beyond what can be played; give fewer bands, or nearer ones")
        if self.follow is not None and any(group.feedback for group in self.groups):
            raise ValueError("follow and feedback exclude each other: levels that move inside a loop are not played; "
                             "give decay_s to let its bands ring")
        return self

    def band_hz(self, i: int) -> float:
        """Where band i stands."""
        if self.tuned == HARMONICS:
            return self.lowest_hz * (i + 1)
        if self.tuned == EVEN:
            return float(self.lowest_hz * 2 ** (self.spacing_semitones * i / 12))
        degrees = SCALES[self.tuned]
        return float(self.lowest_hz * 2 ** (i // len(degrees) + degrees[i % len(degrees)] / 12))

    def members(self, group: int) -> Iterator[tuple[Section, float]]:
        """(band, its factor) of one group."""
        for i in range(group, self.bands, len(self.groups)):
            hertz = self.band_hz(i)
            q = self.q if self.decay_s is None else max(self.q, np.pi * hertz * self.decay_s / LN_1000)
            level_db = self.levels_db[i] if self.levels_db else 0.0
            yield bandpass(hertz, float(q)), float(10 ** (level_db / 20))


class Formants(StagePart):
    """Resonances of a vowel, or of what lies between two."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)

    stage: Literal["formants"]
    from_: Annotated[Vowel, Field(alias="from")] = "ɑ"
    to: Vowel = "i"
    morph: Annotated[Finite, worded("Morph", step=0.05, low=0, high=1)] = 0.0
    shift_octaves: Annotated[Finite, worded("Shift", unit="oct", step=0.1, low=-4, high=4)] = 0.0
    formants: Annotated[int, Field(ge=1, le=3, strict=True, title="Formants")] = 3
    q: Q | None = None

    def at(self, morph: FloatArray) -> list[tuple[FloatArray, FloatArray]]:
        """(Hz, Q) of each formant at morphs (n,): log frequency between both vowels, the Q of the bandwidth there."""
        found = []
        for low, high, width in list(zip(VOWELS[self.from_], VOWELS[self.to], BANDWIDTHS_HZ, strict=True))[
            : self.formants
        ]:
            hertz = low ** (1 - morph) * high**morph * 2**self.shift_octaves
            found.append((hertz, hertz / width if self.q is None else np.full(np.shape(morph), self.q)))
        return found

    def sections(self) -> list[Section]:
        """As they stand."""
        return [bandpass(float(hertz[0]), float(q[0])) for hertz, q in self.at(np.array([self.morph]))]


class AllPass(StagePart):
    """First-order all-passes one behind the other, beside the dry signal."""

    stage: Literal["allpass"]
    stages: Annotated[int, Field(ge=1, le=64, strict=True, title="Stages")] = 4
    cutoff_hz: Annotated[Finite, worded("Cutoff", unit="Hz", low=CUTOFF_MINIMUM_HZ, high=CUTOFF_MAXIMUM_HZ)] = 800.0
    feedback: Annotated[Finite, worded("Feedback", step=0.05, low=-0.99, high=0.99)] = 0.0
    mix: Annotated[Finite, worded("Mix", step=0.05, low=0, high=1)] = 0.5
