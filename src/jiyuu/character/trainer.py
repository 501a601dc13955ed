"""Questions for the ear: two filters apart in one quantity by so many just-noticeable differences, by and by fewer.

Two right answers in a row make the next question harder, a wrong one easier: the difference settles where 71 % are
right (Levitt 1971, JASA). No question ever asks for less than one just-noticeable difference.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np

from jiyuu.character.comparison import Same, brought_to, place_hz
from jiyuu.character.descriptors import describe
from jiyuu.character.scales import SCALE
from jiyuu.character.subject import Subject
from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.filter_file import Filter
from jiyuu.errors import MeasurementError
from jiyuu.signals.source import Source

FIRST_JNDS, MOST_JNDS, LEAST_JNDS, FACTOR = 8.0, 24.0, 1.0, 1.5
REVERSALS, COUNTED, MOST_QUESTIONS = 8, 6, 40
HALVINGS = 24
LADDER, DIODE_LADDER = "transistor-ladder", "diode-ladder"
SLOPES = ("lowpass-24", "lowpass-18", "lowpass-12", "lowpass-6")
MOST_OF_ONSET = 0.97
SOFT, MOST_DRIVE = 0.03, 16.0  # ahead of it: where it hardly bends, and by how much more at most


class Topic(StrEnum):
    """What an ear is asked for."""

    CUTOFF = "cutoff"
    RESONANCE = "resonance"
    SLOPE = "slope"
    BASS = "bass"
    DRIVE = "drive"
    FAMILY = "family"


# What is asked, and the quantity by which one has more of it.
ASKED = {Topic.CUTOFF: ("Which is open further?", "cutoff_3db_hz"),
         Topic.RESONANCE: ("Which has more resonance?", "peak"),
         Topic.SLOPE: ("Which falls more steeply?", "edge"), Topic.BASS: ("Which keeps more bass?", "bass_kept"),
         Topic.DRIVE: ("Which is driven harder?", "grit"),
         Topic.FAMILY: ("Which is the transistor ladder (the other a diode ladder)?", "bass_kept")}


@dataclass(frozen=True, slots=True)
class Question:
    """pair: two subjects; more: which of them has more of the quantity; values of both in its unit; jnds: by how many
    just-noticeable differences they are apart."""

    topic: Topic
    pair: tuple[Subject, Subject]
    more: int
    values: tuple[float, float]
    jnds: float


def question(topic: Topic, jnds: float, seed: int) -> Question:
    """Two filters apart by jnds just-noticeable differences of the topic's quantity (at least one), as far as circuits
    go; which is first, and where they stand, is drawn. Raises MeasurementError where no such two are found."""
    draw = np.random.default_rng(seed)
    wanted = max(jnds, LEAST_JNDS)
    for _ in range(8):
        base = Subject(Filter(name="Question", circuit=LADDER), SLOPES[0], float(300 * 4 ** draw.random()),
                       float(_onset_gain() * (0.3 + 0.3 * draw.random())),
                       SOFT if topic is Topic.DRIVE else 1.0)
        pair = _two_families(base, wanted) if topic is Topic.FAMILY else (base, _MOVED[topic](base, wanted))
        first, second = sorted(((_value(topic, one), i, one) for i, one in enumerate(pair)),
                               key=lambda one: one[:2])
        apart = _jnds(topic, first[0], second[0])
        if apart >= LEAST_JNDS * (1 - 1e-6):
            more = int(draw.integers(2))
            if more == 0:
                first, second = second, first
            return Question(topic, (first[2], second[2]), more, (first[0], second[0]), apart)
    raise MeasurementError(f"No two filters were found that differ enough in {topic}; ask for another topic.")


def _two_families(base: Subject, jnds: float) -> tuple[Subject, Subject]:
    """Both at one share of their onsets, so that they peak about alike: the more resonance, the more bass the one loses
    beyond the other."""
    other = replace(base, filter=Filter(name="Question", circuit=DIODE_LADDER))

    def at(share: float) -> tuple[Subject, Subject]:
        return replace(base, gain=share * _onset_gain()), replace(other, gain=share * _onset_gain(DIODE_LADDER))

    low, high = 0.0, MOST_OF_ONSET
    for _ in range(HALVINGS):
        middle = 0.5 * (low + high)
        apart = _jnds(Topic.FAMILY, *(_value(Topic.FAMILY, one) for one in at(middle)))
        low, high = (middle, high) if apart < jnds else (low, middle)
    return at(high)


def _onset_gain(name: str = LADDER) -> float:
    found = circuit(name).onset_gain
    assert found is not None
    return found


def _value(topic: Topic, subject: Subject) -> float:
    name = ASKED[topic][1]
    value = describe(subject, Source(), names=[name])[name].value
    return float("nan") if value is None else value


def _jnds(topic: Topic, one: float, other: float) -> float:
    """How many just-noticeable differences lie between two values; of a share they multiply."""
    noticed = SCALE[ASKED[topic][1]].noticed
    if noticed.absolute is not None:
        return abs(one - other) / noticed.absolute
    assert noticed.share is not None
    return float(abs(np.log(one / other)) / np.log1p(noticed.share))


def _searched(topic: Topic, base: Subject, jnds: float, move: Callable[[float], Subject]) -> Subject:
    """The subject, moved by a share from 0 to 1, that is so many apart; the farthest where even that is not enough."""
    begun, low, high = _value(topic, base), 0.0, 1.0
    if _jnds(topic, begun, _value(topic, move(1.0))) <= jnds:
        return move(1.0)
    for _ in range(HALVINGS):
        middle = 0.5 * (low + high)
        if _jnds(topic, begun, _value(topic, move(middle))) < jnds:
            low = middle
        else:
            high = middle
    return move(high)


def _further_open(base: Subject, jnds: float) -> Subject:
    share = SCALE[ASKED[Topic.CUTOFF][1]].noticed.share
    assert share is not None
    return base.at(base.cutoff_hz * float((1 + share) ** jnds))


def _more_resonance(base: Subject, jnds: float) -> Subject:
    top = MOST_OF_ONSET * _onset_gain()
    return _searched(Topic.RESONANCE, base, jnds, lambda share: replace(base, gain=base.gain + share * (
        top - base.gain)))


def _another_slope(base: Subject, jnds: float) -> Subject:
    """The two modes that are least apart of those that are far enough, at one −3 dB point."""
    place = place_hz(base, Same.DB3)
    others = [brought_to(replace(base, mode=mode), place, Same.DB3) for mode in SLOPES[1:]]
    begun = _value(Topic.SLOPE, base)
    apart = [_jnds(Topic.SLOPE, begun, _value(Topic.SLOPE, other)) for other in others]
    enough = [(far, i) for i, far in enumerate(apart) if far >= jnds]
    return others[min(enough)[1] if enough else int(np.argmax(apart))]


def _more_bass(base: Subject, jnds: float) -> Subject:
    return _searched(Topic.BASS, base, jnds, lambda share: replace(base, filter=base.filter.model_copy(
        update={"parameters": {"compensation": share}})))


def _harder_driven(base: Subject, jnds: float) -> Subject:
    return _searched(Topic.DRIVE, base, jnds, lambda share: replace(base, drive=base.drive * MOST_DRIVE**share))


_MOVED: dict[Topic, Callable[[Subject, float], Subject]] = {
    Topic.CUTOFF: _further_open, Topic.RESONANCE: _more_resonance, Topic.SLOPE: _another_slope, Topic.BASS: _more_bass,
    Topic.DRIVE: _harder_driven,
}


@dataclass(frozen=True, slots=True)
class Staircase:
    """trail: of every question so far, by how many just-noticeable differences it was apart, and whether the answer was
    right."""

    topic: Topic
    trail: tuple[tuple[float, bool], ...] = ()

    def answered(self, jnds: float, right: bool) -> Staircase:
        return replace(self, trail=(*self.trail, (jnds, right)))

    def _run(self) -> tuple[float, list[float]]:
        """(what the next question asks for, levels at which the way turned)."""
        level, row, way = FIRST_JNDS, 0, 0
        turns: list[float] = []
        for _, right in self.trail:
            row = row + 1 if right else 0
            step = 1 if not right else -1 if row == 2 else 0
            if step == 0:
                continue
            row = 0
            if way and step != way:
                turns.append(level)
            way = step
            level = min(max(level * FACTOR**step, LEAST_JNDS), MOST_JNDS)
        return level, turns

    @property
    def jnds(self) -> float:
        """What the next question asks for."""
        return self._run()[0]

    @property
    def over(self) -> bool:
        return len(self._run()[1]) >= REVERSALS or len(self.trail) >= MOST_QUESTIONS

    @property
    def threshold_jnds(self) -> float | None:
        """Geometric mean of the last turns; None before there are enough of them."""
        turns = self._run()[1][-COUNTED:]
        return None if len(turns) < COUNTED else float(np.exp(np.mean(np.log(turns))))
