"""What is left behind a note, against closed forms of what rings and of what bends ahead of it."""

import numpy as np
import pytest

from jiyuu.bench.walk import walk
from jiyuu.patch.document import Patch
from jiyuu.prediction.driven_ring import AFTER_S, FADE_S, NOTE_S, RATE_HZ, ring_findings, ring_ladder, rings
from jiyuu.wording.findings import sentence

walk()  # every step's words are known
TIMES_S = np.arange(round(NOTE_S * RATE_HZ)) / RATE_HZ


def patch(*path):
    return Patch.model_validate({"format": "jiyuu-patch", "version": 1, "name": "ring", "path": path})


def comb(feedback, hertz=110.0, **more):
    return {"stage": "comb", "frequency_hz": hertz, "feedback": feedback, **more}


def sine(hertz):
    return np.sin(2 * np.pi * hertz * TIMES_S)


@pytest.mark.parametrize("feedback", [0.5, -0.85, 0.95])
def test_a_comb_dies_as_long_as_its_feedback_says_and_keeps_up_with_its_note(feedback):
    soft, loud = ring_ladder(patch(comb(feedback)), sine(110.0 if feedback > 0 else 55.0), [5.0, 0.05])
    for rung in (soft, loud):
        assert rung.ring_s == pytest.approx(-3 / 110 / np.log10(abs(feedback)), rel=0.02)
    assert loud.ring_v == pytest.approx(100 * soft.ring_v, rel=1e-9)
    assert loud.behind_db == pytest.approx(0.0, abs=1e-9)
    assert "its ring is in proportion to 0.05 V" in sentence(ring_findings([soft, loud])[0])


@pytest.mark.long
def test_what_rings_for_longer_than_anyone_waits_is_told_by_how_it_falls():
    (rung,) = ring_ladder(patch(comb(0.97, 20.0)), sine(20.0), [1.0])
    assert rung.ring_s == pytest.approx(-3 / 20 / np.log10(0.97), rel=0.02)


def test_a_band_dies_as_its_q_says():
    """A resonance of Q falls by 60 dB in ln(1000)·Q/(π·f)."""
    bank = {"stage": "bank", "bands": 1, "lowest_hz": 440.0, "q": 150.0}
    (rung,) = ring_ladder(patch(bank), sine(440.0), [1.0])
    assert rung.ring_s == pytest.approx(np.log(1000) * 150 / (np.pi * 440), rel=0.01)
    assert rung.centre_hz == pytest.approx(440, rel=0.01)


def test_what_bends_ahead_leaves_the_ring_behind_and_wakes_more_teeth():
    """A comb whose every tooth lies on a harmonic passes a repeating sound by one factor, so that the ring is as the
    shaped wave: its power by quadrature, its middle from its lines."""
    shape = {"stage": "shape", "kind": "tanh", "headroom_v": 1.0}
    levels_v = [0.01, 1.0, 4.0]
    phase = 2 * np.pi * (np.arange(4096) + 0.5) / 4096
    told = list(ring_ladder(patch(shape, comb(0.97)), sine(110.0), levels_v))
    rms = [np.sqrt(np.mean(np.tanh(level * np.sin(phase)) ** 2)) / level for level in levels_v]
    for rung, wanted in zip(told, rms, strict=True):
        assert rung.behind_db == pytest.approx(20 * np.log10(rms[0] / wanted), abs=0.05)
        assert rung.ring_s == pytest.approx(-3 / 110 / np.log10(0.97), rel=0.02)
    lines = np.abs(np.fft.rfft(np.tanh(4 * np.sin(phase)))) ** 2
    middle = 110 * np.sum(lines * np.arange(lines.size)) / lines.sum()
    assert told[2].centre_hz == pytest.approx(middle, rel=0.05)
    assert told[2].centre_hz > told[1].centre_hz > told[0].centre_hz
    said = sentence(ring_findings(told)[1])
    assert f"{told[2].behind_db:.1f} dB softer" in said
    assert "softly" in said


def test_a_whistle_behind_a_note_does_not_die_and_does_not_keep_anyone_waiting():
    filter = {"stage": "filter", "filter": "transistor-ladder", "cutoff_hz": 700.0, "resonance_gain": 5.0}
    (rung,) = ring_ladder(patch(filter, comb(0.5)), sine(110.0), [0.5])
    assert rung.ring_s is None
    assert rung.ring_v > 0.01
    assert "endlessly long" in sentence(ring_findings([rung, rung])[0])


def test_what_leaves_nothing_behind_dies_at_once_and_not_never():
    (rung,) = ring_ladder(patch({"stage": "gain", "db": -200.0}, comb(0.5)), sine(110.0), [1e-3])
    assert rung.ring_s == 0.0
    assert rung.behind_db == 0.0


def test_what_goes_on_is_known_by_its_stages():
    assert rings(patch(comb(0.5)).path)
    assert not rings(patch(comb(0.5, off=True)).path)
    assert rings(patch({"stage": "parallel", "branches": [{"path": [comb(0.5)]}, {}]}).path)
    assert not rings(patch({"stage": "crush"}).path)
    assert FADE_S < AFTER_S
