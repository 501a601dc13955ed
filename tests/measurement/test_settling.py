"""Steps of a whistle made sample by sample, eight times oversampled, its phase summed from a course that is known."""

import json
from itertools import pairwise

import numpy as np
import pytest
import soundfile
from scipy.signal import resample_poly
from typer.testing import CliRunner

from jiyuu.cli.commands import app
from jiyuu.errors import MeasurementError
from jiyuu.measurement.settling import measure_settling
from tests.trials import some

RATE, OVER, HOLD_S, TONE_V = 48_000, 8, 0.5, 0.7


def lag(tau):
    return lambda s: np.exp(-s / tau)


def swing(rate_hz, damping):
    w, root = 2 * np.pi * rate_hz, np.sqrt(1 - damping**2)
    return lambda s: np.exp(-damping * w * s) * (np.cos(w * root * s) + damping / root * np.sin(w * root * s))


def stepped(volts, first_hz, course, *, thump, thump_s=0.004, noise_db=-60.0, seed=0):
    """(recording, [(at, from, to, settling, overshoot, feedthrough)])."""
    t = np.arange(round(HOLD_S * len(volts) * RATE) * OVER) / (RATE * OVER)
    v, added, true = np.full(t.size, float(volts[0])), np.zeros(t.size), []
    for i, (was, now) in enumerate(pairwise(volts), start=1):
        k = round(i * HOLD_S * RATE) * OVER
        since = t[k:] - i * HOLD_S
        v[k:] += (now - was) * (1 - course(since))
        added[k:] += thump * (now - was) * np.exp(-since / thump_s)
        s = np.linspace(0, HOLD_S, 400_001)
        off = 1200 * abs(now - was) * course(s)
        low = first_hz * 2 ** min(was, now)
        settled = max(float(s[np.flatnonzero(np.abs(off) > 10)[-1] + 1]), 1 / low)
        true.append((i * HOLD_S, first_hz * 2.0**was, first_hz * 2.0**now, settled, max(-off.min(), 0.0),
                     thump * (now - was)))
    phase = 2 * np.pi * np.cumsum(first_hz * 2**v) / (RATE * OVER)
    whole = resample_poly(TONE_V * (np.sin(phase) + 0.02 * np.sin(3 * phase + 0.4)) + added, 1, OVER)
    noise = np.random.default_rng(seed).normal(0, TONE_V * 10 ** (noise_db / 20) / np.sqrt(2), whole.size)
    return whole + noise, true


@pytest.mark.parametrize(("volts", "first_hz", "course", "thump"), some([
    ((0, 5, 0), 110.0, lag(0.002), 0.004), ((0, 1, -1), 440.0, lag(0.0004), 0.01),
    ((0, -3, 0), 880.0, swing(120.0, 0.5), 0.006), ((0, 2), 220.0, swing(60.0, 0.7), -0.01),
], 1, long=2))
def test_settling_overshoot_and_feedthrough_of_a_known_course(volts, first_hz, course, thump):
    recording, true = stepped(volts, first_hz, course, thump=thump)
    found = measure_settling(recording, RATE)
    assert len(found) == len(true)
    for step, (at, was, now, settled, over, couples) in zip(found, true, strict=True):
        period = 1 / min(was, now)
        assert step.at_s == pytest.approx(at, abs=2e-3)
        assert (step.from_hz, step.to_hz) == (pytest.approx(was, rel=1e-4), pytest.approx(now, rel=1e-4))
        assert period <= step.settling_s == pytest.approx(settled, abs=max(period, 0.1 * settled))
        assert period <= step.resolution_s <= 2 * period * 1.0001
        assert 0 <= step.overshoot_cents == pytest.approx(over, abs=3)
        assert step.feedthrough_v == pytest.approx(couples, rel=0.1)


@pytest.mark.long
def test_a_course_of_another_kind_is_read_from_its_periods():
    """A ramp in octaves, neither a lag nor a swing: settled when the last 10 cents are gone."""
    def ramp(s):
        return np.clip(1 - s / 0.06, 0, 1)

    recording, ((_, _, _, settled, _, _),) = stepped((0, 1), 300.0, ramp, thump=0.0)
    (step,) = measure_settling(recording, RATE)
    assert step.settling_s == pytest.approx(settled, rel=0.1)
    assert step.overshoot_cents < 3
    assert step.heard_as_glide


def test_one_pitch_is_refused_and_the_command_line_says_all_of_it(tmp_path):
    steady = 0.5 * np.sin(2 * np.pi * 440 / RATE * np.arange(RATE))
    with pytest.raises(MeasurementError, match="only one steady pitch"):
        measure_settling(steady, RATE)
    recording, _ = stepped((0, 1), 300.0, lag(0.001), thump=0.01)
    path = tmp_path / "steps.wav"
    soundfile.write(path, recording / 10, RATE, "FLOAT")
    found = json.loads(CliRunner().invoke(app, ["measure", "settling", str(path), "--json"]).stdout)
    assert found["warnings"] == []
    assert set(found["steps"][0]) == {"at_s", "from_hz", "to_hz", "settling_s", "resolution_s", "overshoot_cents",
                                      "feedthrough_v"}
    assert found["steps"][0]["feedthrough_v"] == pytest.approx(0.01, rel=0.1)
    assert "couple over" in CliRunner().invoke(app, ["measure", "settling", str(path)]).stdout
