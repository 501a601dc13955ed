"""What is wrong with a recording, or with what may be read from it: said beside the numbers, never left out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum


class Fault(StrEnum):
    """The values are codes that scripts rely on."""

    CLIPPED = "clipped"
    GAIN_CHANGED = "gain_changed"
    DROPOUT = "dropout"
    SAMPLES_LOST = "samples_lost"
    STARTED_LATE = "started_late"
    ENDED_EARLY = "ended_early"
    RATE_MISMATCH = "rate_mismatch"
    CHANNEL_CHOSEN = "channel_chosen"
    HUM = "hum"
    INTERFACE_HIGHPASS = "interface_highpass"
    COMPRESSED = "compressed"
    QUANTISED = "quantised"
    PASSBAND_OUTSIDE = "passband_outside"
    SWAPPED_FILES = "swapped_files"
    OCTAVE_UNCERTAIN = "octave_uncertain"
    VIBRATO = "vibrato"
    OCTAVE_JUMP = "octave_jump"
    PITCH_UNSTEADY = "pitch_unsteady"
    FEWER_PASSAGES = "fewer_passages"


@dataclass(frozen=True, slots=True)
class Notice:
    """at_s: seconds from the first sample of the recording, None where it is the whole of it. facts: what its sentence
    needs besides."""

    fault: Fault
    at_s: float | None = None
    facts: Mapping[str, float | str] = field(default_factory=dict)
