"""Tuner, beating, bells."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jiyuu.errors import MeasurementError
from jiyuu.measurement.tuner import BELLS, INTERVALS, beating, beating_in, bell, tune
from jiyuu.wording.whistle import beating_line, tuning_line

RATE = 48_000.0
T = np.arange(96_000) / RATE


def heard(*tones, noise=1e-3):
    record = noise * np.random.default_rng(2).standard_normal(T.size)
    for hertz, level in tones:
        record = record + level * np.sin(2 * np.pi * hertz * T + hertz)
    return record


@given(st.floats(20, 8000), st.floats(20, 8000), st.floats(0.5, 2))
def test_the_volts_lead_to_the_target(tone_hz, target_hz, scale):
    found = tune(tone_hz, target_hz, scale_v_per_octave=scale)
    assert tone_hz * 2 ** (found.volts / scale) == pytest.approx(target_hz)
    assert found.cents == pytest.approx(1200 * np.log2(tone_hz / target_hz), abs=1e-9)


def test_sentences_say_which_way():
    assert tuning_line(tune(442.0, 440.0)) == "+7.9 cents from 440.0 Hz: turn the cutoff down by 6.5 mV."
    assert tuning_line(tune(440.0, 440.0)) == "On 440.0 Hz."
    with pytest.raises(MeasurementError, match="above 0"):
        tune(0.0, 440.0)


@pytest.mark.parametrize(("whistle", "oscillator", "parts", "rate"), [
    (442.0, 440.0, (1, 1), 2.0), (661.0, 440.0, (2, 3), 2.0), (880.7, 440.0, (1, 2), 0.7), (219.0, 440.0, (2, 1), 2.0),
    (550.3, 440.0, (4, 5), 1.2),
])
def test_beats_near_simple_ratios(whistle, oscillator, parts, rate):
    found = beating(whistle, oscillator)
    assert (found.whistle_part, found.oscillator_part) == parts
    assert found.rate_hz == pytest.approx(rate)
    stopped = whistle * 2 ** (found.cents / 1200)
    assert parts[0] * stopped == pytest.approx(parts[1] * oscillator)


def test_what_does_not_beat_says_nothing():
    assert beating(3000.0, 70.3) is None
    assert "no beating" in beating_line(beating(880.0, 440.0))


@pytest.mark.parametrize(("second_hz", "level"), [(443.0, 0.9), (437.5, 0.3), (452.0, 0.05), (432.0, 0.02)])
def test_beating_is_found_in_a_recording_with_its_rate(second_hz, level):
    found = beating_in(heard((440.0, 1.0), (second_hz, level)), RATE)
    assert found.rate_hz.value == pytest.approx(abs(second_hz - 440.0), abs=0.01)
    assert found.level_db == pytest.approx(20 * np.log10(level), abs=0.1)


def test_modulation_drift_and_one_tone_are_no_beating():
    sine = 2 * np.pi * 440 * T
    noise = 1e-3 * np.random.default_rng(1).standard_normal(T.size)
    for record in (
        (1 + 0.3 * np.sin(2 * np.pi * 4 * T)) * np.sin(sine), np.sin(sine + 0.3 * np.sin(2 * np.pi * 4 * T)),
        np.sin(sine) + 0.2 * np.sin(2 * sine), np.sin(sine + 2 * T**2), np.exp(-T) * np.sin(sine), 0 * T,
    ):
        assert beating_in(record + noise, RATE) is None
    assert beating_in(np.sin(sine[:2000]), RATE) is None


def test_bells_and_intervals():
    assert bell("minor-third bell", 400.0)[2] == pytest.approx(400 * 6 / 5)
    assert bell("free bar", 100.0) == pytest.approx([100, 275.6, 540.4, 893.3])
    assert all(list(partials) == sorted(partials) for partials in BELLS.values())
    assert INTERVALS["fifth"] * INTERVALS["fourth"] == 2
    with pytest.raises(MeasurementError, match="choose one of"):
        bell("cow", 400.0)
