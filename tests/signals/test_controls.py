"""Controls against their closed forms, written out here by hand, at many instants and at edges."""

import numpy as np
import pytest
from scipy import signal

from jiyuu.signals.controls.envelope import Envelope
from jiyuu.signals.controls.figure import Figure, Note, step_at
from jiyuu.signals.controls.gates import Gates, above_half, clock
from jiyuu.signals.controls.lfo import lfo
from jiyuu.signals.controls.stepped import held, order, random_walk, sequence

T = np.random.default_rng(2).uniform(0, 2, 4000)
LN4, LN100 = np.log(4), np.log(100)


def gate(*pairs, slides=None):
    rises, falls = (np.array(values, dtype=float) for values in zip(*pairs, strict=True))
    return Gates(rises, falls, np.zeros(rises.size, dtype=bool) if slides is None else np.array(slides))


def value(envelope, gates, times):
    return envelope.segments(gates, 2.0).at(np.asarray(times, dtype=float))


def test_an_exponential_envelope_is_its_formula():
    e = Envelope(delay_s=0.1, attack_s=0.2, hold_s=0.05, decay_s=0.3, sustain=0.4, release_s=0.25)
    found = value(e, gate((0.0, 1.0)), T)
    decayed = 0.4 + 0.6 * np.exp(-(T - 0.35) * LN100 / 0.3)
    at_release = 0.4 + 0.6 * np.exp(-(1.0 - 0.35) * LN100 / 0.3)
    want = np.select(
        [T < 0.1, T < 0.3, T < 0.35, T < 1.0],
        [0 * T, 4 / 3 * (1 - np.exp(-(T - 0.1) * LN4 / 0.2)), 1 + 0 * T, decayed],
        at_release * np.exp(-(T - 1.0) * LN100 / 0.25))
    assert np.abs(found - want).max() < 1e-12


def test_a_linear_envelope_is_ramps():
    e = Envelope(attack_s=0.2, hold_s=0.1, decay_s=0.4, sustain=0.25, release_s=0.5, curve="linear")
    found = value(e, gate((0.0, 1.2)), T)
    want = np.interp(T, [0, 0.2, 0.3, 0.7, 1.2, 1.7, 2.0], [0, 1, 1, 0.25, 0.25, 0, 0])
    assert np.abs(found - want).max() < 1e-12


def test_a_release_in_the_attack_begins_at_the_value_then():
    e = Envelope(attack_s=0.4, release_s=0.2)
    at = 4 / 3 * (1 - np.exp(-0.1 * LN4 / 0.4))
    assert value(e, gate((0.0, 0.1)), [0.1 - 1e-12, 0.15]) == pytest.approx([at, at * np.exp(-0.05 * LN100 / 0.2)])
    straight = Envelope(attack_s=0.4, release_s=0.2, curve="linear")
    assert value(straight, gate((0.0, 0.1)), [0.1, 0.2, 0.3, 0.4]) == pytest.approx([0.25, 0.125, 0, 0], abs=1e-12)


def test_a_new_trigger_begins_from_zero_or_from_where_it_is():
    gates = gate((0.0, 0.2), (0.3, 0.9))
    e = Envelope(attack_s=0.1, decay_s=10.0, sustain=1.0, release_s=0.2)
    there = np.exp(-0.1 * LN100 / 0.2)
    assert value(e, gates, [0.3 - 1e-9, 0.3]) == pytest.approx([there, 0.0], abs=1e-6)
    kept = Envelope(attack_s=0.1, decay_s=10.0, sustain=1.0, release_s=0.2, retrigger="from_where_it_is")
    tau = 0.1 / LN4
    arrives = tau * np.log((4 / 3 - there) / (1 / 3))
    assert value(kept, gates, [0.3, 0.31, 0.3 + 0.999 * arrives, 0.3 + arrives]) == pytest.approx(
        [there, 4 / 3 + (there - 4 / 3) * np.exp(-0.01 / tau), 1.0, 1.0], abs=2e-3)
    assert value(kept, gates, [0.31])[0] == pytest.approx(4 / 3 + (there - 4 / 3) * np.exp(-0.01 / tau), abs=1e-12)
    straight = Envelope(attack_s=0.1, sustain=1.0, release_s=0.2, curve="linear", retrigger="from_where_it_is")
    assert value(straight, gates, [0.3, 0.35, 0.4]) == pytest.approx([0.5, 0.75, 1.0])  # its stated time


def test_loops_repeat_attack_hold_and_decay():
    e = Envelope(delay_s=0.05, attack_s=0.1, hold_s=0.05, decay_s=0.1, sustain=0.2, curve="linear", loop="always")
    want = np.interp((T - 0.05) % 0.25, [0, 0.1, 0.15, 0.25], [0, 1, 1, 0.2]) * (T >= 0.05)
    away = np.abs((T - 0.05) % 0.25) > 1e-6
    assert np.abs(value(e, gate((0.0, 0.1)), T) - want)[away].max() < 1e-9
    gated = Envelope(attack_s=0.1, decay_s=0.1, sustain=0.5, release_s=0.2, curve="linear", loop="while_gated",
                     retrigger="from_where_it_is")
    assert value(gated, gate((0.0, 0.65)), [0.1, 0.2, 0.25, 0.3, 0.6, 0.65, 0.75, 0.85, 1.5]) == pytest.approx(
        [1, 0.5, 0.75, 1, 0.5, 0.75, 0.375, 0, 0], abs=1e-9)
    # The first decay from 1 to 0.5, the next attack from there in its stated time.


def test_slides_trigger_unless_skipped():
    gates = gate((0.0, 0.3), (0.3, 0.5), slides=[False, True])
    e = Envelope(attack_s=0.0, decay_s=0.2, sustain=0.0, curve="linear", release_s=0.1)
    assert value(e, gates, [0.25, 0.3, 0.4]) == pytest.approx([0, 1, 0.5], abs=1e-12)
    skipping = Envelope(attack_s=0.0, decay_s=2.0, sustain=0.0, curve="linear", release_s=0.1, skip_slides=True)
    assert value(skipping, gates, [0.25, 0.4, 0.5, 0.55]) == pytest.approx([0.875, 0.8, 0.75, 0.375])


@pytest.mark.parametrize(("shape", "truth"), [
    ("sine", lambda p: np.sin(2 * np.pi * p)), ("rise", lambda p: signal.sawtooth(2 * np.pi * p)),
    ("fall", lambda p: -signal.sawtooth(2 * np.pi * p)), ("square", lambda p: signal.square(2 * np.pi * p)),
    ("pulse", lambda p: signal.square(2 * np.pi * p, duty=0.3)),
    ("triangle", lambda p: 2 / np.pi * np.arcsin(np.sin(2 * np.pi * p))),
])
def test_lfo_shapes(shape, truth):
    p = 7.3 * T + 0.4
    away = np.abs(np.subtract.outer(p % 1, [0, 0.3, 0.5, 1])).min(axis=1) > 1e-6
    found = lfo(shape, 7.3 * T + 0.4, 0.3, False)
    assert np.abs(found - truth(p))[away].max() < 1e-9
    assert np.abs(lfo(shape, 7.3 * T + 0.4, 0.3, True) - (found + 1) / 2).max() < 1e-12


def test_steps_go_in_every_direction_and_are_smoothed():
    assert [order(4, 9, way, 0).tolist() for way in ("forward", "back", "pendulum")] == [
        [0, 1, 2, 3, 0, 1, 2, 3, 0], [3, 2, 1, 0, 3, 2, 1, 0, 3], [0, 1, 2, 3, 2, 1, 0, 1, 2]]
    assert (order(5, 40, "random", 3) == order(5, 40, "random", 3)).all()
    found = sequence((1.0, -1.0, 0.5), 4.0, "forward", 0, 0.0, 2.0).at(T)
    assert (found == np.array([1.0, -1.0, 0.5])[(T * 4).astype(int) % 3]).all()
    soft = sequence((1.0, -1.0), 4.0, "forward", 0, 0.1, 2.0).at(np.array([0.1, 0.25, 0.3, 0.5]))
    low = -1 + 2 * np.exp(-2.5)
    assert soft == pytest.approx([1.0, 1.0, -1 + 2 * np.exp(-0.5), low])


def test_what_is_held_is_the_value_at_the_last_rise():
    found = held(lambda t: np.asarray(np.sin(3 * t)), clock(8.0, 2.0), 0, 0.0).at(T)
    assert found == pytest.approx(np.sin(3 * np.floor(T * 8) / 8))
    noise = held(None, clock(100.0, 2.0), 7, 0.0).at(T)
    assert (noise == held(None, clock(100.0, 2.0), 7, 0.0).at(T)).all()
    assert np.abs(noise).max() <= 1
    assert np.unique(noise).size > 150
    late = held(lambda t: 1 + 0 * t, gate((0.5, 0.6)), 0, 0.1).at(np.array([0.4, 0.5, 0.6]))
    assert late == pytest.approx([0, 0, 1 - np.exp(-1)])


def test_a_random_walk_stands_or_glides():
    still = random_walk(5.0, 0.0, 1, T)
    assert all(np.unique(still[(T * 5).astype(int) == n]).size == 1 for n in range(10))
    fine = np.linspace(0, 2, 200_001)
    smooth = random_walk(5.0, 1.0, 1, fine)
    assert np.abs(np.diff(smooth)).max() < 2e-4
    assert np.abs(smooth).max() <= 1
    assert smooth[20_000::20_000][:9] == pytest.approx(still_values(still)[:9], abs=1e-9)


def still_values(still):
    return [still[(T * 5).astype(int) == n][0] for n in range(10)]


def test_gates_of_a_control_are_where_it_passes_one_half():
    found = above_half(lambda t: 0.5 + np.sin(2 * np.pi * 3 * t + 0.4), 1.0)
    rises = [0.0, *((n - 0.4 / (2 * np.pi)) / 3 for n in (1, 2, 3))]
    assert found.rises == pytest.approx(rises, abs=1e-12)
    assert found.falls[:3] == pytest.approx([(n + 0.5 - 0.4 / (2 * np.pi)) / 3 for n in range(3)], abs=1e-12)


@pytest.mark.parametrize("swing", [0.0, 1 / 3, 0.6])
def test_every_second_step_comes_late_and_bars_stay_where_they_are(swing):
    """Notes 0.2 s apart: the odd ones late by a share of that, gates shorter and longer with their steps."""
    figure = Figure(tuple(Note(n, gate=0.5) for n in range(4)), 0.2, 0.0, swing=swing)
    played = figure.played(2.0)
    begins = np.array([(n + swing * (n % 2)) * 0.2 for n in range(10)])
    assert played.gates.rises[:10] == pytest.approx(begins)
    lengths = np.where(np.arange(10) % 2, 1 - swing, 1 + swing) * 0.2
    assert played.gates.falls[:10] == pytest.approx(begins + 0.5 * lengths)
    just_in = begins + 1e-6
    assert 12 * played.at("pitch", just_in) == pytest.approx(np.arange(10) % 4)
    assert [step_at(t, 0.2, swing) for t in just_in] == list(range(10))
    assert [step_at(t, 0.2, swing) for t in begins[1:] - 1e-6] == list(range(9))
    over = Figure(figure.notes, 0.2, 0.0, repeat=False, swing=swing).played(3.0)
    assert over.at("gate", np.array([0.79, 0.81, 2.0])) == pytest.approx(0.0)


def test_a_figure_holds_slides_ties_and_rests():
    figure = Figure((Note(0, gate=0.5, accent=True), Note(12, slide=True, gate=0.5, velocity=0.3),
                     Note(tie=True, gate=0.25), Note(rest=True), Note(7, gate=0.8)), step_s=0.2, slide_s=0.1)
    played = figure.played(2.0)
    at = lambda what, *times: played.at(what, np.array(times)).tolist()  # noqa: E731
    assert at("pitch", 0.0, 0.19, 0.2, 0.25, 0.3, 0.5, 0.7, 0.8) == pytest.approx([0, 0, 0, 0.5, 1, 1, 1, 7 / 12])
    # Before the slide the gate is held to its end; the tie keeps it for its own quarter; a rest is silent.
    assert at("gate", 0.15, 0.199, 0.3, 0.44, 0.46, 0.65, 0.85, 0.97) == [1, 1, 1, 1, 0, 0, 1, 0]
    assert at("accent", 0.1, 0.3, 0.5, 0.9) == [1, 0, 0, 0]
    assert at("velocity", 0.1, 0.3, 0.7) == pytest.approx([1, 0.3, 0.3])
    assert at("slide", 0.1, 0.3, 0.45) == [0, 1, 0]
    assert played.gates.rises[:4] == pytest.approx([0.0, 0.2, 0.8, 1.0])
    assert played.gates.falls[:3] == pytest.approx([0.2, 0.45, 0.96])
    assert played.gates.slides[:4].tolist() == [False, True, False, False]
    once = Figure(figure.notes, 0.2, 0.1, repeat=False).played(3.0)
    assert once.at("gate", np.array([1.1, 2.0])).tolist() == [0, 0]
    assert once.at("pitch", np.array([2.5]))[0] == pytest.approx(7 / 12)
    assert once.gates.rises.size == 3
