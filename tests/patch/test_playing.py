"""Patches at large signal against an adaptive integrator of equations written out here."""

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from jiyuu.errors import SignalError
from jiyuu.patch.playing import play_patch, sources_record
from tests.patch.test_response import made
from tests.trials import some

RATE = 48_000.0
SAMPLES = 2400


def played():
    """Two tones that swell: nothing of them lies near the band's end, so samples and curve are one."""
    def at(t):
        swell = np.sin(np.clip(t / 0.02, 0, 1) * np.pi / 2) ** 4
        return swell * (1.3 * np.sin(2 * np.pi * 310 * t) + 0.9 * np.sin(2 * np.pi * 1170 * t + 1))
    return at


def integrated(slopes, size, output):
    """output(x, u) of x' = slopes(x, u) at every sample."""
    u, times = played(), np.arange(SAMPLES) / RATE
    found = solve_ivp(lambda t, x: slopes(x, u(t)), (0, times[-1]), np.zeros(size), method="DOP853", t_eval=times,
                      rtol=1e-11, atol=1e-12)
    return np.array([output(x, u(t)) for x, t in zip(found.y.T, times, strict=True)])


def ladder(x, v, omega, k):
    pairs = np.tanh([v - k * x[3], *x])
    return omega * (pairs[:4] - pairs[1:])


def tanh(v, headroom, bias=0.0):
    return headroom * (np.tanh((v + bias) / headroom) - np.tanh(bias / headroom))


def drive_and_after():
    omega, factor = 2 * np.pi * 800.0, 10 ** (9 / 20)
    path = [{"stage": "gain", "db": 9}, {"stage": "filter", "filter": "transistor-ladder", "mode": "lowpass-24",
                                       "cutoff_hz": 800.0, "resonance_gain": 3.0},
            {"stage": "shape", "kind": "tanh", "headroom_v": 0.4, "bias_v": 0.1}]
    return path, (lambda x, u: ladder(x, factor * u, omega, 3.0)), 4, lambda x, u: tanh(x[3], 0.4, 0.1)


def round_and_round():
    omega = 2 * np.pi * 1500.0
    path = [{"stage": "feedback", "amount": -1.7, "through": {"kind": "tanh", "headroom_v": 0.5, "bias_v": 0.05},
             "path": [{"stage": "filter", "filter": "transistor-ladder", "mode": "lowpass-12", "cutoff_hz": 1500.0,
                       "resonance_gain": 0.5}]}]
    return path, (lambda x, u: ladder(x, u - 1.7 * tanh(x[1], 0.5, 0.05), omega, 0.5)), 4, lambda x, u: x[1]


def dry_and_wet():
    one, two = 2 * np.pi * 400.0, 2 * np.pi * 2500.0
    path = [{"stage": "parallel", "branches": [
        {"path": [], "level_db": -6},
        {"path": [{"stage": "filter", "filter": "transistor-ladder", "mode": "lowpass-24", "cutoff_hz": 400.0,
                   "resonance_gain": 2.0},
                  {"stage": "filter", "filter": "transistor-ladder", "mode": "lowpass-6", "cutoff_hz": 2500.0,
                   "resonance_gain": 1.0}], "polarity": -1}]}]

    def slopes(x, u):
        return np.concatenate([ladder(x[:4], u, one, 2.0), ladder(x[4:], x[3], two, 1.0)])

    return path, slopes, 8, lambda x, u: 10 ** (-6 / 20) * u - x[4]


@pytest.mark.long
@pytest.mark.parametrize("case", some([drive_and_after, round_and_round, dry_and_wet], 1, long=3))
def test_a_patch_plays_as_its_equations(case):
    path, slopes, size, output = case()
    exact = integrated(slopes, size, output)
    found = play_patch(made(path), played()(np.arange(SAMPLES) / RATE)[np.newaxis], RATE)[0]
    body = slice(100, SAMPLES - 200)
    error = np.sqrt(np.mean((found - exact)[body] ** 2)) / np.sqrt(np.mean(exact[body] ** 2))
    assert 20 * np.log10(error) < -85
    once = play_patch(made(path), played()(np.arange(SAMPLES) / RATE)[np.newaxis], RATE, checked=False)[0]
    error = np.sqrt(np.mean((once - exact)[body] ** 2)) / np.sqrt(np.mean(exact[body] ** 2))
    assert 20 * np.log10(error) < -80  # for an eye or an ear


@pytest.mark.long
def test_a_folder_alone_is_its_sine():
    u = 0.8 * np.sin(2 * np.pi * 200 * np.arange(SAMPLES) / RATE)
    found = play_patch(made([{"stage": "shape", "kind": "fold", "headroom_v": 0.5}]), u[np.newaxis], RATE)[0]
    body = slice(600, SAMPLES - 600)
    assert found[body] == pytest.approx(0.5 * np.sin(u / 0.5)[body], abs=1e-5)


def test_stereo_in_and_out():
    u = np.stack([np.sin(2 * np.pi * hz * np.arange(SAMPLES) / RATE) for hz in (300, 500)])
    path = [{"stage": "gain", "db": -6}]
    assert play_patch(made(path), u, RATE) == pytest.approx(u * 10 ** (-6 / 20), abs=2e-3)
    wide = [{"stage": "stereo", "left": [{"stage": "gain", "db": 3}], "right": [{"stage": "gain", "polarity": -1}]}]
    left, right = play_patch(made(wide), u[:1], RATE)
    assert right == pytest.approx(-left * 10 ** (-3 / 20), abs=1e-9)


def test_sources_play_together():
    patch = made([], sources=[{"kind": "sine", "pitch_hz": 100, "level_v": 1}, {"kind": "sine", "pitch_hz": 300,
                                                                               "level_v": 2}])
    t = np.arange(4800) / RATE
    expected = np.sin(2 * np.pi * 100 * t) + 2 * np.sin(2 * np.pi * 300 * t)
    assert np.abs(np.fft.rfft(sources_record(patch, 0.1, RATE))) == pytest.approx(np.abs(np.fft.rfft(expected)),
                                                                                abs=2.0)


@pytest.mark.long
def test_what_runs_away_is_refused_with_the_amount():
    path = [{"stage": "feedback", "id": "round", "amount": 3.0, "path": [
        {"stage": "filter", "filter": "state-variable", "mode": "lowpass", "cutoff_hz": 3000.0, "resonance_gain": 1.0,
         "parameters": {"stage_headroom_v": 100.0}}, {"stage": "gain", "db": 120}]}]
    with pytest.raises(SignalError, match=r"round: .*runs away"):
        play_patch(made(path), np.full((1, 480), 0.1), RATE)
