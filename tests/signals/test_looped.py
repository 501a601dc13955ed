"""Loops without a seam, changes without a click, and nothing above the ceiling."""

import numpy as np
import pytest

from jiyuu.signals.ceiling import CEILING_DB, under_ceiling
from jiyuu.signals.looped import CHANGE_S, SEAM_S, LoopPlayer, seamless

RATE = 48_000
CEILING = 10 ** (CEILING_DB / 20)


def sine(hertz, seconds, level=0.2):
    return level * np.sin(2 * np.pi * hertz * np.arange(round(seconds * RATE)) / RATE)


def played(player, seconds, piece=480):
    return np.concatenate([player.fill(piece) for _ in range(round(seconds * RATE / piece))])


def test_a_loop_has_no_seam():
    record = sine(97.3, 0.5)  # not a whole number of periods
    joined = seamless(record, RATE)
    assert joined.size == record.size - round(SEAM_S * RATE)
    steepest = np.abs(np.diff(record)).max()
    assert np.abs(np.diff(np.tile(joined, 3))).max() < 1.3 * steepest
    assert np.abs(np.diff(np.tile(record, 3))).max() > 5 * steepest  # what is mended


def test_a_loop_sounds_on_and_gives_way_without_a_click():
    player = LoopPlayer(RATE)
    player.play(seamless(sine(200, 0.3), RATE), loop=True)
    first = played(player, 1.0)
    assert np.abs(first[-RATE // 10 :]).max() == pytest.approx(0.2, rel=0.01)
    player.play(sine(300, 0.3), loop=True)
    second = played(player, 0.2)
    assert np.abs(np.diff(np.concatenate([first, second]))).max() < 2.2 * np.pi * 300 * 0.25 / RATE * 2
    spectrum = np.abs(np.fft.rfft(second[-4800:] * np.hanning(4800)))
    assert spectrum.argmax() * RATE / 4800 == pytest.approx(300, abs=10)
    assert spectrum[20] < 0.01 * spectrum.max()  # nothing is left of 200 Hz


def test_it_fades_in_and_out_and_ends():
    player = LoopPlayer(RATE)
    player.play(np.full(RATE, 0.2), loop=True)
    start = played(player, 0.1)
    assert start[0] < 1e-5
    assert np.abs(np.diff(start)).max() < 0.2 * np.pi / 2 / (CHANGE_S * RATE) * 1.1
    player.fade_out()
    end = played(player, 0.1)
    assert end[0] == pytest.approx(0.2, rel=0.01)
    assert not end[-480:].any()
    assert not player.sounding
    player.play(sine(100, 0.05), loop=False)
    played(player, 0.1)
    assert not player.sounding
    assert not player.fill(64).any()


def test_changed_many_times_at_once_it_stays_under_the_ceiling():
    player = LoopPlayer(RATE)
    generator = np.random.default_rng(4)
    out = []
    for _ in range(20):
        loud = under_ceiling(3 * generator.standard_normal(RATE // 4), RATE, fades=False)
        player.play(seamless(loud, RATE), loop=True)
        out.append(played(player, 0.01, 120))
    assert np.abs(np.concatenate(out)).max() <= CEILING
    player.play(np.full(100, 7.0), loop=True)  # nobody kept it under
    assert np.abs(played(player, 0.2)).max() <= CEILING


def test_the_ceiling_with_and_without_fades():
    loud = sine(50, 0.5, level=4.0)
    assert abs(under_ceiling(loud, RATE)[0]) == 0
    unfaded = under_ceiling(np.roll(loud, 200), RATE, fades=False)
    assert abs(unfaded[0]) > 0.5 * CEILING
    assert np.abs(unfaded).max() <= CEILING
