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
from jiyuu.patch.around import Surrounded
from jiyuu.patch.document import FilterStage, Shape
from jiyuu.signals.source import Source

FIRST_JNDS, MOST_JNDS, LEAST_JNDS, FACTOR = 8.0, 24.0, 1.0, 1.5
REVERSALS, COUNTED, MOST_QUESTIONS = 8, 6, 40
HALVINGS, HALVINGS_HEARD = 24, 6  # where a number follows from the drawing, and where both have to be played
IN_HAND = "filter"
LADDER, DIODE_LADDER, STATE_VARIABLE = "transistor-ladder", "diode-ladder", "state-variable"
SLOPES = ("lowpass-24", "lowpass-18", "lowpass-12", "lowpass-6")
MOST_OF_ONSET = 0.97
SOFT, MOST_DRIVE = 0.03, 16.0  # ahead of it: where it hardly bends, and by how much more at most
LOW = 0.33
STRAIGHT_V, BENT_V = 0.3, 0.003  # headroom of a stage that so soft a signal does not bend, and one it drives flat


class Topic(StrEnum):
    """What an ear is asked for."""

    CUTOFF = "cutoff"
    RESONANCE = "resonance"
    SLOPE = "slope"
    BASS = "bass"
    DRIVE = "drive"
    PLACE = "place of drive"
    MODE = "mode"
    FAMILY = "family"


# What is asked, and the quantity by which one has more of it.
ASKED = {Topic.CUTOFF: ("Which is open further?", "cutoff_3db_hz"),
         Topic.RESONANCE: ("Which has more resonance?", "peak"),
         Topic.SLOPE: ("Which falls more steeply?", "edge"), Topic.BASS: ("Which keeps more bass?", "bass_kept"),
         Topic.DRIVE: ("Which is driven harder?", "grit"),
         Topic.PLACE: ("Which is driven behind the filter (the other ahead of it)?", "brightness"),
         Topic.MODE: ("Which is the bandpass (the other a lowpass)?", "brightness"),
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
                       SOFT if topic in (Topic.DRIVE, Topic.PLACE, Topic.MODE) else 1.0)
        pair = _PAIRED[topic](base, wanted) if topic in _PAIRED else (base, _MOVED[topic](base, wanted))
        first, second = sorted(((_value(topic, one), i, one) for i, one in enumerate(pair)),
                               key=lambda one: one[:2])
        if topic in _PAIRED and second[2] is not pair[-1]:
            continue  # the one that is asked for by its name would have less of the quantity
        apart = _jnds(topic, first[0], second[0])
        if apart >= LEAST_JNDS * (1 - 1e-6):
            more = int(draw.integers(2))
            if more == 0:
                first, second = second, first
            return Question(topic, (first[2], second[2]), more, (first[0], second[0]), apart)
    raise MeasurementError(f"No two filters were found that differ enough in {topic}; ask for another topic.")


Both = tuple[Subject, Subject]


def _two_families(base: Subject, jnds: float) -> Both:
    """Both at one share of their onsets, so that they peak about alike: the more resonance, the more bass the one loses
    beyond the other."""
    other = replace(base, filter=Filter(name="Question", circuit=DIODE_LADDER))

    def at(share: float) -> Both:
        return (replace(other, gain=share * MOST_OF_ONSET * _onset_gain(DIODE_LADDER)),
                replace(base, gain=share * MOST_OF_ONSET * _onset_gain()))

    return _both_apart(Topic.FAMILY, at, jnds, HALVINGS)


def _two_modes(base: Subject, jnds: float) -> Both:
    """Lowpass and bandpass of one circuit: the less resonance they have in common, the less they are alike."""
    alone = replace(base, filter=Filter(name="Question", circuit=STATE_VARIABLE))

    def at(share: float) -> Both:
        one = replace(alone, gain=(1 - share) * MOST_OF_ONSET * _onset_gain(STATE_VARIABLE))
        return replace(one, mode="lowpass"), replace(one, mode="bandpass")

    return _both_apart(Topic.MODE, at, jnds, HALVINGS_HEARD)


def _two_places(base: Subject, jnds: float) -> Both:
    """One soft stage ahead of the filter, or behind it, where nothing takes off what it adds; ever less headroom. The
    filter stands low, or there would be little for it to take off."""
    base = base.at(LOW * base.cutoff_hz)

    def at(share: float) -> Both:
        headroom_v = STRAIGHT_V * (BENT_V / STRAIGHT_V) ** share
        return driven_at(base, headroom_v, behind=False), driven_at(base, headroom_v, behind=True)

    return _both_apart(Topic.PLACE, at, jnds, HALVINGS_HEARD)


def driven_at(base: Subject, headroom_v: float, *, behind: bool) -> Subject:
    """With a soft stage of that headroom ahead of the filter or behind it."""
    soft = Shape(stage="shape", headroom_v=headroom_v)
    own = FilterStage(stage="filter", id=IN_HAND, filter=base.filter.circuit)
    alone = {**dict(base.filter), "mode": base.mode, "cutoff_hz": base.cutoff_hz}
    return replace(base, filter=Surrounded.model_construct(
        **alone, path=(own, soft) if behind else (soft, own), in_hand=IN_HAND))


def _both_apart(topic: Topic, at: Callable[[float], Both], jnds: float, halvings: int) -> Both:
    """The two, ever farther apart from a share of 0 to 1, where they are so many apart; or as far as they go."""
    low, high = 0.0, 1.0
    for _ in range(halvings):
        middle = 0.5 * (low + high)
        apart = _jnds(topic, *(_value(topic, one) for one in at(middle)))
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
# Pairs whose second is the one that is asked for by its name.
_PAIRED: dict[Topic, Callable[[Subject, float], Both]] = {
    Topic.FAMILY: _two_families, Topic.MODE: _two_modes, Topic.PLACE: _two_places,
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
