"""A filter struck on the notes of a scale, to be tuned as percussion: how far each ring misses its note."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from jiyuu.errors import MeasurementError
from jiyuu.measurement.contexts_moving import StruckOn
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.ping import Ping
from jiyuu.measurement.uncertain import Uncertain

CENTS_PER_SHARE = 1200 / np.log(2)


@dataclass(frozen=True, slots=True)
class StruckNote:
    """off_cents: how much the ring lies over its note; left_cents: the same once the cutoff is turned by what suits all
    of them best. None where nothing swings."""

    note_hz: float
    ring_hz: Uncertain | None
    off_cents: Uncertain | None
    left_cents: float | None


@dataclass(frozen=True, slots=True)
class StruckScale:
    """turn_cents: by how much the cutoff is turned so that the widest miss is as small as it gets."""

    notes: tuple[StruckNote, ...]
    turn_cents: float

    @property
    def widest(self) -> StruckNote:
        """The note that is then missed most."""
        return max((note for note in self.notes if note.left_cents is not None),
                   key=lambda note: abs(note.left_cents or 0.0))


def struck_scale(pings: Sequence[Ping], notes_hz: Sequence[float]) -> StruckScale:
    """pings: one a note of notes_hz (Hz), in their order. Raises MeasurementError where they are not as many, or none
    of them rings."""
    if len(pings) != len(notes_hz):
        raise MeasurementError(f"There are {len(pings)} pulses and {len(notes_hz)} notes; strike it once on every "
                               "note, in their order.")
    off: list[Uncertain | None] = []
    for ping, note_hz in zip(pings, notes_hz, strict=True):
        ring = ping.frequency_hz
        off.append(None if ring is None else Uncertain(1200 * float(np.log2(ring.value / note_hz)),
                                                       CENTS_PER_SHARE * ring.uncertainty / ring.value))
    known = [one.value for one in off if one is not None]
    if not known:
        raise MeasurementError("Nothing rings on any of the notes; raise resonance.")
    turn = -0.5 * (max(known) + min(known))
    return StruckScale(tuple(
        StruckNote(note_hz, ping.frequency_hz, one, None if one is None else one.value + turn)
        for ping, note_hz, one in zip(pings, notes_hz, off, strict=True)), turn)


def scale_finding(found: StruckScale) -> Finding:
    """The widest miss that is left, signed."""
    worst = found.widest
    assert worst.left_cents is not None
    assert worst.off_cents is not None
    return Finding("struck_scale_cents", worst.left_cents, "cents", worst.off_cents.uncertainty,
                   context=StruckOn(len(found.notes), found.turn_cents, worst.note_hz))
