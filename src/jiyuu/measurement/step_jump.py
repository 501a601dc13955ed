"""A steady tone whose phase jumps while it sounds: samples were lost on the way, or came twice."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.steady_pieces import Piece
from jiyuu.measurement.step_lines import divided
from jiyuu.measurement.step_tone import ALIKE, FLOOR_CENTS, StepTone, turned_down
from jiyuu.measurement.uncertain import COVERAGE, Uncertain
from jiyuu.stopping import checkpoint

FEWEST, BESIDE = 32, 6  # points of a tone; on either side of a jump
WITHIN = 2  # points on either side that the smoothing draws a jump over
PLACES, FINER = 64, 8  # tried first; by which the places tried then lie closer
LEAST_RAD, CLEAR = 0.03, 10.0  # of a jump, and in its standard deviations
EXPLAINED, LEFT = 9.0, 3.0  # of the squares by it; standard deviations of the noise that may be left beside it


def without_jump(recording_v: FloatArray, sample_rate_hz: float, tone: StepTone) -> tuple[StepTone, Notice | None]:
    """The tone by the pitch that it has on both sides of a jump of its phase, and where that is; as it was where there
    is none."""
    hertz = tone.frequency_hz.value
    divisor = divided(recording_v, sample_rate_hz, tone.start_s, tone.stop_s, hertz).divisor
    vector = turned_down(recording_v, sample_rate_hz, Piece(tone.start_s, tone.stop_s, hertz, 0.0), divisor)
    if vector is None:
        return tone, None
    inside = (vector.time_s >= tone.start_s) & (vector.time_s <= tone.stop_s)
    phase, time_s = np.unwrap(np.angle(vector.turned[inside])), vector.time_s[inside]
    count = time_s.size
    if count < FEWEST:
        return tone, None
    t = time_s - 0.5 * (time_s[0] + time_s[-1])
    lagged = phase[:-8] - 2 * phase[4:-4] + phase[8:]  # two smoothings apart: no longer alike
    noise = max(1.4826 * float(np.median(np.abs(lagged))) / np.sqrt(6), 1e-9)
    plain = np.stack([np.ones(count), t, t * t], axis=1)
    if np.abs(phase - plain @ np.linalg.lstsq(plain, phase, rcond=None)[0]).max() < CLEAR * noise:
        return tone, None

    def left(place: int) -> tuple[float, int]:
        checkpoint()
        kept = np.abs(np.arange(count) - place) > WITHIN
        design = np.column_stack([plain, np.arange(count) > place])[kept]
        answer, *_ = np.linalg.lstsq(design, phase[kept], rcond=None)
        return float(np.sum((phase[kept] - design @ answer) ** 2)), place

    stride, low, high = max(count // PLACES, 1), BESIDE, count - BESIDE
    squares, place = min(left(one) for one in range(low, high, stride))
    while stride > 1:  # coarse first: a minute has tens of thousands of places
        low, high = max(place - stride, BESIDE), min(place + stride + 1, count - BESIDE)
        stride = max(stride // FINER, 1)
        squares, place = min(left(one) for one in range(low, high, stride))
    kept = np.abs(np.arange(count) - place) > WITHIN
    design = np.column_stack([plain, np.arange(count) > place])[kept]
    answer, *_ = np.linalg.lstsq(design, phase[kept], rcond=None)
    without, *_ = np.linalg.lstsq(plain[kept], phase[kept], rcond=None)
    deviation = float(np.sqrt(squares / (kept.sum() - 4)))
    spread = ALIKE * deviation * np.sqrt(np.diag(np.linalg.inv(design.T @ design)))
    jump = abs(float(answer[3]))
    if (EXPLAINED * squares > float(np.sum((phase[kept] - plain[kept] @ without) ** 2)) or deviation > LEFT * noise
            or jump < max(LEAST_RAD, CLEAR * float(spread[3]))):
        return tone, None
    hertz = vector.rough_hz + float(answer[1]) / (2 * np.pi)
    doubt = max(COVERAGE * float(spread[1]) / (2 * np.pi), hertz * np.log(2) * FLOOR_CENTS / 1200)
    return replace(tone, frequency_hz=Uncertain(hertz, doubt)), Notice(Fault.SAMPLES_LOST, float(time_s[place]))
