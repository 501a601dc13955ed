"""How the character of filters moves with the pitch and the level of what is played, and with the resonance control,
and where an order turns round."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from enum import StrEnum
from itertools import pairwise

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.character.descriptors import Descriptor, describe
from jiyuu.character.drawn import NOMINAL_V
from jiyuu.character.scales import ALL, SCALE
from jiyuu.character.sound import Listening
from jiyuu.character.subject import Subject
from jiyuu.errors import JiyuuError
from jiyuu.signals.source import Source
from jiyuu.stopping import checkpoint
from jiyuu.wording.character import standing_sentence, turning_sentence

OF_SOUND = tuple(scale.name for scale in ALL if scale.of_sound)


class Over(StrEnum):
    """What is turned while all else stands."""

    PITCH = "pitch"
    LEVEL = "level"
    RESONANCE = "resonance"


PLACES: Mapping[Over, FloatArray] = {
    Over.PITCH: np.array([55.0, 110.0, 220.0, 440.0, 880.0, 1760.0]),  # A1 to A6
    Over.LEVEL: np.array([0.1, 0.3, 1.0, 2.0, 5.0, 10.0]),
    Over.RESONANCE: np.array([0.0, 10.0, 20.0, 30.0, 40.0, 50.0, 60.0, 70.0, 80.0, 90.0, 100.0]),
}
UNITS = {Over.PITCH: "Hz", Over.LEVEL: "V", Over.RESONANCE: "%"}
# What moves over each: what is heard over all of them, what a drawing alone says where it is asked something else.
NAMES: dict[Over, tuple[str, ...]] = {
    Over.PITCH: OF_SOUND, Over.LEVEL: (*OF_SOUND, "grit"),
    Over.RESONANCE: ("peak", "bass_kept", "edge", "snap", "cutoff_3db_hz", "peak_hz", *OF_SOUND, "grit"),
}


@dataclass(frozen=True, slots=True, eq=False)
class OverSound:
    """places (k,): hertz, volts or per cent of the control; values and doubts by descriptor and letter (k,), NaN where
    there is none yet."""

    over: Over
    places: FloatArray
    letters: tuple[str, ...]
    values: Mapping[str, Mapping[str, FloatArray]]
    doubts: Mapping[str, Mapping[str, FloatArray]]

    def turns(self, name: str) -> tuple[str, ...]:
        """Sentences about the first two letters: where the order of one descriptor turns round, or that it stands."""
        first, second = self.letters[:2]
        apart = self.values[name][second] - self.values[name][first]
        doubt = np.hypot(self.doubts[name][first], self.doubts[name][second])
        sure = [i for i in range(apart.size) if np.isfinite(apart[i]) and abs(apart[i]) > max(
            doubt[i], SCALE[name].noticed.at(float(self.values[name][first][i])) or 0.0)]
        said, unit = [], UNITS[self.over]
        for i, j in pairwise(sure):
            if np.sign(apart[i]) != np.sign(apart[j]):
                share = apart[i] / (apart[i] - apart[j])
                ends = self.places[[i, j]]
                place = float((1 - share) * ends[0] + share * ends[1]) if self.over is Over.RESONANCE else float(
                    np.exp((1 - share) * np.log(ends[0]) + share * np.log(ends[1])))
                above, below = (second, first) if apart[j] > 0 else (first, second)
                said.append(turning_sentence(name, above, below, f"{place:.3g} {unit}"))
        if said or not sure:
            return tuple(said)
        more, less = (second, first) if apart[sure[0]] > 0 else (first, second)
        low, high = (f"{self.places[i]:g} {unit}" for i in (sure[0], sure[-1]))
        everywhere = len(sure) == int(np.isfinite(apart).sum())
        return (standing_sentence(name, more, less, low, high, everywhere=everywhere),)


def over_sound_steps(subjects: Mapping[str, Subject], source: Source, listening: Listening, over: Over
                     ) -> Iterator[OverSound]:
    """subjects by letter, the two that are told apart first. Yields with every place that is known more: what drawings
    say before what is heard, of those two before the others."""
    places, letters, names = PLACES[over], tuple(subjects), NAMES[over]
    values = {name: {letter: np.full(places.size, np.nan) for letter in letters} for name in names}
    doubts = {name: {letter: np.full(places.size, np.nan) for letter in letters} for name in names}
    # The ends first, then what lies between: the whole is seen early.
    order = sorted(range(places.size), key=lambda i: min(i, places.size - 1 - i))
    heard = tuple(name for name in names if name in OF_SOUND)
    drawn = tuple(name for name in names if name not in OF_SOUND)  # known a hundred times sooner
    for asked in (drawn, heard):
        for some in (letters[:2], letters[2:]):
            for i in order if some and asked else ():
                for letter in some:
                    checkpoint()
                    told = _told(subjects[letter], source, listening, over, float(places[i]), asked)
                    for name, found in told.items():
                        if found.value is not None:
                            values[name][letter][i], doubts[name][letter][i] = found.value, found.uncertainty or 0.0
                yield OverSound(over, places, letters, _copied(values), _copied(doubts))


def _told(
    subject: Subject, source: Source, listening: Listening, over: Over, at: float, names: tuple[str, ...]
) -> Mapping[str, Descriptor]:
    if over is Over.PITCH:
        source = replace(source, pitch_hz=at)
    elif over is Over.RESONANCE:
        subject = replace(subject, gain=subject.filter.gain_at(at))
    elif set(names) <= set(OF_SOUND):
        source = replace(source, level_v=at)
    else:  # harmonics are read at a level of their own: so much harder the filter is driven
        subject = replace(subject, drive=subject.drive * at / NOMINAL_V)
    return _heard(subject, source, listening, names)


def _heard(
    subject: Subject, source: Source, listening: Listening, names: tuple[str, ...]
) -> Mapping[str, Descriptor]:
    try:
        return describe(subject, source, listening=listening, names=names)
    except JiyuuError:
        return {}  # nothing of it comes through here


def _copied(tables: Mapping[str, Mapping[str, FloatArray]]) -> dict[str, dict[str, FloatArray]]:
    return {name: {letter: row.copy() for letter, row in rows.items()} for name, rows in tables.items()}

