"""What moves in a patch: bounds worked out by hand, sound against an adaptive integrator, every wrong one refused."""

import json
from itertools import pairwise

import numpy as np
import pytest
from numpy.testing import assert_allclose
from scipy.integrate import solve_ivp

from jiyuu.errors import CircuitError
from jiyuu.patch.frozen import frozen_at
from jiyuu.patch.motion import Motion
from jiyuu.patch.playing import play_patch, sources_record
from jiyuu.patch.reading import parse_patch, read_patch, write_patch
from jiyuu.patch.response import respond_patch
from tests.patch.making import gain_of, patch
from tests.reference import residual_db

RATE, SAMPLES = 48_000.0, 2400
FIRST = {"stage": "filter", "id": "first", "filter": "transistor-ladder", "mode": "lowpass-24", "cutoff_hz": 800.0,
         "resonance_gain": 2.0}
DRIVE = {"stage": "gain", "id": "drive", "db": 6, "polarity": -1}
FIGURE = {"step_s": 0.1, "steps": [{"semitones": 0, "accent": True}, {"semitones": 12, "gate": 1.0}]}


def made(path=(DRIVE, FIRST), **more):
    return parse_patch(json.dumps(patch(list(path), **more)), source="made up")


def lfo(**more):
    return {"kind": "lfo", "rate_hz": 5.0, "shape": "square", **more}


# routes from square waves of ±1 (a) and 0 or 1 (b), a constant of 0.5 (c): target, (amount, control) …, and by hand:
# least and greatest wanted, least and greatest got, share of the time at a stop
BY_HAND = [
    ("first.cutoff", [(1, "a")], (400, 1600), (400, 1600), 0), ("first.cutoff", [(-3, "b")], (100, 800), (100, 800), 0),
    ("first.cutoff", [(6, "b")], (800, 51200), (800, 22000), 0.5),
    ("first.cutoff", [(-8, "a")], (3.125, 204800), (16, 22000), 1),
    ("first.cutoff", [(2, "a"), (-2, "a")], (800, 800), (800, 800), 0),
    ("first.cutoff", [(2, "a"), (2, "c")], (400, 6400), (400, 6400), 0),
    ("first.cutoff", [(1, "b"), (1, "b")], (800, 3200), (800, 3200), 0),
    ("first.cutoff", [(-6, "b"), (0.5, "c")], (800 * 2**-5.75, 800 * 2**0.25), (16, 800 * 2**0.25), 0.5),
    ("first.resonance", [(1, "a")], (1, 3), (1, 3), 0), ("first.resonance", [(3, "a")], (-1, 5), (0, 4.4), 1),
    ("first.resonance", [(2.4, "b")], (2, 4.4), (2, 4.4), 0), ("first.resonance", [(-2, "c")], (1, 1), (1, 1), 0),
    ("first.resonance", [(-9, "c")], (-2.5, -2.5), (0, 0), 1),
    ("drive.level", [(6, "a", "dB")], (0, 12), (0, 12), 0), ("drive.level", [(-20, "b", "dB")], (-14, 6), (-14, 6), 0),
    ("drive.level", [(1, "c")], (0.5 - 10**0.3, 0.5 - 10**0.3), (0.5 - 10**0.3, 0.5 - 10**0.3), 0),
    ("output.level", [(-0.5, "b")], (0.5, 1), (0.5, 1), 0), ("output.level", [(3, "a", "dB")], (-3, 3), (-3, 3), 0),
    ("source 1.pitch", [(1, "a")], (27.5, 110), (27.5, 110), 0),
    ("source 1.pitch", [(9, "b")], (55, 28160), (55, 20000), 0.5),
    ("source 1.level", [(-5, "b")], (0, 5), (0, 5), 0), ("loop.feedback", [(0.5, "a")], (-1, 0), (-1, 0), 0),
    ("loop.feedback", [(0.2, "c"), (-0.2, "b")], (-0.6, -0.4), (-0.6, -0.4), 0),
]


@pytest.mark.parametrize(("target", "routes", "wanted", "got", "stopped"), BY_HAND)
def test_bounds_are_those_worked_out_by_hand(target, routes, wanted, got, stopped):
    loop = {"stage": "feedback", "id": "loop", "amount": -0.5, "path": [FIRST]}
    motion = Motion(made(
        [DRIVE, loop], sources=[{"pitch_hz": 55.0, "level_v": 5.0}],
        controls={"a": lfo(), "b": lfo(unipolar=True), "c": {"kind": "constant", "value": 0.5}},
        routes=[{"from": one[1], "to": target, "amount": one[0], **({"unit": one[2]} if len(one) > 2 else {})}
                for one in routes]), 1.0)
    (only,) = motion.targets
    span = motion.span(only, np.arange(1000) / 1000)
    assert (span.wanted_least, span.wanted_greatest) == pytest.approx(wanted, rel=1e-12)
    assert (span.least, span.greatest) == pytest.approx(got, rel=1e-12)
    assert span.stopped_share == pytest.approx(stopped)


def test_a_percent_of_travel_has_its_stops_and_an_amount_another_control():
    stage = {key: value for key, value in FIRST.items() if key != "resonance_gain"} | {"resonance_percent": 40.0}
    motion = Motion(made([stage], controls={"a": lfo(), "b": {"kind": "constant", "value": 0.25}},
                         routes=[{"from": "a", "to": "first.resonance", "amount": 80, "amount_by": "b"}]), 1.0)
    (target,) = motion.targets
    span = motion.span(target, np.arange(1000) / 1000)
    assert (target.unit, span.least, span.greatest, span.stopped_share) == ("%", 20, 60, 0)


def test_accents_scale_the_routes_that_ask_for_it():
    motion = Motion(made(figure=FIGURE, controls={"one": {"kind": "constant", "value": 1.0}}, routes=[
        {"from": "one", "to": "first.cutoff", "amount": 1.0, "accent_percent": 50},
        {"from": "one", "to": "first.resonance", "amount": 1.0}]), 1.0)
    cutoff, resonance = motion.targets
    times = np.array([0.05, 0.15])
    assert motion.value(cutoff, times) == pytest.approx([800 * 2**1.5, 1600])
    assert motion.value(resonance, times) == pytest.approx([3, 3])


def ladder(x, v, omega, k):
    pairs = np.tanh([v - k * x[3], *x])
    return omega * (pairs[:4] - pairs[1:])


@pytest.mark.long
def test_a_patch_in_motion_plays_as_its_equations():
    """Cutoff by a sine, resonance by a triangle, drive by an envelope whose edges lie between samples."""
    document = made(controls={
        "sine": {"kind": "lfo", "rate_hz": 40.0}, "up": {"kind": "lfo", "rate_hz": 33.0, "shape": "triangle"},
        "knock": {"kind": "envelope", "attack_s": 0.00313, "decay_s": 0.02, "sustain": 0.3, "gate": 20.0,
                  "curve": "linear", "release_s": 0.007},
    }, routes=[{"from": "sine", "to": "first.cutoff", "amount": 1.5}, {"from": "up", "to": "first.resonance"},
               {"from": "knock", "to": "drive.level", "amount": 9, "unit": "dB"}])

    def source(t):
        return np.sin(np.clip(t / 0.02, 0, 1) * np.pi / 2) ** 4 * (
            0.6 * np.sin(2 * np.pi * 310 * t) + 0.4 * np.sin(2 * np.pi * 1170 * t + 1))

    def knock(t):
        return np.interp(t, [0, 0.00313, 0.02313, 0.025, 0.032, 0.05], [0, 1, 0.3, 0.3, 0, 0])

    def slope(t, x):
        omega = 2 * np.pi * 800 * 2 ** (1.5 * np.sin(2 * np.pi * 40 * t))
        k = 2 + 2 / np.pi * np.arcsin(np.sin(2 * np.pi * 33 * t))
        return ladder(x, -(10 ** ((6 + 9 * knock(t)) / 20)) * source(t), omega, k)

    times = np.arange(SAMPLES) / RATE
    exact = solve_ivp(slope, (0, times[-1]), np.zeros(4), method="DOP853", t_eval=times, rtol=1e-10, atol=1e-12,
                      max_step=1e-4).y[3]
    found = play_patch(document, source(times)[np.newaxis], RATE)[0]
    body = slice(100, SAMPLES - 200)
    error = np.sqrt(np.mean((found - exact)[body] ** 2) / np.mean(exact[body] ** 2))
    assert 20 * np.log10(error) < -85
    blocks = play_patch(document, source(times)[np.newaxis], RATE, block=64)[0]
    assert np.abs(blocks - found).max() < 1e-9


@pytest.mark.long
def test_jumps_are_played_where_they_are():
    """A square into the cutoff and a saw into the resonance, whose edges lie anywhere between samples."""
    document = made([FIRST], controls={"a": lfo(rate_hz=137.3), "b": lfo(rate_hz=91.7, shape="rise", phase=0.3)},
                    routes=[{"from": "a", "to": "first.cutoff"}, {"from": "b", "to": "first.resonance"}])

    def source(t):
        return np.sin(np.clip(t / 0.02, 0, 1) * np.pi / 2) ** 4 * 0.8 * np.sin(2 * np.pi * 410 * t)

    def slope(t, x, inside):
        high = (137.3 * inside) % 1 < 0.5
        k = 2 + 2 * (91.7 * t + 0.3 - np.floor(91.7 * inside + 0.3)) - 1
        return ladder(x, source(t), 2 * np.pi * (1600 if high else 400), k)

    times = np.arange(8 * SAMPLES) / (8 * RATE)  # what an edge leaves above the band is no part of the comparison
    ends = np.unique([0, *(n / 2 / 137.3 for n in range(14)), *((n - 0.3) / 91.7 for n in range(1, 6)), times[-1]])
    ends = ends[ends <= times[-1]]
    x, exact = np.zeros(4), np.zeros(times.size)
    for begin, end in pairwise(ends):
        inside = (times >= begin) & (times <= end)
        found = solve_ivp(slope, (begin, end), x, method="DOP853", rtol=1e-11, atol=1e-13, max_step=1e-4,
                          args=(0.5 * (begin + end),), dense_output=True)
        x, exact[inside] = found.y[:, -1], found.sol(times[inside])[3]
    played = source(times[::8])[np.newaxis]
    found = play_patch(document, played, RATE)[0]
    assert residual_db(found, exact, rate_hz=RATE) < -85
    for block in (64, 997):
        assert np.abs(play_patch(document, played, RATE, block=block)[0] - found).max() < 1e-9


def test_a_moved_pitch_is_the_integral_of_what_it_is_told():
    document = made(sources=[{"kind": "sine", "pitch_hz": 220.0, "level_v": 2.0}],
                    controls={"up": {"kind": "lfo", "rate_hz": 2.0, "shape": "rise", "unipolar": True}},
                    routes=[{"from": "up", "to": "source 1.pitch"}])
    t = np.arange(20_000) / RATE
    exact = 2 * np.sin(2 * np.pi * 220 * (2 ** (2 * t) - 1) / (2 * np.log(2)))
    assert_allclose(sources_record(document, 20_000 / RATE, RATE), exact, rtol=0, atol=0.03)  # a sum, not an integral
    still = made(sources=[{"kind": "saw", "pitch_hz": 110.0}])
    moved = made(sources=[{"kind": "saw", "pitch_hz": 55.0}], controls={"one": {"kind": "constant", "value": 1.0}},
                 routes=[{"from": "one", "to": "source 1.pitch"}])
    apart = sources_record(still, 0.2, RATE) - sources_record(moved, 0.2, RATE)
    assert np.abs(apart[100:-100]).max() < 0.05
    with pytest.raises(CircuitError, match="source 1: pitch"):
        sources_record(made(sources=[{"kind": "white noise"}], controls={"one": lfo()},
                            routes=[{"from": "one", "to": "source 1.pitch"}]), 0.1, RATE)


def test_a_moment_answers_as_the_patch_that_stands_there():
    document = made([DRIVE, {"stage": "feedback", "id": "loop", "amount": -0.5, "path": [FIRST]}], controls={
        "ramp": {"kind": "lfo", "rate_hz": 0.5, "shape": "rise", "unipolar": True}}, routes=[
        {"from": "ramp", "to": "first.cutoff", "amount": 2}, {"from": "ramp", "to": "first.resonance", "amount": -1},
        {"from": "ramp", "to": "drive.level", "amount": 4, "unit": "dB"},
        {"from": "ramp", "to": "output.level", "amount": -1.5}, {"from": "ramp", "to": "loop.feedback", "amount": 0.2}])
    hertz = np.geomspace(30, 15_000, 80)
    (found,) = respond_patch(frozen_at(document, 1.0), hertz)
    first = FIRST | {"cutoff_hz": 1600.0, "resonance_gain": 1.5}
    expected = gain_of([DRIVE | {"db": 8.0}, {"stage": "feedback", "amount": -0.4, "path": [first]}], hertz) * 0.25
    assert_allclose(20 * np.log10(np.abs(found.gain / expected)), np.zeros(80), rtol=0, atol=1e-9)


def test_a_patch_that_moves_is_written_and_read_again_as_it_was(tmp_path):
    document = made(figure=FIGURE, controls={"tide": {"kind": "envelope"}, "s": {
        "kind": "steps", "values": [0.0, 1.0], "beats": 1.0}}, routes=[{"from": "tide", "to": "first.cutoff"}])
    write_patch(tmp_path / "a.patch.json", document)
    assert read_patch(tmp_path / "a.patch.json")[0] == document


ENVELOPE = {"kind": "envelope"}


@pytest.mark.parametrize(("more", "said"), [
    ({"controls": {"a": ENVELOPE}}, r"controls\.a: .*figure"),
    ({"controls": {"a": ENVELOPE | {"gate": "b"}}}, r"controls\.a: gate: there is no control 'b'"),
    ({"controls": {"a": ENVELOPE | {"gate": "b"}, "b": ENVELOPE | {"gate": "a"}}}, "circle: (a → b → a|b → a → b)"),
    ({"controls": {"a": {"kind": "hold", "of": "a", "clock": 2.0}}}, "circle: a → a"),
    ({"controls": {"a": lfo(rate_hz=0)}}, "rate_hz"), ({"controls": {"a": lfo(beats=1)}}, "rate_hz or beats"),
    ({"controls": {"a": {"kind": "steps", "values": [], "rate_hz": 1}}}, "values"),
    ({"controls": {"a": {"kind": "wobble"}}}, "controls"), ({"controls": {"a": lfo(colour=1)}}, "colour"),
    ({"controls": {"a": {"kind": "follower", "of": "sky"}}}, "no source or stage 'sky'"),
    ({"controls": {"a": {"kind": "follower", "of": "source 1", "low_hz": 900, "high_hz": 200}}}, "must lie under"),
    ({"controls": {"a": {"kind": "signal", "of": "first"}},
      "routes": [{"from": "a", "to": "source 1.pitch"}]}, "to: "),
    ({"controls": {"a": {"kind": "signal", "of": "first"}, "b": {"kind": "hold", "of": "a", "clock": 2.0}}},
     "no other control can wait for"),
    ({"controls": {"figure": lfo()}}, "cannot be called 'figure'"),
    ({"controls": {"a": ENVELOPE | {"sustain": 1.5, "gate": 1.0}}}, "sustain"),
    ({"controls": {"a": ENVELOPE | {"attack_s": -1, "gate": 1.0}}}, "attack_s"),
    ({"controls": {"a": {"kind": "hold", "clock": 2.0, "seed": 1.5}}}, "seed"),
    ({"controls": {"a": lfo(rate_hz=None, beats=2.0)}}, r"controls\.a: .*figure"),
    ({"figure": {"steps": []}}, "steps"), ({"figure": {"steps": [{}] * 33}}, "steps"),
    ({"figure": {"steps": [{"gate": 2}]}}, "gate"), ({"figure": {"steps": [{}], "direction": "up"}}, "direction"),
    ({"controls": {"a": lfo()}, "routes": [{"from": "b", "to": "first.cutoff"}]}, r"routes\[0\]: from"),
    ({"controls": {"a": lfo()}, "routes": [{"from": "a", "to": "second.cutoff"}]},
     r"routes\[0\]: to: .*'second.cutoff'; there are: drive.level, first.cutoff"),
    ({"controls": {"a": lfo()}, "routes": [{"from": "a", "to": "first.cutoff", "amount_by": "z"}]}, "amount_by"),
    ({"controls": {"a": lfo()}, "routes": [{"from": "a", "to": "first.cutoff", "unit": "dB"}]}, "only a level"),
    ({"controls": {"a": lfo()}, "routes": [{"from": "a", "to": "first.cutoff", "unit": "Hz"}]}, "unit"),
    ({"controls": {"a": lfo()}, "routes": [{"from": "a", "to": "first.cutoff", "accent_percent": 5}]}, "accents"),
    ({"controls": {"a": lfo()}, "routes": [{"from": "a", "to": "drive.level"}, {"from": "a", "to": "drive.level",
                                                                               "unit": "dB"}]}, "the same unit"),
    ({"controls": {"a": lfo()}, "routes": [{"to": "first.cutoff"}]}, "routes"),
])
def test_what_cannot_move_is_refused_by_its_place(more, said):
    with pytest.raises(CircuitError, match=said) as found:
        made(**more)
    assert "\n" not in str(found.value)
    assert len(str(found.value)) < 400


def test_an_lfo_is_sped_up_by_a_control():
    """Its phase is the integral of its rate; a rate moved by its own output is refused."""
    t = np.linspace(0, 2, 3001)
    controls = {"wave": lfo(rate_hz=3.0, shape="sine"), "one": {"kind": "constant", "value": 1.0},
                "slow": lfo(rate_hz=0.7, shape="sine")}

    def wave(routes):
        return Motion(made(controls=controls, routes=routes), 2.0).control("wave", t)

    steady = wave([{"from": "one", "to": "wave.rate_hz", "amount": 2.5}])
    assert_allclose(steady, np.sin(2 * np.pi * 5.5 * t), rtol=0, atol=1e-6)
    turns = 3 * t + 2.5 / (2 * np.pi * 0.7) * (1 - np.cos(2 * np.pi * 0.7 * t))
    moved = wave([{"from": "slow", "to": "wave.rate_hz", "amount": 2.5}])
    assert_allclose(moved, np.sin(2 * np.pi * turns), rtol=0, atol=1e-6)
    with pytest.raises(CircuitError, match="circle"):
        made(controls=controls, routes=[{"from": "wave", "to": "wave.rate_hz", "amount": 1.0}])
