"""Sections of second order one behind the other whose frequency and coefficients move while they play: each by the
trapezoidal rule, its own frequency and width exact, at several times the rate."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from jiyuu.arrays import DEAD, FloatArray
from jiyuu.compiled.entry import Block, Row, Table
from jiyuu.compiled.loops import loop
from jiyuu.signals.long_record import BLOCK, Record
from jiyuu.signals.resampling import DECIMATION_HALF_LENGTH, HALF_LENGTH, decimated, interpolated
from jiyuu.stopping import checkpoint

FINE_HZ = 700_000.0  # at least: the rule is then within 0.2 % at the edge of hearing, and its phase with it
TURN = 64  # fine samples from one look at what moves to the next; straight between them


def through_sections(
    played: Record, sample_rate_hz: float, coefficients: Callable[[FloatArray], FloatArray]
) -> Record:
    """Volts behind all sections. coefficients: at times in s (m,) the frequency in Hz and a1, a0, b2, b1, b0 of
    (b2 s² + b1 s + b0)/(s² + a1 s + a0), s in units of that frequency, of each: (sections, m, 6)."""
    factor = 2 ** math.ceil(math.log2(max(FINE_HZ / sample_rate_hz, 1.0)))
    fine_rate_hz = sample_rate_hz * factor
    half = DECIMATION_HALF_LENGTH * factor
    waiting, out = np.zeros(half), Record()
    states: FloatArray | None = None
    for start in range(0, played.size, BLOCK):
        checkpoint()
        stop = min(start + BLOCK, played.size)
        fine = interpolated(played.read(start - HALF_LENGTH - 1, stop + HALF_LENGTH + 2), factor, HALF_LENGTH + 1,
                            HALF_LENGTH + 1 + stop - start)[:-1]
        looks = np.arange(-(-fine.size // TURN) + 1)
        table = np.array(coefficients((start * factor + looks * TURN) / fine_rate_hz))
        half_turn = np.minimum(np.pi * table[:, :, 0] / fine_rate_hz, 1.5)
        table[:, :, 0] = np.tan(half_turn)
        # The rule squeezes what lies around a frequency by this: so much wider it is right again.
        table[:, :, [1, 4]] *= (half_turn / (np.sin(half_turn) * np.cos(half_turn)))[:, :, np.newaxis]
        states = np.zeros((table.shape[0], 3)) if states is None else states
        found = np.empty(fine.size)
        _run(fine, np.ascontiguousarray(table), states, found)
        if stop == played.size:
            found = np.concatenate([found, np.zeros(half)])
        waiting = np.concatenate([waiting, found])
        out.add(decimated(waiting[np.newaxis], factor)[0])
        waiting = waiting[-2 * half :]
    return out


@loop()
def _run(played: Row, table: Block, states: Table, found: Row) -> None:
    """table (sections, looks, 6) with tan(πf/rate) for the frequency; states (sections, 3): x1, x2 and what each was
    given a sample ago.

    x1' = ω·x2, x2' = ω·(u − a1·x2 − a0·x1), y = b2·u + (b1 − b2·a1)·x2 + (b0 − b2·a0)·x1."""
    for n in range(played.size):
        found[n] = played[n]
    for i in range(states.shape[0]):
        x1, x2, before = states[i, 0], states[i, 1], states[i, 2]
        for look in range(table.shape[1] - 1):
            g, a1, a0, b2, b1, b0 = (table[i, look, 0], table[i, look, 1], table[i, look, 2], table[i, look, 3],
                                     table[i, look, 4], table[i, look, 5])
            g_on, a1_on, a0_on = ((table[i, look + 1, 0] - g) / TURN, (table[i, look + 1, 1] - a1) / TURN,
                                  (table[i, look + 1, 2] - a0) / TURN)
            b2_on, b1_on, b0_on = ((table[i, look + 1, 3] - b2) / TURN, (table[i, look + 1, 4] - b1) / TURN,
                                   (table[i, look + 1, 5] - b0) / TURN)
            for n in range(look * TURN, min((look + 1) * TURN, found.size)):
                u = found[n]
                share = 1 / (1 + g * (a1 + g * a0))
                first = x1 + g * x2
                second = x2 + g * (u + before - a1 * x2 - a0 * x1)
                x2 = (second - g * a0 * first) * share
                x1 = first + g * x2
                x1, x2 = 0.0 if abs(x1) < DEAD else x1, 0.0 if abs(x2) < DEAD else x2
                before = u
                found[n] = b2 * u + (b1 - b2 * a1) * x2 + (b0 - b2 * a0) * x1
                g, a1, a0, b2, b1, b0 = g + g_on, a1 + a1_on, a0 + a0_on, b2 + b2_on, b1 + b1_on, b0 + b0_on
        states[i, 0], states[i, 1], states[i, 2] = x1, x2, before
