"""Filters side by side: their cutoffs brought together by one definition, every quantity of each, and whether a
difference is more than what is not known, and more than what is noticed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from jiyuu.character.descriptors import Descriptor, describe
from jiyuu.character.drawn import reading_of
from jiyuu.character.scales import ALL, Scale
from jiyuu.character.sound import Listening
from jiyuu.character.subject import Subject
from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ, CUTOFF_MINIMUM_HZ
from jiyuu.circuits.linear import onset
from jiyuu.errors import CircuitError
from jiyuu.signals.source import Source
from jiyuu.simulation.oscillation import oscillation
from jiyuu.stopping import side_by_side

ROUNDS = 30
TOGETHER = 1e-7  # relative, when two places count as one


class Same(StrEnum):
    """By what two filters have the same cutoff: their poles, −3 dB points, peaks, whistles; or as each is set."""

    POLE = "pole"
    DB3 = "3db"
    PEAK = "peak"
    PITCH = "pitch"
    KNOB = "knob"


class Verdict(StrEnum):
    """What a difference is worth."""

    NOT_MEASURED = "not measured to differ"
    HARDLY = "measured, hardly heard"
    HEARD = "heard"
    NO_THRESHOLD = "measured; no published threshold"
    NOT_COMPARABLE = "not comparable"


def place_hz(subject: Subject, same: Same) -> float:
    """Where a filter's cutoff lies by a definition. Raises CircuitError where it has no such place."""
    match same:
        case Same.POLE | Same.KNOB:
            return subject.cutoff_hz
        case Same.PITCH:
            if subject.whistles:
                tone = oscillation(subject.network, subject.mode, cutoff_hz=subject.cutoff_hz, gain=subject.gain)
                if tone is not None:
                    return tone.frequency_hz
            begins = onset(subject.network, cutoff_hz=subject.cutoff_hz)
            if begins is None:
                raise CircuitError(f"{subject.filter.name} never whistles, so it has no pitch; compare by pole or 3db.")
            return begins.frequency_hz
    reading = reading_of(subject)
    if reading is None:
        raise CircuitError(f"{subject.filter.name} has no response at rest to read its {same} from (it whistles, or is "
                           "flat); compare by pole or pitch.")
    found = reading.peak_hz if same is Same.PEAK else reading.cutoff_3db_hz or reading.high_3db_hz
    if found is None:
        what = "peak; raise its resonance" if same is Same.PEAK else "−3 dB point"
        raise CircuitError(f"{subject.filter.name} has no {what}, or compare by pole.")
    return found


def brought_to(subject: Subject, hertz: float, same: Same) -> Subject:
    """Its knob turned until its cutoff lies there by the definition. Raises CircuitError where it cannot."""
    if same is Same.KNOB:
        return subject
    moved = subject
    for _ in range(ROUNDS):
        ratio = hertz / place_hz(moved, same)
        wanted = moved.cutoff_hz * ratio
        if not CUTOFF_MINIMUM_HZ <= wanted <= CUTOFF_MAXIMUM_HZ:
            raise CircuitError(f"{subject.filter.name} cannot be brought to {hertz:.4g} Hz by {same}: its poles would "
                               f"stand at {wanted:.4g} Hz; set the first filter's cutoff elsewhere.")
        if abs(ratio - 1) < TOGETHER:
            return moved
        moved = moved.at(wanted)
    return moved


def aligned(subjects: Sequence[Subject], same: Same) -> list[Subject]:
    """All at the first one's cutoff. Raises CircuitError where one has no such place."""
    if same is Same.KNOB:
        return [*subjects]
    goal = place_hz(subjects[0], same)
    return [subjects[0], *(brought_to(one, goal, same) for one in subjects[1:])]


@dataclass(frozen=True, slots=True)
class Compared:
    """One quantity of all of them. differences: of each re the first, None where either has no such value; verdict on
    the largest; jnd about the middle of the values."""

    scale: Scale
    values: tuple[Descriptor, ...]
    differences: tuple[float | None, ...]
    jnd: float | None
    verdict: Verdict

    @property
    def difference(self) -> float | None:
        """Of the second re the first."""
        return self.differences[1]


@dataclass(frozen=True, slots=True, eq=False)
class Comparison:
    """subjects as they were compared, first to last; quantities in the order of ALL."""

    subjects: tuple[Subject, ...]
    same: Same
    equal_loudness: bool
    quantities: tuple[Compared, ...]


def compare(
    subjects: Sequence[Subject], source: Source, *, same: Same = Same.POLE, equal_loudness: bool = True
) -> Comparison:
    """At least two filters. Raises CircuitError where they cannot be brought together, SignalError for a source that
    cannot be judged by."""
    if len(subjects) < 2:
        raise CircuitError("A comparison takes at least two filters; give another.")
    together = aligned(subjects, same)
    listening, names = Listening(equal_loudness), [scale.name for scale in ALL]

    def of(subject: Subject) -> dict[str, Descriptor]:
        return describe(subject, source, listening=listening, names=names)

    found = list(side_by_side(of, together))
    return Comparison(tuple(together), same, equal_loudness, tuple(
        weighed(scale, [each[scale.name] for each in found]) for scale in ALL))


def weighed(scale: Scale, values: Sequence[Descriptor]) -> Compared:
    """What the differences of one quantity are worth."""
    first = values[0].value
    differences = tuple(None if one.value is None or first is None else one.value - first for one in values)
    known = [(one.value, one.uncertainty or 0.0) for one in values if one.value is not None]
    if len(known) < len(values):
        return Compared(scale, tuple(values), differences, None, Verdict.NOT_COMPARABLE)
    low, high = min(known), max(known)
    apart, doubt = high[0] - low[0], float(np.hypot(low[1], high[1]))
    jnd = scale.noticed.at((high[0] + low[0]) / 2)
    if apart <= doubt:
        verdict = Verdict.NOT_MEASURED
    elif jnd is None:
        verdict = Verdict.NO_THRESHOLD
    else:
        verdict = Verdict.HARDLY if apart < jnd else Verdict.HEARD
    return Compared(scale, tuple(values), differences, jnd, verdict)


def cutoffs_by(subjects: Sequence[Subject]) -> dict[Same, tuple[float, ...] | None]:
    """Where the poles of each would stand under every definition; None where one of them has no such place."""
    found: dict[Same, tuple[float, ...] | None] = {}
    for same in Same:
        try:
            found[same] = tuple(one.cutoff_hz for one in aligned(subjects, same))
        except CircuitError:
            found[same] = None
    return found
