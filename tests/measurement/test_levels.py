"""Levels of records whose levels are known, and gain staging worked out by hand."""

import numpy as np
import pytest
import soundfile
from scipy.signal import resample_poly

from jiyuu.errors import MeasurementError, SignalError
from jiyuu.measurement import levels
from jiyuu.measurement.levels import gain_staging, measure_levels
from jiyuu.measurement.waveform_faults import record_at_full_scale
from jiyuu.rig.channels import louder_record
from jiyuu.signals.long_record import Record
from jiyuu.signals.recordings import LongRecording, read_recording
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


@pytest.mark.long
def test_a_long_record_is_read_in_pieces_and_is_what_it_is_at_once(monkeypatch):
    """Against the whole of it: true peak by one resampling, loudness by the meter over all of it."""
    import pyloudnorm

    draw = np.random.default_rng(3)
    t = np.arange(50 * RATE) / RATE
    record = draw.normal(size=t.size) * 10 ** (draw.uniform(-2.5, 0, 50).repeat(RATE)) + 0.3
    monkeypatch.setattr(levels, "AT_ONCE", 70_000)
    monkeypatch.setattr(levels, "SEGMENT_S", 7.0)
    found = levels.measure_record(Record.of(record), RATE, limit_v=2.0)
    fine = np.abs(resample_poly(record, 4, 1, padtype="line"))
    assert found.peak_v == pytest.approx(fine.max(), rel=1e-12)
    assert found.rms_v == pytest.approx(np.sqrt(np.mean(record**2)), rel=1e-12)
    assert found.dc_v == pytest.approx(record.mean(), rel=1e-9)
    assert found.over_share == pytest.approx(np.mean(fine > 2.0), abs=1e-9)
    assert found.first_over_s == pytest.approx(np.flatnonzero(fine > 2.0)[0] / 4 / RATE)
    assert found.loudness_lufs == pytest.approx(pyloudnorm.Meter(RATE).integrated_loudness(record / 10), abs=1e-6)


def test_a_silent_stretch_does_not_count_and_silence_has_no_loudness(monkeypatch):
    monkeypatch.setattr(levels, "SEGMENT_S", 3.0)
    tone = sine(1.0, seconds=10.0)
    gap = np.concatenate([tone, np.zeros(10 * RATE), tone])
    assert levels.record_lufs(Record.of(gap / 10), RATE) == pytest.approx(levels.loudness_lufs(tone[: 2 * RATE] / 10,
                                                                                              RATE), abs=0.1)
    assert levels.record_lufs(Record.of(np.full(10 * RATE, 1e-6)), RATE) is None


def test_the_louder_channel_is_taken_and_named():
    soft, loud = Record.of(sine(1.0)), Record.of(sine(2.0))
    both = LongRecording([soft, loud], RATE)
    taken, why = louder_record(both)
    assert taken is loud
    assert why is not None
    assert louder_record(both, "left") == (soft, None)
    assert louder_record(LongRecording([soft, soft], RATE)) == (soft, None)
    assert louder_record(LongRecording([soft], RATE)) == (soft, None)
    for wanted, channels in (("middle", [soft, loud]), ("right", [soft])):
        with pytest.raises(SignalError, match=wanted):
            louder_record(LongRecording(channels, RATE), wanted)


def test_samples_at_the_end_of_the_scale_are_found_wherever_a_block_ends():
    for place in (5, 65_534, 65_535, 65_536, 90_000):
        record = sine(5.0)
        record[place : place + 3] = 10.0
        found = record_at_full_scale(Record.of(record), 10.0)
        assert found is not None
        assert found[0] == place
        assert found[1] == pytest.approx(3 / record.size)
    assert record_at_full_scale(Record.of(sine(5.0)), 10.0) is None
    past = sine(5.0)
    past[100:110] = 12.0
    assert record_at_full_scale(Record.of(past), 10.0) is None


def test_of_a_long_file_no_more_is_read_than_is_asked_for(tmp_path):
    path = tmp_path / "long.wav"
    samples = np.random.default_rng(1).uniform(-0.5, 0.5, (3 * RATE, 2)).astype(np.float32)
    soundfile.write(path, samples, RATE, subtype="FLOAT")
    found = read_recording(path, full_scale_v=1.0, at_most_s=1.5)
    assert found.cut_short
    assert np.array_equal(found.channels_v, samples[: 3 * RATE // 2].T.astype(float))
    assert not read_recording(path, at_most_s=3.0).cut_short
