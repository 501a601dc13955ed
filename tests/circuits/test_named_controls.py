"""Joined filters keep their own controls: each moves alone, small signal and large, by arithmetic and by an integrator
that shares nothing with the kernels."""

import numpy as np
import pytest

from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.compose import feedback, held, levelled, named, only, parallel, series
from jiyuu.circuits.linear import response_of, state_space
from jiyuu.errors import CircuitError
from jiyuu.simulation.kernels import coefficients_of, integrate
from jiyuu.simulation.render import render
from tests.reference import adaptive, residual_db
from tests.trials import some
from tests.truths import FORMS

HZ = np.geomspace(30, 15_000, 60)
FIRST, SECOND = ("transistor-ladder", "lowpass-24"), ("state-variable", "lowpass")
VALUES = {"one.cutoff": 400.0, "two.cutoff": 1500.0, "one.resonance": 2.6, "two.resonance": 1.1}


def filters():
    return [only(named(circuit(name).network(), called, controls=called), mode)
            for (name, mode), called in ((FIRST, "one"), (SECOND, "two"))]


def at(network, values):
    return {"cutoff_hz": np.array([values[name] for name in network.cutoffs]),
            "gain": np.array([values[name] for name in network.gains])}


def answer(network, values):
    system = state_space(network, **at(network, values))
    return response_of(system, HZ, network.outputs).gain[0]


def closed_form(values):
    return [FORMS[key](1j * HZ / values[f"{called}.cutoff"], values[f"{called}.resonance"])
            for key, called in ((FIRST, "one"), (SECOND, "two"))]


@pytest.mark.parametrize("moved", [{}, {"one.cutoff": 900.0}, {"two.cutoff": 300.0, "one.resonance": 0.0},
                                   {"two.resonance": 1.8, "one.cutoff": 5000.0}])
def test_each_control_moves_its_own_filter_only(moved):
    first, second = filters()
    values = {**VALUES, **moved}
    one, two = closed_form(values)
    joined = series(first, "out", second)
    assert joined.cutoffs == ("one.cutoff", "two.cutoff")
    assert joined.gains == ("one.resonance", "two.resonance")
    assert np.abs(answer(joined, values) - one * two).max() < 1e-12
    beside = parallel(first, "out", second, "out", second_weight=-0.5)
    assert np.abs(answer(beside, values) - (one - 0.5 * two)).max() < 1e-12
    looped = feedback(joined, "out", -0.4)
    assert np.abs(answer(looped, values) - one * two / (1 + 0.4 * one * two)).max() < 1e-11


def test_controls_of_one_name_are_one_control():
    plain = circuit("sallen-key-lowpass").network()
    joined = series(plain, "lowpass-12", plain)
    assert (joined.gains, joined.cutoffs) == (("resonance",), ("cutoff",))


def test_levels_and_amounts_are_gains_too_and_never_multiply_each_other():
    first, second = filters()
    values = {**VALUES, "trim.level": 0.3, "loop.feedback": -0.7, "after.level": 2.0}
    one, two = closed_form(values)
    joined = levelled(series(levelled(first, "trim.level"), "out", second), "after.level")
    assert np.abs(answer(joined, values) - 0.3 * one * two * 2.0).max() < 1e-12
    twice = levelled(levelled(first, "trim.level"), "after.level")
    assert np.abs(answer(twice, values) - 0.6 * one).max() < 1e-12
    looped = feedback(first, "out", 0.0, moved_by="loop.feedback")
    assert np.abs(answer(looped, values) - one / (1 + 0.7 * one)).max() < 1e-12
    with pytest.raises(CircuitError, match="joint"):
        feedback(levelled(first, "trim.level"), "out", 0.0, moved_by="loop.feedback")


def test_held_gains_leave_the_others_free():
    first, second = filters()
    joined = series(held(first, 2.6), "out", second)
    assert joined.gains == ("two.resonance",)
    one, two = closed_form(VALUES)
    assert np.abs(answer(joined, VALUES) - one * two).max() < 1e-12


@pytest.mark.long
@pytest.mark.parametrize("lanes", some([1, 8], 1, long=2))
def test_compiled_code_follows_every_named_control(lanes):
    first, second = filters()
    joined = series(first, "out", second)
    steps, generator = 400, np.random.default_rng(5)
    u = np.cumsum(generator.normal(0, 0.1, (2 * steps + 1, 1)), axis=0)
    omega = 2 * np.pi * np.exp(generator.uniform(np.log(300), np.log(3000), (2, 2 * steps + 1, lanes)))
    gain = generator.uniform(0.2, 1.5, (2, 2 * steps + 1, lanes))
    half = 0.5 / 192_000
    found, _ = integrate([joined] * lanes, u_v=u, omega=omega, gain=gain, half_step_s=half, rows=[0])
    state, want = np.zeros((lanes, 6)), np.zeros((steps, lanes))
    for lane in range(lanes):
        x = state[lane]
        for t in range(steps):
            def slope(x, moment, t=t, lane=lane):
                k, rates = gain[:, 2 * t + moment, lane], omega[:, 2 * t + moment, lane] / (2 * np.pi)
                out = _branches(joined, x, u[2 * t + moment, 0], k)
                return joined.rates(rates) * (joined.W @ out), out
            a, out = slope(x, 0)
            k = gain[:, 2 * t, lane]
            want[t, lane] = joined.C.at(k)[0] @ x + joined.D.at(k)[0] * u[2 * t, 0] + joined.E.at(k)[0] @ out
            b, _ = slope(x + half * a, 1)
            c, _ = slope(x + half * b, 1)
            d, _ = slope(x + 2 * half * c, 2)
            x = x + half / 3 * (a + 2 * (b + c) + d)
    assert np.abs(found[0] - want).max() < 1e-10
    assert coefficients_of(joined).ndim == 1


def _branches(network, x, u, k):
    out, into, Z = np.zeros(len(network.branches)), network.V.at(k) @ x + network.U.at(k) * u, network.Z.at(k)
    for j, branch in enumerate(network.branches):
        out[j] = branch.at(np.asarray(into[j] + Z[j] @ out + branch.offset_v))[0]
    return out


@pytest.mark.long
def test_two_filters_moved_apart_play_as_their_equations():
    rate, seconds = 48_000, 0.06
    t = np.arange(round(rate * seconds)) / rate
    first, second = filters()
    joined = series(first, "out", second)
    base = at(joined, VALUES)

    def octaves(time_s):
        return 1.2 * np.sin(2 * np.pi * 35 * np.asarray(time_s))

    def added(time_s):
        return 0.6 * (1 - np.cos(2 * np.pi * 50 * np.asarray(time_s)))

    played = 1.5 * np.sin(2 * np.pi * 220 * t)
    found = render(joined, played, sample_rate_hz=rate, cutoff_hz=base["cutoff_hz"], gain=base["gain"], modes=["out"],
                   moves={"two.cutoff": octaves, "one.resonance": added}).output_v[0]
    blocks = render(joined, played, sample_rate_hz=rate, cutoff_hz=base["cutoff_hz"], gain=base["gain"],
                    modes=["out"], moves={"two.cutoff": octaves, "one.resonance": added}, block=64).output_v[0]
    assert np.abs(found - blocks).max() < 1e-9
    truth = adaptive(
        joined, t, u_v=lambda s: 1.5 * np.sin(2 * np.pi * 220 * s), mode="out",
        cutoff_hz=lambda s: np.array([400.0, 1500.0 * 2 ** float(octaves(s))]),
        gain=lambda s: np.array([2.6 + float(added(s)), 1.1]),
    )
    assert residual_db(found, truth, rate_hz=rate) < -85


def test_a_control_there_is_not_is_refused_by_name():
    first, _ = filters()
    with pytest.raises(CircuitError, match=r"no control 'three.cutoff'.*one.cutoff, one.resonance"):
        render(first, np.ones(100), sample_rate_hz=48_000, **at(first, VALUES), modes=["out"],
               moves={"three.cutoff": np.zeros_like})
