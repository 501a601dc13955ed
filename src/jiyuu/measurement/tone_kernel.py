"""The loops of `tone`: DC and harmonics of one pitch against a record, so many samples side by side."""

import numpy as np

from jiyuu.compiled.entry import Row
from jiyuu.compiled.loops import loop

LANES = 64


@loop("contract")
def _lanes(turn: float) -> tuple[Row, Row]:
    """Cosine and sine of so many samples side by side, from the first."""
    real, imag = np.empty(LANES), np.empty(LANES)
    for j in range(LANES):
        real[j], imag[j] = np.cos(turn * j), np.sin(turn * j)
    return real, imag


@loop("contract")
def _turned(lane_real: Row, lane_imag: Row, angle: float, real: Row, imag: Row) -> None:
    """Lanes, turned by an angle."""
    cosine, sine = np.cos(angle), np.sin(angle)
    for j in range(LANES):
        real[j] = cosine * lane_real[j] - sine * lane_imag[j]
        imag[j] = cosine * lane_imag[j] + sine * lane_real[j]


@loop("reassoc", "contract")
def against(record: Row, first: float, turn: float, harmonics: int) -> Row:
    """(1 + 2·harmonics,) sums of a record (n,) against one, then cosine and sine of every harmonic; first: the time of
    its first sample, in samples."""
    found = np.zeros(1 + 2 * harmonics)
    lane_real, lane_imag = _lanes(turn)
    once_real, once_imag, real, imag = np.empty(LANES), np.empty(LANES), np.empty(LANES), np.empty(LANES)
    for start in range(0, record.size, LANES):
        here = record[start : start + LANES]
        _turned(lane_real, lane_imag, turn * (first + start), once_real, once_imag)
        for j in range(LANES):
            real[j], imag[j] = once_real[j], once_imag[j]
        for j in range(here.size):
            found[0] += here[j]
        for h in range(harmonics):
            one, other = 0.0, 0.0
            for j in range(here.size):
                one += real[j] * here[j]
                other += imag[j] * here[j]
            found[1 + 2 * h] += one
            found[2 + 2 * h] += other
            for j in range(LANES):
                next_real = real[j] * once_real[j] - imag[j] * once_imag[j]
                imag[j] = real[j] * once_imag[j] + imag[j] * once_real[j]
                real[j] = next_real
    return found


@loop("contract")
def left_by(record: Row, first: float, turn: float, weights: Row) -> tuple[Row, float, float]:
    """(what weights (1 + 2k,) leave of a record (n,), its sum against their slope by the turn, the sum of that slope's
    square)."""
    left, along, information = np.empty(record.size), 0.0, 0.0
    lane_real, lane_imag = _lanes(turn)
    once_real, once_imag, real, imag = np.empty(LANES), np.empty(LANES), np.empty(LANES), np.empty(LANES)
    model, slope = np.empty(LANES), np.empty(LANES)
    for start in range(0, record.size, LANES):
        _turned(lane_real, lane_imag, turn * (first + start), once_real, once_imag)
        for j in range(LANES):
            real[j], imag[j] = once_real[j], once_imag[j]
            model[j], slope[j] = weights[0], 0.0
        for h in range(weights.size // 2):
            a, b = weights[1 + 2 * h], weights[2 + 2 * h]
            for j in range(LANES):
                model[j] += a * real[j] + b * imag[j]
                slope[j] += (h + 1) * (b * real[j] - a * imag[j])
                next_real = real[j] * once_real[j] - imag[j] * once_imag[j]
                imag[j] = real[j] * once_imag[j] + imag[j] * once_real[j]
                real[j] = next_real
        for j in range(min(LANES, record.size - start)):
            rest, by_turn = record[start + j] - model[j], (first + start + j) * slope[j]
            left[start + j] = rest
            along += rest * by_turn
            information += by_turn * by_turn
    return left, along, information
