"""Everything that a route can move: held by a constant it is what the field says; moving, it is as its equations."""

import json

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from jiyuu.errors import CircuitError
from jiyuu.patch.frozen import frozen_at
from jiyuu.patch.motion import Motion
from jiyuu.patch.playing import play_patch, sources_record
from jiyuu.patch.reading import parse_patch
from jiyuu.patch.response import respond_patch
from jiyuu.patch.targets import targets_of
from tests.patch.making import patch
from tests.trials import some

RATE, SAMPLES = 48_000.0, 4800
HZ = np.geomspace(30, 16_000, 60)
PAIR = {"stage": "pair", "id": "p", "first": {"filter": "state-variable", "mode": "highpass", "resonance_gain": 0.5},
        "second": {"filter": "transistor-ladder", "mode": "lowpass-24", "resonance_gain": 1.0}, "cutoff_hz": 900.0,
        "spacing_octaves": 1.0, "separate": [0.1, -0.2]}
MORPH = {"stage": "filter", "id": "m", "filter": "state-variable", "mode": "morph", "cutoff_hz": 700.0,
         "resonance_gain": 1.0, "parameters": {"morph": 0.2}}
ALLPASS = {"stage": "allpass", "id": "a", "stages": 3, "cutoff_hz": 800.0, "feedback": 0.3, "mix": 0.4}
FORMANTS = {"stage": "formants", "id": "f", "from": "ɑ", "to": "i", "morph": 0.2, "shift_octaves": 0.1}
LOW = {"stage": "filter", "id": "low", "filter": "state-variable", "mode": "lowpass", "cutoff_hz": 500.0,
       "resonance_gain": 1.0}
STEREO = {"stage": "stereo", "id": "s", "spacing_octaves": 0.5, "left": [LOW, {**FORMANTS, "id": "lf"}],
          "right": [{**ALLPASS, "id": "ra"}, {"stage": "shapes", "bands": [{"gain_db": 9.0}]}]}
SHAPES = {"stage": "shapes", "id": "sh", "morph": 0.1, "settings": [
    {"name": "day", "bands": [{"kind": "low_shelf", "frequency_hz": 150.0, "gain_db": 9.0},
                              {"gain_db": -12.0, "q": 3.0}]},
    {"name": "dusk", "bands": [{"frequency_hz": 3000.0, "gain_db": 12.0, "q": 6.0}], "trim_db": -3.0},
    {"name": "night", "bands": [{"kind": "high_shelf", "frequency_hz": 4000.0, "gain_db": -15.0}]}]}
SHEET = {**SHAPES, "morph_2": 0.5, "settings": [*SHAPES["settings"], {"name": "dawn", "trim_db": 2.0}]}
COMB = {"stage": "comb", "id": "c", "frequency_hz": 210.0, "feedback": 0.4, "mix": 0.6}


def made(path, **more):
    return parse_patch(json.dumps(patch(path, **more)), source="made up")


def played():
    t = np.arange(SAMPLES) / RATE
    return (1e-3 * np.sin(np.clip(t / 0.02, 0, 1) * np.pi / 2) ** 4 * (
        np.sin(2 * np.pi * 220 * t) + np.sin(2 * np.pi * 1900 * t)))[np.newaxis]


def moved_by(target, value):
    return {"controls": {"held": {"kind": "constant", "value": value}}, "routes": [{"from": "held", "to": target}]}


COMPILED_FIRST = [  # networks of their own
    (ALLPASS, "a.mix", 0.35, {"mix": 0.75}), (ALLPASS, "a.feedback", -0.9, {"feedback": -0.6}),
    ({**ALLPASS, "stages": 4}, "a.feedback", 0.4, {"feedback": 0.7}),
    (ALLPASS, "a.cutoff", 1.0, {"cutoff_hz": 1600.0}), (FORMANTS, "f.morph", 0.5, {"morph": 0.7}),
    (FORMANTS, "f.shift", -0.6, {"shift_octaves": -0.5}), ({**FORMANTS, "q": 9.0}, "f.shift", 0.4,
                                                          {"shift_octaves": 0.5}),
    (MORPH, "m.morph", 0.7, {"parameters": {"morph": 0.9}}), (MORPH, "m.morph", 0.1, {"parameters": {"morph": 0.3}}),
    (PAIR, "p.cutoff", -0.7, {"cutoff_hz": 900.0 * 2**-0.7}), (PAIR, "p.spacing", 0.8, {"spacing_octaves": 1.8}),
    (PAIR, "p.first.cutoff", 0.5, {"separate": [0.6, -0.2]}),
    (PAIR, "p.second.resonance", 1.5, {"second": {**PAIR["second"], "resonance_gain": 2.5}}),
    ({**PAIR, "arrangement": "parallel"}, "p.spacing", -2.0, {"spacing_octaves": -1.0}),
    ({**PAIR, "arrangement": "stereo"}, "p.second.cutoff", 0.3, {"separate": [0.1, 0.1]}),
    (STEREO, "s.spacing", 1.2, {"spacing_octaves": 1.7}),
]
CASES = [
    ({"stage": "resonator", "id": "r", "cutoff_hz": 500.0}, "r.cutoff", -0.5, {"cutoff_hz": 500.0 * 2**-0.5}),
    ({"stage": "resonator", "id": "r", "cutoff_hz": 500.0}, "r.cutoff", 3.0, {"cutoff_hz": 800.0}),
    (COMB, "c.cutoff", 0.3, {"frequency_hz": 210.0 * 2**0.3}), (COMB, "c.feedback", 0.3, {"feedback": 0.7}),
    (COMB, "c.mix", -0.4, {"mix": 0.2}), (SHAPES, "sh.morph", 0.35, {"morph": 0.45}),
    (SHAPES, "sh.morph", 2.0, {"morph": 1.0}), (SHEET, "sh.morph 2", 0.4, {"morph_2": 0.9}),
    (SHEET, "sh.morph", -0.1, {"morph": 0.0}),
]


@pytest.mark.parametrize(("stage", "target", "value", "fields"), [*CASES, *some(COMPILED_FIRST, 1, long=16)])
def test_held_by_a_constant_it_is_what_the_field_says(stage, target, value, fields):
    """What responds then, and what is played, are those of the stage with other fields."""
    moved, still = made([stage], **moved_by(target, value)), made([{**stage, **fields}])
    for one, other in zip(respond_patch(frozen_at(moved, 0.5), HZ), respond_patch(still, HZ), strict=True):
        assert one.gain == pytest.approx(other.gain, rel=1e-9, abs=1e-12)
    expected = play_patch(still, played(), RATE)[:, :-600]
    apart = play_patch(moved, played(), RATE)[:, :-600] - expected
    assert np.std(apart) < 10 ** (-82 / 20) * np.std(expected)


@pytest.mark.parametrize(("pan", "sides"), [(-1.0, (np.sqrt(2), 0)), (1.0, (0, np.sqrt(2))), (0.0, (1, 1)),
                                            (0.5, (np.sqrt(2) * np.cos(0.375 * np.pi),
                                                   np.sqrt(2) * np.sin(0.375 * np.pi)))])
def test_the_output_panned_keeps_its_power(pan, sides):
    whole = made([{"stage": "gain", "db": 0.0}], **moved_by("output.pan", pan))
    assert np.std(play_patch(whole, played(), RATE), axis=1) == pytest.approx(
        np.array(sides) * np.std(played()), rel=1e-3, abs=1e-9)
    left, right = respond_patch(frozen_at(whole, 0.1), np.array([1000.0]))
    assert (abs(left.gain[0]), abs(right.gain[0])) == pytest.approx(sides, abs=1e-9)


def test_a_mix_that_moves_is_a_crossfade_at_every_instant():
    """Against the wet and the dry sound by themselves."""
    lfo = {"controls": {"lfo": {"kind": "lfo", "rate_hz": 37.0, "unipolar": True}},
           "routes": [{"from": "lfo", "to": "a.mix", "amount": 1.0}]}
    bare = {**ALLPASS, "mix": 0.0}
    found = play_patch(made([bare], **lfo), played(), RATE)[0]
    wet = play_patch(made([{**ALLPASS, "mix": 1.0}]), played(), RATE)[0]
    mix = 0.5 + 0.5 * np.sin(2 * np.pi * 37.0 * np.arange(SAMPLES) / RATE)
    expected = (1 - mix) * played()[0] + mix * wet
    assert 20 * np.log10(np.std((found - expected)[:-600]) / np.std(expected)) < -85


@pytest.mark.long
def test_a_vowel_that_moves_is_as_its_equations():
    """x1' = ω·x2, x2' = ω·(u − x1) − 2πB·x2 for each formant, ω between both vowels by log frequency."""
    lfo = {"controls": {"lfo": {"kind": "lfo", "rate_hz": 23.0, "unipolar": True}},
           "routes": [{"from": "lfo", "to": "f.morph", "amount": 1.0}]}
    stage = {"stage": "formants", "id": "f", "from": "ɑ", "to": "i"}

    def swell(t):
        return np.sin(np.clip(t / 0.02, 0, 1) * np.pi / 2) ** 4 * np.sin(2 * np.pi * 520 * t)

    low, high, width = np.array([730, 1090, 2440]), np.array([270, 2290, 3010]), np.array([60, 90, 120])

    def slopes(t, x):
        m = 0.5 + 0.5 * np.sin(2 * np.pi * 23.0 * t)
        omega = 2 * np.pi * low ** (1 - m) * high**m
        return np.concatenate([omega * x[3:], omega * (swell(t) - x[:3]) - 2 * np.pi * width * x[3:]])

    t = np.arange(SAMPLES) / RATE
    true = solve_ivp(slopes, (0, t[-1]), np.zeros(6), method="DOP853", t_eval=t, rtol=1e-10, atol=1e-13).y
    m = 0.5 + 0.5 * np.sin(2 * np.pi * 23.0 * t)
    hertz = low[:, np.newaxis] ** (1 - m) * high[:, np.newaxis] ** m
    expected = (width[:, np.newaxis] / hertz * true[3:]).sum(axis=0)
    found = play_patch(made([stage], **lfo), swell(t)[np.newaxis], RATE)[0]
    assert 20 * np.log10(np.std((found - expected)[:-600]) / np.std(expected)) < -85


def test_a_spacing_moved_reaches_no_farther_than_the_stops():
    """Left is drawn down by half, right up, each within its filter's own stops."""
    left = {**LOW, "id": "l", "lowest_hz": 300.0}
    whole = made([{"stage": "stereo", "id": "s", "left": [left], "right": [{**LOW, "id": "r"}]}],
                 **moved_by("s.spacing", 4.0))
    still = made([{"stage": "stereo", "left": [{**left, "cutoff_hz": 300.0}],
                   "right": [{**LOW, "id": "r", "cutoff_hz": 2000.0}]}])
    apart = play_patch(whole, played(), RATE) - play_patch(still, played(), RATE)
    assert np.std(apart[:, :-600]) < 1e-4 * np.std(played())


def test_two_filters_of_a_pair_move_apart_by_envelopes_of_their_own():
    whole = made([PAIR], controls={"one": {"kind": "envelope", "gate": 2.0, "decay_s": 0.2, "sustain": 0.0},
                                   "two": {"kind": "envelope", "gate": 2.0, "decay_s": 0.05, "sustain": 0.0}},
                 routes=[{"from": "one", "to": "p.first.cutoff", "amount": 2.0},
                         {"from": "two", "to": "p.second.cutoff", "amount": -1.0}])
    t = np.array([0.0051, 0.02])  # while both fall
    motion = Motion(whole, 0.1)
    for name, control, amount, stands in (("p.first.cutoff", "one", 2.0, 900.0 * 2 ** (-0.5 + 0.1)),
                                          ("p.second.cutoff", "two", -1.0, 900.0 * 2 ** (0.5 - 0.2))):
        target = motion.target(name)
        assert motion.value(target, t) == pytest.approx(stands * 2 ** (amount * motion.control(control, t)))


# Fields of the controls themselves


def controlled(controls, routes, until_s=2.0, **more):
    return Motion(made([LOW], controls=controls, routes=routes, **more), until_s)


def test_an_envelope_keeps_the_decay_it_had_when_it_began_to_fall():
    """A slow ramp lengthens each decay: linear, from 1 to 0 in as long as the ramp said at its beginning."""
    controls = {"ramp": {"kind": "lfo", "shape": "rise", "rate_hz": 0.1},
                "fall": {"kind": "envelope", "gate": 1.0, "attack_s": 0.0, "decay_s": 0.5, "sustain": 0.0,
                         "curve": "linear"}}
    motion = controlled(controls, [{"from": "ramp", "to": "fall.decay_s", "amount": 0.4}], 4.0)
    for rise in (0.0, 1.0, 2.0, 3.0):
        decay_s = 0.5 + 0.4 * (2 * (0.1 * rise) - 1)
        t = rise + np.array([0.1, 0.3, 0.9]) * min(decay_s, 0.49)
        assert motion.control("fall", t) == pytest.approx(1 - (t - rise) / decay_s, abs=1e-9)


def test_the_phase_and_the_width_of_an_lfo_move():
    controls = {"slow": {"kind": "lfo", "shape": "triangle", "rate_hz": 0.5},
                "sine": {"kind": "lfo", "rate_hz": 3.0}, "pulse": {"kind": "lfo", "shape": "pulse", "rate_hz": 5.0}}
    motion = controlled(controls, [{"from": "slow", "to": "sine.phase", "amount": 0.3},
                                   {"from": "slow", "to": "pulse.width", "amount": 0.4}])
    t = np.linspace(0.01, 1.99, 997)
    slow = 1 - np.abs(4 * ((0.5 * t + 0.25) % 1) - 2)
    assert motion.control("sine", t) == pytest.approx(np.sin(2 * np.pi * (3 * t + 0.3 * slow)), abs=1e-9)
    assert motion.control("pulse", t) == pytest.approx(np.where((5 * t) % 1 < 0.5 + 0.4 * slow, 1.0, -1.0))


@pytest.mark.parametrize("kind", [{"kind": "steps", "values": [0.0, 1.0, 2.0, 3.0]}, {"kind": "random", "seed": 3}])
def test_steps_and_walks_go_as_fast_as_they_are_told(kind):
    """At a rate that is moved to its double they stand where they would at the double."""
    twice = controlled({"more": {"kind": "constant", "value": 4.0}, "own": {**kind, "rate_hz": 4.0}},
                       [{"from": "more", "to": "own.rate_hz", "amount": 1.0}])
    plain = controlled({"own": {**kind, "rate_hz": 8.0}}, [])
    t = np.arange(200) / 100 + 0.003
    assert twice.control("own", t) == pytest.approx(plain.control("own", t))


def test_the_width_of_a_pulse_is_moved():
    """To one half, where a square has no even harmonics."""
    source = [{"kind": "pulse", "pitch_hz": 100.0, "width": 0.25, "level_v": 1.0}]
    whole = made([LOW], sources=source, controls={"more": {"kind": "constant", "value": 0.25}},
                 routes=[{"from": "more", "to": "source 1.width"}])
    record = sources_record(whole, 0.5, RATE)
    lines = np.abs(np.fft.rfft(record))[[50, 100, 150]] / (record.size / 2)
    assert lines[1] < 1e-6
    assert lines[[0, 2]] == pytest.approx(np.array([4 / np.pi, 4 / (3 * np.pi)]), rel=0.01)


@pytest.mark.long
def test_a_stage_is_followed_once_it_is_known():
    """A follower of what a lowpass lets through, moving a later filter: it hears that lowpass by itself."""
    path = [LOW, {**LOW, "id": "late", "cutoff_hz": 900.0}]
    follower = {"kind": "follower", "of": "low", "low_hz": 0, "high_hz": 100_000, "attack_s": 0.01, "release_s": 0.01}
    whole = made(path, sources=[{"kind": "sine", "pitch_hz": 500.0, "level_v": 0.01}], controls={"loud": follower},
                 routes=[{"from": "loud", "to": "late.cutoff", "amount": 10.0}])
    at = np.linspace(0.3, 0.45, 3000)
    # At its cutoff the lowpass has the gain Q = 1/(2 − k).
    assert Motion(whole, 0.5).control("loud", at).mean() == pytest.approx(0.01 * 2 / np.pi / (2 - 1.0), rel=0.02)
    assert np.isfinite(play_patch(whole, played(), RATE)).all()


@pytest.mark.parametrize(("path", "controls", "routes", "said"), [
    ([LOW], {"loud": {"kind": "follower", "of": "low"}}, [{"from": "loud", "to": "low.cutoff"}], "circle: loud → loud"),
    ([{"stage": "feedback", "amount": 0.5, "path": [LOW]}], {"loud": {"kind": "follower", "of": "low"}}, [],
     "controls.loud: of: .*stands in a loop"),
    ([STEREO], {"own": {"kind": "signal", "of": "low"}}, [{"from": "own", "to": "s.spacing"}], "cannot be moved by a"),
    ([LOW, COMB, {**LOW, "id": "late"}], {"own": {"kind": "signal", "of": "low"}},
     [{"from": "own", "to": "late.cutoff"}], "not in one network"),
    ([LOW], {}, [], None),
])
def test_what_cannot_be_known_is_refused(path, controls, routes, said):
    if said is None:
        assert {target.name for target in targets_of(made(path))} == {
            "low.cutoff", "low.resonance", "output.level", "output.pan"}
        return
    with pytest.raises(CircuitError, match=said):
        made(path, controls=controls, routes=routes)
