"""Levels of records whose levels are known, and gain staging worked out by hand."""

import numpy as np
import pytest

from jiyuu.errors import MeasurementError
from jiyuu.measurement.levels import gain_staging, measure_levels
from jiyuu.wording.levels import staging_lines

RATE = 48_000


def sine(volts, hz=997.0, seconds=2.0, dc=0.0):
    return dc + volts * np.sin(2 * np.pi * hz * np.arange(round(seconds * RATE)) / RATE)


def test_a_sine_has_its_peak_rms_and_crest():
    found = measure_levels(sine(5.0), RATE, limit_v=5.0)
    assert found.peak_v == pytest.approx(5.0, rel=2e-3)
    assert found.rms_v == pytest.approx(5 / np.sqrt(2), rel=1e-4)
    assert found.crest_db == pytest.approx(3.01, abs=0.02)
    assert found.dc_v == pytest.approx(0.0, abs=1e-3)


def test_the_peak_between_the_samples_is_found():
    """A sine at a quarter of the rate, sampled at ±45°: its samples reach only 0.707 of it."""
    record = 10 * np.hanning(RATE) * np.sin(2 * np.pi * 0.25 * np.arange(RATE) + np.pi / 4)
    assert np.abs(record).max() == pytest.approx(7.07, abs=0.02)
    assert measure_levels(record, RATE).peak_v == pytest.approx(10.0, rel=0.01)


def test_loudness_is_that_of_the_standard():
    """BS.1770: a 997 Hz sine of 0 dB full scale in one channel is −3.01 LUFS."""
    assert measure_levels(sine(10.0), RATE).loudness_lufs == pytest.approx(-3.01, abs=0.05)
    assert measure_levels(sine(10.0)[:9000], RATE).loudness_lufs is None


@pytest.mark.parametrize(("volts", "limit", "headroom", "trim"), [
    (10.0, 5.0, -6.02, -6.02), (5.0, 10.0, 6.02, 0.0), (20.0, 5.0, -12.04, -12.04), (2.5, 5.0, 6.02, 0.0),
])
def test_headroom_and_trim(volts, limit, headroom, trim):
    found = measure_levels(sine(volts), RATE, limit_v=limit)
    assert found.headroom_db == pytest.approx(headroom, abs=0.02)
    assert found.trim_db == pytest.approx(trim, abs=0.02)


def test_time_over_the_limit():
    """A sine of twice the limit is over it for two thirds of the time, first after a twelfth of a period."""
    found = measure_levels(sine(10.0, hz=100.0), RATE, limit_v=5.0)
    assert found.over_share == pytest.approx(2 / 3, abs=2e-3)
    assert found.first_over_s == pytest.approx(0.01 / 12, abs=1 / RATE)
    assert measure_levels(sine(1.0), RATE).first_over_s is None


def test_an_offset_is_no_peak_of_its_own_making():
    found = measure_levels(np.full(4800, 3.0), RATE)
    assert found.peak_v == pytest.approx(3.0, rel=1e-3)
    assert found.dc_v == pytest.approx(3.0)


@pytest.mark.parametrize(("record", "limit", "message"), [
    (np.zeros(4800), 5.0, "silent"), (np.ones(10), 5.0, "only 10 samples"), (np.full(4800, np.inf), 5.0, "not numbers"),
    (np.ones(4800), 0.0, "above 0 V"),
])
def test_records_without_levels(record, limit, message):
    with pytest.raises(MeasurementError, match=message):
        measure_levels(record, RATE, limit_v=limit)


@pytest.mark.parametrize(("values", "says"), [
    ((5.0, 0.0, 1.0, 10.0, 5.0, 10.5), ["6.0 dB over; trim the output by −6.0 dB", "driven 14.0 dB past"]),
    ((5.0, -20.0, 1.0, 0.5, 5.0, 10.5), ["20.0 dB under its limit", "6.0 dB to its headroom of 1 V"]),
    ((5.0, 0.0, None, 21.0, 5.0, 10.5), ["clips at the ±10.5 V rails: take 6.0 dB off", "6.4 dB over"]),
    ((5.0, 0.0, 10.0, 2.5, 5.0, 10.5), ["6.0 dB left", "6.0 dB to its headroom"]),
])
def test_gain_staging_by_hand(values, says):
    text = " ".join(staging_lines(gain_staging(*values)))
    for part in says:
        assert part in text
