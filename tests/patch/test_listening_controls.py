"""Controls that listen: an output into its own cutoff and resonance, a source into a cutoff, a follower; against an
adaptive integrator of equations written out here, and closed forms."""

import numpy as np
import pytest
from numpy.testing import assert_allclose
from scipy.integrate import solve_ivp

from jiyuu.errors import CircuitError
from jiyuu.patch.heard import HeardRecord
from jiyuu.patch.motion import Motion
from jiyuu.patch.playing import play_patch, sources_record
from jiyuu.signals.long_record import Record
from tests.patch.test_response import made

RATE = 48_000.0
SAMPLES = 3600
LADDER = {"stage": "filter", "id": "first", "filter": "transistor-ladder", "mode": "bandpass-12", "cutoff_hz": 600.0,
          "resonance_gain": 2.0}


def swelled(t):
    return 0.8 * np.sin(np.clip(t / 0.02, 0, 1) * np.pi / 2) ** 4 * np.sin(2 * np.pi * 220 * t)


def ladder(x, v, omega, k):
    pairs = np.tanh([v - k * x[3], *x])
    return omega * (pairs[:4] - pairs[1:])


def against(path, controls, routes, slopes, output, size=4, block=None):
    """dB of the difference re the truth, RMS."""
    t = np.arange(SAMPLES) / RATE
    true = solve_ivp(slopes, (0, t[-1]), np.zeros(size), method="DOP853", t_eval=t, rtol=1e-11, atol=1e-12).y
    expected = output(true)
    patch = made(path, controls=controls, routes=routes)
    found = play_patch(patch, swelled(t)[np.newaxis], RATE, block=block)[0]
    return 20 * np.log10(np.std(found - expected) / np.std(expected))


@pytest.mark.long
def test_an_output_into_its_own_cutoff_and_resonance():
    """A ladder's own output, positive into its cutoff: a sine leans over."""
    octaves, gain = 0.9, 0.25
    path = [{**LADDER, "mode": "lowpass-24"}]
    controls = {"own": {"kind": "signal", "of": "first", "per_v": 2.0}}
    routes = [{"from": "own", "to": "first.cutoff", "amount": octaves / 2},
              {"from": "own", "to": "first.resonance", "amount": gain / 2}]

    def slopes(t, x):
        return ladder(x, swelled(t), 2 * np.pi * 600.0 * 2 ** (octaves * x[3]), 2.0 + gain * x[3])

    assert against(path, controls, routes, slopes, lambda x: x[3]) < -85
    assert against(path, controls, routes, slopes, lambda x: x[3], block=64) < -85


@pytest.mark.long
def test_one_filter_moves_another():
    """The first ladder's lowpass moves the second one's cutoff, both in series."""
    path = [{**LADDER, "mode": "lowpass-24"}, {**LADDER, "id": "second", "mode": "lowpass-24", "cutoff_hz": 1500.0,
                                               "resonance_gain": 1.0}]
    controls = {"first out": {"kind": "signal", "of": "first"}}
    routes = [{"from": "first out", "to": "second.cutoff", "amount": -1.5}]

    def slopes(t, x):
        return np.concatenate([ladder(x[:4], swelled(t), 2 * np.pi * 600.0, 2.0),
                               ladder(x[4:], x[3], 2 * np.pi * 1500.0 * 2 ** (-1.5 * x[3]), 1.0)])

    assert against(path, controls, routes, slopes, lambda x: x[7], size=8) < -85


@pytest.mark.long
def test_a_source_moves_the_cutoff_at_audio_rate():
    """The recording it is played on, at the same instant."""
    controls = {"in": {"kind": "signal", "of": "source 1", "per_v": 0.5}}
    routes = [{"from": "in", "to": "first.cutoff", "amount": 2.0}]

    def slopes(t, x):
        return ladder(x, swelled(t), 2 * np.pi * 600.0 * 2 ** swelled(t), 2.0)

    assert against([{**LADDER, "mode": "lowpass-24"}], controls, routes, slopes, lambda x: x[3]) < -85


def test_an_output_that_is_no_sum_of_capacitors_is_refused():
    patch = made([{**LADDER, "filter": "state-variable", "mode": "highpass", "resonance_gain": 0.5}],
                 controls={"own": {"kind": "signal", "of": "first"}},
                 routes=[{"from": "own", "to": "first.cutoff", "amount": 1.0}])
    with pytest.raises(CircuitError, match="not a sum of capacitor voltages"):
        play_patch(patch, np.zeros((1, 100)), RATE)


def test_a_follower_goes_up_and_down_by_its_time_constants():
    """Of a square wave, rectified a constant: 1 − e^(−t/attack), then e^(−t/release)."""
    loud = np.concatenate([np.tile([2.0, -2.0], 4800), np.zeros(9600)])
    motion = Motion(made([LADDER], controls={"loud": {
        "kind": "follower", "of": "source 1", "low_hz": 0, "high_hz": 100_000, "attack_s": 0.01, "release_s": 0.05,
        "gain_db": -6.0}}, routes=[{"from": "loud", "to": "first.cutoff", "amount": 1.0}]), 0.4,
        {"source 1": HeardRecord(Record.of(loud), RATE)})
    t = (np.arange(loud.size) + 1) / RATE
    expected = 2 * 10**-0.3 * np.where(t <= 0.2, 1 - np.exp(-t / 0.01), np.exp(-(t - 0.2) / 0.05))
    assert_allclose(motion.control("loud", np.arange(loud.size) / RATE), expected, rtol=0, atol=2e-6)


def test_a_follower_hears_its_band_and_own_sources_are_heard():
    patch = made([LADDER], sources=[{"kind": "sine", "pitch_hz": 100.0, "level_v": 1.0},
                                    {"kind": "sine", "pitch_hz": 4000.0, "level_v": 1.0}],
                 controls={f"{name} {i}": {"kind": "follower", "of": f"source {i}", "low_hz": low, "high_hz": high,
                                           "attack_s": 0.02, "release_s": 0.02}
                           for i in (1, 2) for name, low, high in (("low", 0, 500), ("high", 1500, 20_000))})
    motion = Motion(patch, 0.5)
    at = np.linspace(0.3, 0.5, 4000)
    heard = {name: float(motion.control(name, at).mean()) for name in patch.controls}
    assert heard["low 1"] == pytest.approx(2 / np.pi, rel=0.02)
    assert heard["high 2"] == pytest.approx(2 / np.pi, rel=0.03)
    assert heard["high 1"] < 0.01
    assert heard["low 2"] < 0.02
    assert np.isfinite(sources_record(patch, 0.1, RATE)).all()
