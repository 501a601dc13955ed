"""How long a whistle takes to grow up, from the recording of an impulse and what came of it."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.measurement.steady_pieces import Piece
from jiyuu.measurement.step_tone import turned_down

STARTED = 0.9


def start_up_s(recording_v: FloatArray, sample_rate_hz: float, tone_hz: float, *, from_s: float = 0.0) -> float | None:
    """Time from from_s until the tone's level comes within a tenth of its settled one for good; None where the
    recording (n,) V is too short to say."""
    end_s = recording_v.size / sample_rate_hz
    vector = turned_down(recording_v, sample_rate_hz, Piece(0.0, end_s, tone_hz, 0.0))
    if vector is None or vector.size_v.size < 16:
        return None
    settled = float(np.median(vector.size_v[-vector.size_v.size // 5 :]))
    away = np.flatnonzero(np.abs(vector.size_v / settled - 1) > 1 - STARTED)
    if not away.size:
        return 0.0
    if away[-1] + 1 >= 0.8 * vector.size_v.size:
        return None
    return max(0.0, float(vector.time_s[away[-1] + 1]) - from_s)
