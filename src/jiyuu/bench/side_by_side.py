"""Filters of a shelf beside each other: responses at one cutoff, then the character of each, one after the other."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.bench.standing import Standing
from jiyuu.bench.steps.comparison import ComparisonSetting
from jiyuu.character.comparison import Same, brought_to, place_hz
from jiyuu.character.descriptors import Descriptor, describe
from jiyuu.character.scales import ALL
from jiyuu.character.sound import Listening
from jiyuu.character.subject import Subject
from jiyuu.circuits.linear import complex_gain, level_db
from jiyuu.errors import JiyuuError
from jiyuu.remembered import Remembered
from jiyuu.signals.source import Source, SourceKind
from jiyuu.stopping import checkpoint

COMPARED_HZ = np.geomspace(16.0, 21_000.0, 481)
FLOOR_DB = -120.0

CHARACTERS_KEPT = 96
_CHARACTERS: Remembered[Mapping[str, Descriptor]] = Remembered(CHARACTERS_KEPT)


@dataclass(frozen=True, slots=True, eq=False)
class OneOfThem:
    """A filter of the shelf as it is compared. level_db (n,) over COMPARED_HZ; character: None until it is known;
    refused: why it cannot be compared, then nothing else stands."""

    letter: str
    name: str
    subject: Subject | None
    level_db: FloatArray | None
    character: Mapping[str, Descriptor] | None = None
    refused: str = ""


@dataclass(frozen=True, slots=True, eq=False)
class SideBySide:
    """All of them, in the order of the shelf; the one in hand by its letter."""

    in_hand: str
    them: tuple[OneOfThem, ...]

    def of(self, letter: str) -> OneOfThem | None:
        return next((one for one in self.them if one.letter == letter), None)


def subject_of(standing: Standing) -> Subject:
    """A filter as it stands, to be judged."""
    return Subject(replace(standing, loop_gain=None).filter, standing.mode, standing.standing_hz, standing.gain,
                   standing.drive)


def side_by_side_steps(
    shelf: Sequence[tuple[str, str, Standing]], in_hand: str, setting: ComparisonSetting
) -> Iterator[SideBySide]:
    """shelf: letter, name and how each stands. Yields with the responses, then again with the character of every
    filter, which is not computed twice."""
    same, listening = Same(setting.same), Listening(setting.loudness == "equal")
    source = Source(SourceKind(setting.source), setting.pitch_hz, setting.level_v)
    subjects = {letter: subject_of(standing) for letter, _, standing in shelf}
    goal: float | None = None
    reason = ""
    try:
        goal = place_hz(subjects[in_hand], same)
    except JiyuuError as error:
        reason = str(error)
    them = []
    for letter, name, _ in shelf:
        checkpoint()
        subject = subjects[letter]
        try:
            if goal is None and same is not Same.KNOB:
                them.append(OneOfThem(letter, name, None, None, refused=reason))
                continue
            moved = subject if goal is None or letter == in_hand else brought_to(subject, goal, same)
            gain = complex_gain(moved.network, COMPARED_HZ, cutoff_hz=moved.cutoff_hz, gain=moved.gain,
                                modes=[moved.mode])
            them.append(OneOfThem(letter, name, moved, np.maximum(level_db(gain)[0], FLOOR_DB)))
        except JiyuuError as error:
            them.append(OneOfThem(letter, name, None, None, refused=str(error)))
    yield SideBySide(in_hand, tuple(them))
    # The one in hand first: the others are told by what they differ from it.
    for i in sorted(range(len(them)), key=lambda i: them[i].letter != in_hand):
        checkpoint()
        one = them[i]
        if one.subject is None:
            continue
        try:
            them[i] = replace(one, character=_described(one.subject, source, listening))
        except JiyuuError as error:
            them[i] = replace(one, subject=None, refused=str(error))
        yield SideBySide(in_hand, tuple(them))


def _described(subject: Subject, source: Source, listening: Listening) -> Mapping[str, Descriptor]:
    asked = (subject, source, listening)
    known = _CHARACTERS.get(asked)
    if known is None:
        known = describe(subject, source, listening=listening, names=[scale.name for scale in ALL])
        _CHARACTERS.keep(asked, known)
    return known
