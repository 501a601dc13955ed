"""Loops without a seam, and nothing above the ceiling."""

import numpy as np

from jiyuu.signals.ceiling import CEILING_DB, under_ceiling
from jiyuu.signals.looped import SEAM_S, seamless

RATE = 48_000
CEILING = 10 ** (CEILING_DB / 20)


def sine(hertz, seconds, level=0.2):
    return level * np.sin(2 * np.pi * hertz * np.arange(round(seconds * RATE)) / RATE)


def test_a_loop_has_no_seam():
    record = sine(97.3, 0.5)  # not a whole number of periods
    joined = seamless(record, RATE)
    assert joined.size == record.size - round(SEAM_S * RATE)
    steepest = np.abs(np.diff(record)).max()
    assert np.abs(np.diff(np.tile(joined, 3))).max() < 1.3 * steepest
    assert np.abs(np.diff(np.tile(record, 3))).max() > 5 * steepest  # what is mended


def test_the_ceiling_with_and_without_fades():
    loud = sine(50, 0.5, level=4.0)
    assert abs(under_ceiling(loud, RATE)[0]) == 0
    unfaded = under_ceiling(np.roll(loud, 200), RATE, fades=False)
    assert abs(unfaded[0]) > 0.5 * CEILING
    assert np.abs(unfaded).max() <= CEILING
