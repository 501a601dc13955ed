"""The file rig: a stimulus is played through a real unit by other means; here only its files are seen."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError
from jiyuu.signals.recordings import FULL_SCALE_V, read_recording


@dataclass(frozen=True, slots=True, eq=False)
class RecordedPair:
    """What was played and what was recorded, volts, one rate."""

    stimulus_v: FloatArray
    recording_v: FloatArray
    sample_rate_hz: float


def read_pair(stimulus: Path, recording: Path, *, full_scale_v: float = FULL_SCALE_V) -> RecordedPair:
    """Both files of a measurement. Raises SignalError when they do not belong together."""
    played = read_recording(stimulus, full_scale_v=full_scale_v)
    recorded = read_recording(recording, full_scale_v=full_scale_v)
    if played.sample_rate_hz != recorded.sample_rate_hz:
        raise SignalError(
            f"{recording} has a rate of {recorded.sample_rate_hz} Hz and the stimulus {played.sample_rate_hz} Hz; "
            "record at the rate of the stimulus."
        )
    return RecordedPair(played.loudest_v, recorded.loudest_v, float(played.sample_rate_hz))


def tell_apart(first: Path, second: Path, *, full_scale_v: float = FULL_SCALE_V) -> tuple[Path, Path]:
    """(stimulus, recording) of two files given in any order: the stimulus begins with silence and has no noise in it,
    so more of its samples are exactly or nearly zero."""

    def quiet_share(path: Path) -> float:
        record = read_recording(path, full_scale_v=full_scale_v).loudest_v
        return float(np.mean(np.abs(record) < 1e-6 * np.abs(record).max()))

    return (first, second) if quiet_share(first) >= quiet_share(second) else (second, first)
