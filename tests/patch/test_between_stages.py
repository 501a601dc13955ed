"""What stands between networks: the crusher against Fourier series and a staircase written out here, combs in branches
and on sides against their formula, a comb that moves against one that stands still."""

import json

import numpy as np
import pytest

from jiyuu.errors import CircuitError
from jiyuu.patch.following import followed_bank
from jiyuu.patch.heard import HeardRecord
from jiyuu.patch.motion import Motion
from jiyuu.patch.playing import play_patch
from jiyuu.patch.reading import parse_patch
from jiyuu.patch.response import respond_patch
from jiyuu.signals.long_record import Record
from jiyuu.simulation.comb import Moves, through_comb
from jiyuu.simulation.crusher import Clockwork
from tests.patch.making import gain_of, patch, random_filter

RATE = 48_000.0
HZ = np.geomspace(20, 20_000, 200)


def made(path, **more):
    return parse_patch(json.dumps(patch(path, **more)), source="made up")


def sine(hertz, level=1.0, n=9600):
    t = np.arange(n) / RATE
    return level * np.sin(np.clip(t / 0.02, 0, 1) * np.pi / 2) ** 2 * np.sin(2 * np.pi * hertz * t)


def lines(record, hertz):
    """Complex amplitudes of lines, fitted together."""
    body = np.arange(2400, record.size - 400)
    turn = 2 * np.pi * np.outer(body / RATE, hertz)
    found = np.linalg.lstsq(np.hstack([np.sin(turn), np.cos(turn)]), record[body], rcond=None)[0]
    return found[: len(hertz)] + 1j * found[len(hertz):]


@pytest.mark.parametrize(("rate_hz", "hertz"), [(8000.0, 430.0), (9127.0, 1210.0), (12_000.0, 3300.0)])
def test_images_stand_where_the_clock_puts_them_and_nowhere_else(rate_hz, hertz):
    """A sine sampled and held: n·rate ± f, each weighed by sinc(f/rate) and half a clock late."""
    crush = {"stage": "crush", "rate_hz": rate_hz, "bits": 24, "full_scale_v": 10.0}
    out = play_patch(made([crush]), sine(hertz)[np.newaxis], RATE)[0]
    wanted = [f for n in range(4) for f in (n * rate_hz - hertz, n * rate_hz + hertz) if 0 < f < 20_000]
    found = lines(out, wanted)
    for f, line in zip(wanted, found, strict=True):
        assert 20 * np.log10(abs(line) / abs(np.sinc(f / rate_hz))) == pytest.approx(0.0, abs=0.02), f
    body = np.arange(2400, out.size - 400)
    turn = 2 * np.pi * np.outer(body / RATE, wanted)
    beyond = [f for n in range(8) for f in (n * rate_hz - hertz, n * rate_hz + hertz) if 20_000 <= f < 27_000]
    more = 2 * np.pi * np.outer(body / RATE, beyond)
    basis = np.hstack([np.sin(turn), np.cos(turn), np.sin(more), np.cos(more)])
    rest = out[body] - basis @ np.linalg.lstsq(basis, out[body], rcond=None)[0]
    assert 20 * np.log10(np.std(rest) / np.std(out[body])) < -80


def test_what_is_held_is_what_was_there_in_whole_steps():
    record = np.random.default_rng(4).uniform(-4, 4, 4800)
    values = Clockwork(12_000.0, 0.5, 2.0, RATE).held(Record.of(record), 0, 1200)
    assert values == pytest.approx(np.clip(np.round(record[::4] * 2) / 2, -2.0, 1.5), abs=1e-12)


def test_a_staircase_of_few_steps_at_the_full_rate_of_the_record():
    """Far slower than the record: between two edges it stands on a whole step."""
    crush = {"stage": "crush", "rate_hz": 100.0, "bits": 3, "full_scale_v": 2.0}
    slow = sine(7.0, level=1.7, n=24_000)
    out = play_patch(made([crush]), slow[np.newaxis], RATE)[0]
    expected = np.clip(np.round(slow[::480] / 0.5) * 0.5, -2.0, 1.5)
    assert out[240::480] == pytest.approx(expected, abs=1e-3)


def test_a_crusher_is_a_wire_to_what_is_small():
    filtered = random_filter(np.random.default_rng(1))
    (found,) = respond_patch(made([filtered, {"stage": "crush"}]), HZ)
    assert found.gain == pytest.approx(gain_of([filtered], HZ), rel=1e-9)


def comb(f, hertz, g, damping=None):
    s = 2j * np.pi * f
    return 1 / (1 - g * np.exp(-s / hertz) / (1 if damping is None else 1 + s / (2 * np.pi * damping)))


def test_combs_in_branches_and_on_sides():
    generator = np.random.default_rng(7)
    one, two = random_filter(generator), random_filter(generator)
    path = [{"stage": "parallel", "branches": [
        {"path": [one, {"stage": "comb", "frequency_hz": 220.0, "feedback": 0.6}], "level_db": -3.0, "pan": -0.5},
        {"path": [], "polarity": -1},
        {"path": [{"stage": "comb", "frequency_hz": 331.0, "feedback": -0.7, "damping_hz": 4000.0}]}]},
        {"stage": "stereo", "left": [two, {"stage": "comb", "frequency_hz": 150.0, "feedback": 0.5}],
         "spacing_octaves": 1.0}]
    left, right = respond_patch(made(path), HZ)
    pan = np.sqrt(2) * np.array([np.cos(np.pi / 8), np.sin(np.pi / 8)])
    sides = [10 ** (-3 / 20) * p * gain_of([one], HZ) * comb(HZ, 220.0, 0.6) - 1 + comb(HZ, 331.0, -0.7, 4000.0)
             for p in pan]
    lowered = {**two, "cutoff_hz": two["cutoff_hz"] / np.sqrt(2)}
    assert left.gain == pytest.approx(sides[0] * gain_of([lowered], HZ) * comb(HZ, 150.0 / np.sqrt(2), 0.5), rel=1e-6)
    assert right.gain == pytest.approx(sides[1], rel=1e-6)
    slope = -np.gradient(np.unwrap(np.angle(right.gain)), 2 * np.pi * HZ)
    assert right.group_delay_s[5:60] == pytest.approx(slope[5:60], rel=0.05, abs=2e-5)
    played = play_patch(made(path), 1e-3 * sine(700.0)[np.newaxis], RATE)
    for side, answer in zip(played, respond_patch(made(path), np.array([700.0])), strict=True):
        assert abs(lines(side, [700.0])[0]) * 1e3 == pytest.approx(abs(answer.gain[0]), rel=1e-3)


def test_a_branch_with_sources_of_its_own_plays_these():
    sources = [{"kind": "sine", "pitch_hz": 300.0, "level_v": 2.0}]
    whole = made([{"stage": "parallel", "branches": [{"path": [], "sources": sources}, {"path": []}]}])
    out = play_patch(whole, sine(500.0)[np.newaxis], RATE)[0]
    assert np.abs(lines(out, [300.0, 500.0])) == pytest.approx([2.0, 1.0], rel=1e-3)
    assert respond_patch(whole, HZ)[0].gain == pytest.approx(1.0)


@pytest.mark.parametrize(("hertz", "g", "damping", "mix"), [(110.0, 0.8, None, 1.0), (83.0, -0.9, 3000.0, 0.5),
                                                            (6100.0, 0.7, 9000.0, 1.0)])
def test_a_comb_that_may_move_and_does_not_is_the_one_that_stands(hertz, g, damping, mix):
    stage = {"stage": "comb", "id": "c", "frequency_hz": hertz, "feedback": g, "mix": mix}
    stage |= {} if damping is None else {"damping_hz": damping}
    still = {"controls": {"none": {"kind": "constant", "value": 0.0}},
             "routes": [{"from": "none", "to": "c.cutoff"}]}
    # What lies near half the rate is no business of either.
    record = sine(437.0) + sine(3111.0) + sine(15_003.0)
    apart = play_patch(made([stage], **still), record[np.newaxis], RATE)[0] - play_patch(
        made([stage]), record[np.newaxis], RATE)[0]
    assert 20 * np.log10(np.std(apart[200:-800]) / np.std(record)) < -80


def test_a_delay_that_is_drawn_out_lowers_what_it_gives_back():
    """y = x + g·y(t − τ): where τ grows by 0.02 s a second, each round lowers a tone by a factor 0.98."""
    moves = Moves(lambda t: 100.0 / (1 + 2 * t), lambda t: np.full(t.size, 0.3), lambda t: np.ones(t.size))
    wet = through_comb(Record.of(sine(1000.0, n=19_200)), RATE, moves, damping_hz=None).whole()
    found = np.abs(lines(wet[4000:], 1000.0 * 0.98 ** np.arange(6)))
    assert found[:4] == pytest.approx(0.3 ** np.arange(4), abs=2e-3)


BANK = {"stage": "bank", "id": "b", "bands": 3, "spacing_semitones": 24.0, "lowest_hz": 200.0, "q": 8.0}


def test_bands_are_as_loud_as_those_they_follow():
    """A source with one line at 800 Hz wakes that band by the mean of its rectified sine, 2/π, and no other."""
    follow = {**BANK, "follow": {"of": "source 1", "attack_s": 0.05, "release_s": 0.05}}
    tones = sine(200.0, n=48_000) + sine(800.0, n=48_000) + sine(3200.0, n=48_000)
    whole = made([follow])
    motion = Motion(whole, 1.0, {"source 1": HeardRecord(Record.of(sine(800.0, n=48_000)), RATE)})
    out = followed_bank(whole.path[0], Record.of(tones), RATE, 0.0, motion).whole()[24_000:]
    found = np.abs(lines(out, [200.0, 800.0, 3200.0]))
    assert found[1] == pytest.approx(2 / np.pi, rel=0.02)
    assert max(found[0], found[2]) < 0.04  # what the neighbouring bands hear of it
    half = made([{**follow, "follow": {"of": "source 1", "depth": 0.0}}])
    assert np.abs(lines(play_patch(half, tones[np.newaxis], RATE)[0][24_000:], [200.0, 800.0])) == pytest.approx(
        np.abs(lines(play_patch(made([BANK]), tones[np.newaxis], RATE)[0][24_000:], [200.0, 800.0])), rel=1e-6)


@pytest.mark.parametrize(("path", "said"), [
    ([{**BANK, "follow": {"of": "nobody"}}], "b: follow: there is no source or stage 'nobody'"),
    ([{**BANK, "follow": {"of": "b"}}], "cannot be known before it sounds"),
    ([{**BANK, "follow": {"of": "source 1"}, "groups": [{"feedback": 0.2}]}], "exclude each other"),
    ([{"stage": "parallel", "branches": [{"path": [], "pan": 2}]}], "pan"),
])
def test_what_cannot_be_followed_is_refused(path, said):
    with pytest.raises(CircuitError, match=said):
        made(path)
